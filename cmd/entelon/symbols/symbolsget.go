package symbols

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"entelon/cmd/entelon/option"
	"entelon/cmd/entelon/terminal"
	"entelon/codec/takefile"
	"entelon/core/profile"
	"entelon/diagnose"
	"entelon/resolve/rename"
	"entelon/symbol"
	"entelon/symbol/packages"
)

// getting is one run of symbols get.
type getting struct {
	from       option.Symbols
	out        string
	all        bool
	noPackages bool
	said       io.Writer
}

func symbolsGetCommand() *cobra.Command {
	var g getting
	c := &cobra.Command{
		Use:   "get TAKE",
		Short: "Fetch the names that a take lacks",
		Long: `Fetches the missing debug files of a take's programs and libraries, for exactly the
builds that it was made with, and adds the names, lines and inlined functions in
them to the take. They come from folders of debug files, from the distribution's
packages (downloaded and unpacked, not installed; this needs Debian's tools but not
root), and from debug servers: those given by --debug-server or, without it, by the
variable DEBUGINFOD_URLS. They stay in the symbol cache, so that later takes have
the names at once.

The original take is kept beside the new one. Files with less than 0.5 % of the
cost are skipped unless --all is given.`,
		Example: `  entelon symbols get inkraster.take
  entelon symbols get --no-packages --debug-server http://debug.shop.example:8002 inkraster.take
  entelon symbols get inkraster.take --out named.take`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			g.said = cmd.OutOrStdout()
			return g.run(ctx, args[0])
		},
	}
	g.from.Add(c)
	c.Flags().StringVarP(&g.out, "out", "o", "", "write the take with its names to this `FILE` (default: replace TAKE)")
	c.Flags().BoolVar(&g.all, "all", false, "fetch the names of files with little cost, too")
	c.Flags().BoolVar(&g.noPackages, "no-packages", false, "do not use the distribution's packages")
	return option.TakeFile(c)
}

func (g *getting) run(ctx context.Context, file string) (err error) {
	t, err := option.ReadTake(file)
	if err != nil {
		return err
	}
	if !takefile.IsTake(file) {
		return fmt.Errorf("%s is not a take: it has no addresses to find names for", file)
	}
	finder, err := g.from.Finder()
	if err != nil {
		return err
	}
	if len(finder.Servers) == 0 && finder.Cache != nil {
		finder.Servers = strings.Fields(os.Getenv("DEBUGINFOD_URLS"))
	}
	finder.Context = ctx
	show, hide := fetching()
	finder.Coming = show
	defer hide()
	namers := map[profile.ModuleID]rename.Namer{}
	defer func() {
		for _, n := range namers {
			err = errors.Join(err, n.(*symbol.Object).Close())
		}
	}()
	files, total := rename.Files(t.Profile)
	bare := map[profile.ModuleID]bool{} // of which only exported functions have names
	left := 0
	for _, f := range files {
		if f.Unnamed == 0 && share(f.Cost, total) < fewCost && !g.all {
			left++
			continue
		}
		o, err := g.open(ctx, finder, f)
		if ctx.Err() != nil {
			return errors.New("stopped; the take was not changed")
		}
		switch {
		case o != nil:
			namers[f.Module] = o
		case err != nil:
			fmt.Fprintf(terminal.PlainWriter{To: g.said}, "%s: %s\n", f.Path, terminal.OneLine(err))
			bare[f.Module] = true
		}
	}
	if left > 0 {
		fmt.Fprintf(g.said, "Skipped (less than %.1f %% of the cost; --all includes them): %d\n", 100*fewCost, left)
	}
	return g.name(t, file, namers, rename.SamplesIn(t.Profile, bare))
}

// errTooLarge says that what was fetched is not there: only what has room is kept.
var errTooLarge = errors.New("its debug file is larger than the symbol cache allows (--symbol-cache-size)")

// fetching shows on a terminal how much has come.
func fetching() (show func(bytes int), hide func()) {
	if !term.IsTerminal(int(os.Stderr.Fd())) {
		return nil, func() {}
	}
	bar := progressbar.NewOptions64(-1, progressbar.OptionSetWriter(os.Stderr), progressbar.OptionClearOnFinish(),
		progressbar.OptionThrottle(200*time.Millisecond), progressbar.OptionShowBytes(true), progressbar.OptionSetDescription("fetching (Ctrl-C ends)"))
	// A progress line that cannot be written is not worth ending for.
	return func(n int) { _ = bar.Add(n) }, func() { _ = bar.Finish() }
}

// open finds the names of a file: on this machine, in a package, on a server. Where it
// finds none, the error says why.
func (g *getting) open(ctx context.Context, finder *symbol.Finder, f rename.File) (*symbol.Object, error) {
	servers := finder.Servers
	finder.Servers = nil
	defer func() { finder.Servers = servers }()
	o, err := finder.OpenBuild(f.Path, f.BuildID, f.Kind)
	if o != nil || err != nil {
		return o, err
	}
	why := []string{}
	if !g.noPackages {
		err := packages.Get(ctx, finder, f.Path, f.BuildID, func(p packages.Package) {
			fmt.Fprintf(g.said, "%s: from the package %s (%.1f MB)\n", f.Path, p.Name, float64(p.Size)/1e6)
		})
		switch {
		case err == nil:
			if o, err = finder.OpenBuild(f.Path, f.BuildID, f.Kind); o == nil && err == nil {
				err = errTooLarge
			}
			return o, err
		case !errors.Is(err, packages.ErrNone):
			return nil, err
		}
		why = append(why, terminal.OneLine(err))
	}
	if len(servers) == 0 {
		why = append(why, "no debug server was given (--debug-server)")
		return nil, errors.New(strings.Join(why, "; "))
	}
	finder.Servers = servers
	fmt.Fprintf(terminal.PlainWriter{To: g.said}, "%s: asking the debug servers\n", f.Path)
	if o, err = finder.OpenBuild(f.Path, f.BuildID, f.Kind); o != nil || err != nil {
		return o, err
	}
	why = append(why, "no debug server has build "+f.BuildID)
	return nil, errors.New(strings.Join(why, "; "))
}

// name gives the take its names and writes it.
func (g *getting) name(t *profile.Take, file string, namers map[profile.ModuleID]rename.Namer, bare map[string]int64) error {
	before := rename.UnnamedSamples(t.Profile)
	named, changed := rename.Profile(t.Profile, namers)
	if changed == 0 {
		_, err := fmt.Fprintf(g.said, "No new names were found; %s was not changed.\n", file)
		return err
	}
	after := rename.UnnamedSamples(named)
	was := t.Facts.Unnamed
	facts := t.Facts
	facts.Unnamed = max(0, was-sum(before)+sum(after))
	diagnose.NamesAgain(&facts, &diagnose.Evidence{Unnamed: after, ExportsOnly: bare, InStacks: int64(named.Samples.Len())})
	out := g.out
	if out == "" {
		out = file
	}
	sink := takefile.File{Path: out}
	if err := sink.Prepare(); err != nil {
		return err
	}
	if err := sink.Begin(t.Settings, t.Machine); err != nil {
		return err
	}
	broke := write(&sink, named, t.Sources, facts)
	if err := sink.Close(broke); err != nil {
		return err
	}
	fmt.Fprintf(g.said, "%s code addresses got new names or lines; %.1f %% of the samples have no function name (%.1f %% before)\n",
		terminal.Thin(int64(changed)), 100*share(facts.Unnamed, facts.Samples), 100*share(was, facts.Samples))
	if sink.Aside != "" {
		fmt.Fprintf(terminal.PlainWriter{To: g.said}, "the original is now %s\n", sink.Aside)
	}
	_, err := fmt.Fprintf(terminal.PlainWriter{To: g.said}, "kept in %s\n", out)
	return err
}

// write writes what a take is to a file that has begun.
func write(sink *takefile.File, p *profile.Profile, sources []profile.Source, facts profile.Facts) error {
	if err := sink.Append(p); err != nil {
		return err
	}
	for _, s := range sources {
		if err := sink.Source(s); err != nil {
			return err
		}
	}
	return sink.Facts(facts)
}

func sum(counts map[string]int64) (n int64) {
	for _, v := range counts {
		n += v
	}
	return n
}
