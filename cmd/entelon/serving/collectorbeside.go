package serving

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"entelon/capture"
	"entelon/collector/identity"
	"entelon/store"
	"entelon/store/jobs"
)

// maxBeside is how many servers on one machine have a collector beside them.
const maxBeside = 16

// startCollector starts the collector of this machine, which the server enrols by
// itself. It keeps the rights that this process is about to give up.
func (f serveFlags) startCollector(ctx context.Context, st *store.Store, b *beside, h http.Handler, at net.Addr, dir string) error {
	dir, err := enrolBeside(ctx, st, dir)
	if err != nil {
		return err
	}
	address := at.String()
	if tcp, ok := at.(*net.TCPAddr); f.cert != "" || ok && !tcp.IP.IsLoopback() {
		// On this machine it needs neither the certificate nor the network.
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return fmt.Errorf("answering the collector: %w", err)
		}
		srv := newHTTPServer(h)
		go func() { <-ctx.Done(); srv.Close() }()
		go func() {
			if err := srv.Serve(l); err != nil && !errors.Is(err, http.ErrServerClosed) {
				b.log.Error("the collector cannot reach the server", "error", err)
			}
		}()
		address = l.Addr().String()
	}
	self, err := os.Executable()
	if err != nil {
		return fmt.Errorf("finding this program's own file: %w", err)
	}
	words := []string{self, "collector", "--keep", "--until-closed", "--to", "http://" + address, "--state", dir}
	words = append(words, "--log-format", f.logs.Format, "--log-level", f.logs.Level)
	if f.rights != "" {
		words = append(words, "--rights", f.rights)
	}
	if f.spansAt != "" {
		words = append(words, "--spans-at", f.spansAt)
	}
	b.keep(ctx, process{words: words, byInput: true})
	return nil
}

// enrolBeside makes sure that a collector beside this server is enrolled, and
// returns its folder: the first one that no other server's collector uses.
func enrolBeside(ctx context.Context, st *store.Store, base string) (dir string, err error) {
	for n := 1; n <= maxBeside; n++ {
		dir = base
		if n > 1 {
			dir = fmt.Sprintf("%s-%d", base, n)
		}
		wait := time.Duration(0)
		if n == 1 {
			wait = lockWait // it may be that of a server that was just ended
		}
		folder, err := identity.Open(dir, wait)
		if errors.Is(err, identity.ErrInUse) {
			continue
		}
		if err != nil {
			return "", err
		}
		return dir, errors.Join(enrolFolder(ctx, st, folder), folder.Close())
	}
	return "", fmt.Errorf("%s and %d more like it are in use by other collectors", base, maxBeside-1)
}

// enrolFolder enrols the identity of a folder, which is made if there is none. A
// name that another machine or another server has gets a number.
func enrolFolder(ctx context.Context, st *store.Store, folder *identity.Folder) error {
	known, err := folder.Load()
	if err == nil {
		for i := range known {
			err := st.EnrolCollector(ctx, known[i].Name, known[i].PublicKey(), "the start of the server")
			if !errors.Is(err, jobs.ErrCollectorKnown) {
				return err
			}
		}
	} else if !errors.Is(err, identity.ErrNotEnrolled) {
		return err
	}
	x, err := identity.New("")
	if err != nil {
		return err
	}
	for n := 1; n <= 1000; n++ {
		x.Name = capture.Machine().Host
		if n > 1 {
			x.Name = fmt.Sprintf("%s-%d", x.Name, n)
		}
		err := st.EnrolCollector(ctx, x.Name, x.PublicKey(), "the start of the server")
		if errors.Is(err, jobs.ErrCollectorKnown) {
			continue
		}
		if err != nil {
			return err
		}
		return folder.Save(x)
	}
	return fmt.Errorf("%s: there are too many collectors of this machine's name; remove some on the Machines page", filepath.Base(folder.Dir))
}
