// Package serving are the commands of those who run a server and its collectors: serve, the
// collector, people, backups. What they do is in the packages that they call; here are
// their flags, and how processes stand beside each other and are started again.
//
// A process beside has a goroutine that waits for its end; its lock guards whether it is
// to be started again.
package serving

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/spf13/cobra"
	"golang.org/x/net/netutil"

	"entelon/capture"
	"entelon/cmd/entelon/option"
	"entelon/collector/rights"
	"entelon/server"
	"entelon/store"
	"entelon/store/private"
	"entelon/web"
)

type serveFlags struct {
	listen   string
	database string
	data     string
	load     []string
	service  []string
	alone    bool
	maxMB    int64
	maxDisk  option.Size
	sources  []string
	link     bool
	cert     string
	key      string
	plain    bool
	hosts    []string
	user     string
	asRoot   bool
	memory   option.Size
	logs     option.Log
	state    string
	behind   bool
	keepFor  string
	keepJobs string
	keepLog  string
	keepN    int
	keepSize option.Size
	rights   string
	spansAt  string
	dbFile   string
	header   string
	proxies  []string
}

// ServeCommand serves the page.
func ServeCommand() *cobra.Command {
	f := serveFlags{maxDisk: 50 << 30}
	c := &cobra.Command{
		Use:   "serve",
		Short: "Serve takes to the browser",
		Long: `Serves takes to the browser. Without --database it starts a PostgreSQL of its
own, on loopback, with its data in a private folder, and ends it at Ctrl-C.

Who wants to see anything signs in, with name and password or, the first time, by
a link that the server prints and that works once. Programs send a token, which
people make on the page. Addresses beyond this machine need a certificate.`,
		Example: `  entelon serve
  entelon serve --listen 127.0.0.1:9000 --data ./entelon-data
  entelon serve --database-file /etc/entelon/database
  sudo entelon serve --user entelon
  entelon serve --load demo/takes --source /srv/src
  entelon serve --listen 0.0.0.0:7420 --host perf.shop.example --cert perf.pem --key perf.key
  entelon serve --link`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, stop := signal.NotifyContext(cmd.Context(), syscall.SIGINT, syscall.SIGTERM)
			defer stop()
			return runServe(ctx, f)
		},
	}
	c.Flags().StringVar(&f.listen, "listen", "127.0.0.1:7420", "the `ADDRESS` to answer on")
	c.Flags().StringVar(&f.database, "database", "", "the `ADDRESS` of a PostgreSQL, without a password (default: a private one)")
	c.Flags().StringVar(&f.dbFile, "database-file", "", "read the PostgreSQL's address, with its password, from this `FILE`, which only its owner may read")
	c.Flags().StringVar(&f.user, "user", "", "run the server as the user `NAME`, once it has started what needs root")
	c.Flags().BoolVar(&f.asRoot, "as-root", false, "run the server as root, which it refuses otherwise")
	c.Flags().StringVar(&f.state, "collector-state", "", "the `FOLDER` of the collector beside the server, for its key and its takes (default: beside the data)")
	c.Flags().StringVar(&f.spansAt, "spans-at", "", "where the collector beside the server receives the spans that programs send by OpenTelemetry's protocol, an `ADDRESS` such as 127.0.0.1:4318 (default: nowhere)")
	c.Flags().StringVar(&f.rights, "rights", "", "the `FILE` that says what the collector beside the server may do (default "+rights.UsualPlace()+")")
	c.Flags().BoolVar(&f.behind, "behind-tls", false, "browsers reach the server through a proxy that speaks https, so its cookies are for https alone")
	c.Flags().StringVar(&f.header, "proxy-header", "", "the `HEADER` in which a proxy before the server says where a request comes from")
	c.Flags().StringArrayVar(&f.proxies, "proxy", nil, "the `ADDRESS` of such a proxy, or its network as 10.0.0.0/8 (default: this machine); may be repeated")
	c.Flags().StringVar(&f.data, "data", "", "the `FOLDER` of the private PostgreSQL (default "+dataDir()+")")
	c.Flags().StringArrayVar(&f.load, "load", nil, "load the takes in this `FOLDER` at the start; may be repeated")
	c.Flags().StringArrayVar(&f.sources, "source", nil, "a `FOLDER` with the source of programs, shown with the cost of each line; may be repeated")
	c.Flags().StringArrayVar(&f.service, "service", nil, "a `WORD` of a command to run beside the server, such as the demo's; repeat for its arguments")
	c.Flags().BoolVar(&f.alone, "no-collector", false, "start no collector beside the server, so that takes are only sent to it")
	c.Flags().Int64Var(&f.maxMB, "max-upload", 1024, "the largest take to accept, in `MB`")
	c.Flags().Var(&f.maxDisk, "max-disk", "how much all takes together may need, such as 200g")
	c.Flags().Var(&f.memory, "memory", "how much memory the server may have, such as 4g (default: $GOMEMLIMIT, else a quarter of the machine's and at most 2.75g)")
	c.Flags().BoolVar(&f.link, "link", false, "print a link that signs the owner in once, whether or not there is a password")
	c.Flags().StringVar(&f.cert, "cert", "", "answer by https with the certificate in this `FILE`")
	c.Flags().StringVar(&f.key, "key", "", "the certificate's key, in this `FILE`")
	c.Flags().BoolVar(&f.plain, "without-tls", false, "answer beyond this machine without a certificate; passwords and takes can then be read on the way")
	c.Flags().StringArrayVar(&f.hosts, "host", nil, "a `NAME` by which browsers reach the server; may be repeated")
	c.Flags().StringVar(&f.keepFor, "keep-takes", "", "remove takes that are older than this `TIME`, such as 90d; those that are pinned or have a note stay (default: none)")
	c.Flags().IntVar(&f.keepN, "keep-per-build", 0, "keep this `NUMBER` of takes of each build, the newest (default: all)")
	c.Flags().Var(&f.keepSize, "keep-size", "remove the oldest takes until all have this much together (default: none)")
	c.Flags().StringVar(&f.keepJobs, "keep-jobs", "90d", "forget how takes were asked for after this `TIME`")
	c.Flags().StringVar(&f.keepLog, "keep-audit", "730d", "forget what was done after this `TIME`")
	f.logs.Add(c)
	_ = c.MarkFlagFilename("cert")
	_ = c.MarkFlagFilename("key")
	_ = c.MarkFlagDirname("data")
	_ = c.MarkFlagDirname("load")
	_ = c.MarkFlagDirname("source")
	return c
}

// dataDir is where the private PostgreSQL keeps its data by default.
func dataDir() string {
	if os.Geteuid() == 0 {
		return "/var/lib/entelon"
	}
	if d := os.Getenv("XDG_DATA_HOME"); d != "" {
		return filepath.Join(d, "entelon")
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "entelon-data"
	}
	return filepath.Join(home, ".local", "share", "entelon")
}

func runServe(ctx context.Context, f serveFlags) (err error) {
	host, _, err := net.SplitHostPort(f.listen)
	if err != nil {
		return fmt.Errorf("--listen: %w", err)
	}
	as, err := f.account()
	if err != nil {
		return err
	}
	if err := f.checkRetention(); err != nil {
		return err
	}
	proxies, err := networks(f.proxies)
	if err != nil {
		return err
	}
	if f.database, err = f.databaseAddress(); err != nil {
		return err
	}
	if (f.cert == "") != (f.key == "") {
		return errors.New("--cert and --key belong together")
	}
	if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) && f.cert == "" && !f.plain {
		return fmt.Errorf("--listen %s is reached from other machines; give --cert and --key, or say --without-tls", f.listen)
	}
	log, err := f.logs.Logger(os.Stderr)
	if err != nil {
		return err
	}
	var cert *certificate
	if f.cert != "" { // before anything is started
		if cert, err = newCertificate(f.cert, f.key, log); err != nil {
			return fmt.Errorf("--cert: %w", err)
		}
	}
	listener, err := net.Listen("tcp", f.listen)
	if err != nil {
		if errors.Is(err, syscall.EADDRINUSE) {
			return fmt.Errorf("%s is in use; end what runs there, or choose another with --listen", f.listen)
		}
		return fmt.Errorf("--listen: %w", err)
	}
	defer listener.Close()
	listener = netutil.LimitListener(listener, maxConnections())
	address := f.database
	state := f.state
	if state == "" {
		state = collectorDir()
	}
	if address == "" {
		dir := f.data
		if dir == "" {
			dir = dataDir()
		}
		if dir, err = filepath.Abs(dir); err != nil {
			return fmt.Errorf("--data: %w", err)
		}
		pg, err := private.Start(ctx, private.Options{Dir: dir})
		if err != nil {
			return err
		}
		defer func() { err = errors.Join(err, pg.Stop()) }()
		var fail context.CancelCauseFunc
		ctx, fail = context.WithCancelCause(ctx)
		defer fail(nil)
		go func() {
			<-pg.Done()
			fail(errors.New("the private PostgreSQL has stopped for good; see " + filepath.Join(dir, "log")))
		}()
		address = pg.Address
		if f.state == "" {
			state = dir + "-collector"
		}
	}
	st, err := store.Open(ctx, address)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, st.Close()) }()
	for _, dir := range f.load {
		if err := load(ctx, st, dir); err != nil {
			return err
		}
	}
	budget := setMemory(int64(f.memory))
	o := server.Options{Version: capture.Version, Web: web.Files(), MaxUpload: f.maxMB << 20, MaxDisk: int64(f.maxDisk), Memory: budget, Sources: f.sources, Log: log, TLS: f.cert != "" || f.behind, Hosts: f.hosts, Closing: ctx.Done(), ProxyHeader: f.header, Proxies: proxies}
	if host != "" {
		o.Hosts = append(o.Hosts, host)
	}
	handler, err := server.New(st, o)
	if err != nil {
		return err
	}
	link, err := ownersLink(ctx, st, f.link)
	if err != nil {
		return err
	}
	beside := &beside{log: log}
	defer beside.end()
	if !f.alone {
		if err := f.startCollector(ctx, st, beside, handler, listener.Addr(), state); err != nil {
			return err
		}
	}
	var service process
	if len(f.service) > 0 {
		if service, err = opened(f.service, 19); err != nil {
			return fmt.Errorf("--service: %w", err)
		}
	}
	if err := giveUpRights(as, log); err != nil { // what keeps the collector running has them still
		return err
	}
	if service.file != nil {
		beside.keep(ctx, service)
	}
	go tidyUp(ctx, st, f.retention(), log)
	go refigure(ctx, st, log)
	if err := f.serve(ctx, listener, handler, cert, link, beside.end); err != nil {
		return err
	}
	if cause := context.Cause(ctx); !errors.Is(cause, context.Canceled) {
		return cause
	}
	return nil
}

// account is whom the server runs as; nil for whom it was started as, which is
// not root unless that was asked for.
func (f serveFlags) account() (*account, error) {
	switch {
	case f.user != "" && os.Geteuid() != 0:
		return nil, errors.New("--user is for a server that is started as root")
	case f.user != "":
		return findAccount(f.user)
	case os.Geteuid() == 0 && !f.asRoot:
		return nil, errors.New("the server does not run as root; give --user NAME, or say --as-root")
	}
	return nil, nil
}

// databaseAddress is the address of the database, "" for a private one.
func (f serveFlags) databaseAddress() (string, error) {
	if f.dbFile != "" {
		return secretFile("--database-file", f.dbFile)
	}
	if f.database == "" {
		return "", nil
	}
	c, err := pgconn.ParseConfig(f.database)
	if err != nil {
		return "", fmt.Errorf("--database is not the address of a PostgreSQL: %w", err)
	}
	if c.Password != "" && strings.Contains(f.database, c.Password) {
		return "", errors.New("--database: everybody on this machine can read a password on a command line; put the address into a file that only you can read, and give --database-file")
	}
	return f.database, nil
}

// networks reads addresses and networks.
func networks(list []string) (out []netip.Prefix, err error) {
	for _, text := range list {
		p, err := netip.ParsePrefix(text)
		if err != nil {
			a, err := netip.ParseAddr(text)
			if err != nil {
				return nil, fmt.Errorf("--proxy %q is not an address, nor a network", text)
			}
			p = netip.PrefixFrom(a, a.BitLen())
		}
		out = append(out, p)
	}
	return out, nil
}

// maxConnections leaves files for the database and for uploads.
func maxConnections() int {
	var limit syscall.Rlimit
	if err := syscall.Getrlimit(syscall.RLIMIT_NOFILE, &limit); err != nil {
		return 512
	}
	return int(min(8192, max(64, limit.Cur/2)))
}

// newHTTPServer has a time for everything that somebody could leave hanging.
// Bodies have theirs by route.
func newHTTPServer(h http.Handler) *http.Server {
	return &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10}
}

// ownersLink returns the path of a link for the owner, who is made if there is
// nobody yet; "" where the owner has a password and no link was asked for.
func ownersLink(ctx context.Context, st *store.Store, asked bool) (string, error) {
	owner, err := st.FirstPerson(ctx)
	if err != nil || owner.Hash != "" && !asked {
		return "", err
	}
	secret, err := st.AddLink(ctx, owner.ID, 24*time.Hour)
	if err != nil {
		return "", err
	}
	return "/enter/" + secret, st.Note(ctx, "", "", "link made", map[string]string{"name": owner.Name, "by": "the start of the server"})
}

// serve answers until ctx ends, and then ends what is beside the server before it.
func (f serveFlags) serve(ctx context.Context, l net.Listener, h http.Handler, cert *certificate, link string, endBeside func()) error {
	srv := newHTTPServer(h)
	ended := make(chan error, 1)
	scheme := "http"
	if f.cert != "" {
		scheme = "https"
		srv.TLSConfig = &tls.Config{GetCertificate: cert.get, MinVersion: tls.VersionTLS12}
		go func() { ended <- srv.ServeTLS(l, "", "") }()
	} else {
		go func() { ended <- srv.Serve(l) }()
	}
	address := l.Addr().String()
	if len(f.hosts) > 0 {
		_, port, err := net.SplitHostPort(address)
		if err != nil {
			return err
		}
		address = net.JoinHostPort(f.hosts[0], port)
	}
	fmt.Printf("Entelon is at %s://%s (Ctrl-C ends it)\n", scheme, address)
	if link != "" {
		fmt.Printf("Sign in, once and within a day, at %s://%s%s\n", scheme, address, link)
	}
	select {
	case err := <-ended:
		return fmt.Errorf("serving: %w", err)
	case <-ctx.Done():
	}
	endBeside() // while the server still takes what they have
	// Requests that are under way get a moment; then they are broken off.
	grace, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	if err := srv.Shutdown(grace); err != nil {
		return srv.Close()
	}
	return nil
}

// load adds the takes of a folder; those that are there already change nothing.
func load(ctx context.Context, st *store.Store, dir string) error {
	files, err := filepath.Glob(filepath.Join(dir, "*.take"))
	if err != nil || len(files) == 0 {
		return fmt.Errorf("--load %s: there are no takes in this folder", dir)
	}
	for _, file := range files {
		f, err := os.Open(file)
		if err != nil {
			return err
		}
		_, _, err = st.Add(ctx, f, file, 1<<30)
		if err = errors.Join(err, f.Close()); err != nil {
			return err
		}
	}
	return nil
}
