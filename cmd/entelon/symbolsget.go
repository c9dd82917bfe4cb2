package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

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
		Short: "Get the names that a take lacks",
		Long: `Fetches the debug files of the programs and libraries of a take that have none here,
for exactly the builds that it was made with, and gives the take the names, lines
and inlined functions in them. They come from the folders of debug files, from the
distribution's packages (downloaded and unpacked, not installed; this takes
Debian's tools and no root), and from debug servers: those of --debug-server or,
without it, of the variable DEBUGINFOD_URLS. They stay in the symbol cache, so that
later takes have the names at once.

The take as it was is kept beside it. Files that have a part in less than 0.5 % of
the cost are left out, but for --all.`,
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
	c.Flags().StringVarP(&g.out, "out", "o", "", "write the named take to this `FILE` (default: in the place of TAKE)")
	c.Flags().BoolVar(&g.all, "all", false, "get the names of files with little cost, too")
	c.Flags().BoolVar(&g.noPackages, "no-packages", false, "leave the distribution's packages out")
	return option.TakeFile(c)
}

func (g *getting) run(ctx context.Context, file string) (err error) {
	t, err := option.ReadTake(file)
	if err != nil {
		return err
	}
	if !takefile.IsTake(file) {
		return fmt.Errorf("%s is not a take: it has no addresses that could be given names", file)
	}
	finder, err := g.from.Finder()
	if err != nil {
		return err
	}
	if len(finder.Servers) == 0 && finder.Cache != nil {
		finder.Servers = strings.Fields(os.Getenv("DEBUGINFOD_URLS"))
	}
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
			return errors.New("stopped; the take is as it was")
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
		fmt.Fprintf(g.said, "%d files with less than %.1f %% of the cost were left out; --all gets them, too\n", left, 100*fewCost)
	}
	return g.name(t, file, namers, rename.SamplesIn(t.Profile, bare))
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
			return finder.OpenBuild(f.Path, f.BuildID, f.Kind)
		case !errors.Is(err, packages.ErrNone):
			return nil, err
		}
		why = append(why, terminal.OneLine(err))
	}
	if len(servers) == 0 {
		why = append(why, "no debug server was named (--debug-server)")
		return nil, errors.New(strings.Join(why, "; "))
	}
	finder.Servers = servers
	if o, err = finder.OpenBuild(f.Path, f.BuildID, f.Kind); o != nil || err != nil {
		if o != nil {
			fmt.Fprintf(terminal.PlainWriter{To: g.said}, "%s: from a debug server\n", f.Path)
		}
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
		_, err := fmt.Fprintf(g.said, "Nothing new is known of the functions in %s; it is as it was.\n", file)
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
	fmt.Fprintf(g.said, "%s code addresses have names or lines that they lacked; %.1f %% of the samples have no function name now (%.1f %% before)\n",
		terminal.Thin(int64(changed)), 100*share(facts.Unnamed, facts.Samples), 100*share(was, facts.Samples))
	if sink.Aside != "" {
		fmt.Fprintf(terminal.PlainWriter{To: g.said}, "the take as it was is %s\n", sink.Aside)
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
