// Package e2e drives the built application in a real browser, against a real
// server on a real PostgreSQL.
package e2e

import (
	"bufio"
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
)

var (
	shots = flag.String("shots", "", "folder to write the pictures of the documentation into")
	all   = flag.Bool("all", false, "with -shots: pictures of all views in both themes, to be looked at")
	wide  = flag.Int64("wide", 1280, "width of the window, in pixels")
	high  = flag.Int64("high", 800, "height of the window, in pixels")

	base    string // address of the server under test
	entry   string // the link that it printed
	browser context.Context
)

// TestMain starts the built binary with the demo's takes, and one browser.
func TestMain(m *testing.M) {
	flag.Parse()
	code, err := run(m)
	if err != nil {
		fmt.Fprintln(os.Stderr, "e2e:", err)
		code = 1
	}
	os.Exit(code)
}

func run(m *testing.M) (int, error) {
	dir, err := os.MkdirTemp("/var/tmp", "entelon-e2e-*")
	if err != nil {
		return 1, err
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil { // PostgreSQL runs as another user below it
		return 1, err
	}
	stop, err := serve(filepath.Join(dir, "database"))
	if err != nil {
		return 1, err
	}
	quit, err := open(filepath.Join(dir, "browser"))
	if err != nil {
		return 1, errors.Join(err, stop())
	}
	if err := enter(); err != nil {
		quit()
		return 1, errors.Join(err, stop())
	}
	code := m.Run()
	quit()
	return code, stop()
}

// serve starts bin/entelon as a user would and waits for its one line.
func serve(data string) (stop func() error, err error) {
	words := []string{"serve", "--listen", "127.0.0.1:0", "--data", data, "--load", "../demo/takes", "--source", "../demo", "--log-level", "warn"}
	if os.Geteuid() == 0 {
		words = append(words, "--user", "7420:7420")
	}
	cmd := exec.Command("../bin/entelon", words...)
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("starting bin/entelon (make build): %w", err)
	}
	lines := bufio.NewReader(out)
	line, err := lines.ReadString('\n')
	second, err2 := lines.ReadString('\n')
	if err = errors.Join(err, err2); err != nil {
		return nil, errors.Join(fmt.Errorf("the server said nothing: %w", err), cmd.Wait())
	}
	for _, word := range strings.Fields(line) {
		if strings.HasPrefix(word, "http://") {
			base = word
		}
	}
	if _, link, ok := strings.Cut(second, " at http://"); ok {
		entry = "http://" + strings.TrimSpace(link)
	}
	return func() error {
		if err := cmd.Process.Signal(syscall.SIGINT); err != nil {
			return err
		}
		return cmd.Wait()
	}, nil
}

// open starts a headless Chromium with a fresh profile.
func open(profile string) (quit func(), err error) {
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.UserDataDir(profile), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true), chromedp.Flag("no-first-run", true))
	allocator, end := chromedp.NewExecAllocator(context.Background(), options...)
	var endBrowser context.CancelFunc
	browser, endBrowser = chromedp.NewContext(allocator)
	if err := chromedp.Do(browser); err != nil {
		endBrowser()
		end()
		return nil, fmt.Errorf("starting Chromium: %w", err)
	}
	return func() { endBrowser(); end() }, nil
}

// enter signs the browser in by the link that the server printed.
func enter() error {
	ctx, end := chromedp.NewContext(browser)
	defer end()
	ctx, stop := context.WithTimeout(ctx, time.Minute)
	defer stop()
	if err := chromedp.Do(ctx, chromedp.Navigate(entry), chromedp.WaitVisible("nav")); err != nil {
		return fmt.Errorf("signing in at %s: %w", entry, err)
	}
	return nil
}

// page is one tab of the browser. Every step fails the test with what was
// being done.
type page struct {
	t   *testing.T
	ctx context.Context
}

func newPage(t *testing.T) *page {
	t.Helper()
	ctx, end := chromedp.NewContext(browser)
	if err := chromedp.Do(ctx); err != nil { // the tab must not end with the time limit of its first step
		t.Fatal(err)
	}
	ctx, stop := context.WithTimeout(ctx, 5*time.Minute) // each wait has its own limit
	t.Cleanup(func() { stop(); end() })
	p := &page{t, ctx}
	p.do("sizing the window", chromedp.EmulateViewport(*wide, *high))
	return p
}

func (p *page) do(what string, actions ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	p.check(what, chromedp.Do(p.ctx, actions...))
}

func (p *page) check(what string, err error) {
	p.t.Helper()
	if err != nil {
		where, _ := chromedp.Run(p.ctx, chromedp.Location()) // only for the message
		p.t.Fatalf("%s (at %s): %v", what, where, err)
	}
}

func (p *page) visit(path string) {
	p.t.Helper()
	p.do("visiting "+path, chromedp.Navigate(base+path))
}

// value evaluates an expression in the page.
func value[T any](p *page, expression string) T {
	p.t.Helper()
	v, err := chromedp.Run(p.ctx, chromedp.Evaluate[T](expression, chromedp.EvalAwaitPromise))
	p.check("evaluating "+expression, err)
	return v
}

// until waits for an expression in the page to be true; a promise is waited for.
func (p *page) until(what, expression string) {
	p.t.Helper()
	p.within(45*time.Second, what, expression) // a machine may be busy
}

// within waits longer, or less.
func (p *page) within(limit time.Duration, what, expression string) {
	p.t.Helper()
	deadline := time.Now().Add(limit)
	for {
		if value[bool](p, "(async () => !!(await ("+expression+")))()") {
			return
		}
		if time.Now().After(deadline) {
			p.t.Fatalf("waited in vain for %s; the page says:\n%s", what, value[string](p, "document.body.innerText"))
		}
		time.Sleep(40 * time.Millisecond)
	}
}

// says waits for a text on a page that waits for no answer of the server any more: what was there
// before, and is about to go, does not count.
func (p *page) says(text string) {
	p.t.Helper()
	p.until(fmt.Sprintf("the words %q, and no question open", text),
		fmt.Sprintf("document.querySelector('main')?.ariaBusy === 'false' && document.body.innerText.includes(%q)", text))
}

// key presses one key as a keyboard does: what it would type comes only if the
// page lets it.
func (p *page) key(key string) {
	p.t.Helper()
	if len(key) > 1 || key < " " { // a key that types nothing, from package kb
		p.do("pressing a key", chromedp.KeyEvent(key))
		return
	}
	p.do("pressing "+key, chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		down := input.DispatchKeyEventParams{Type: input.DispatchKeyEventTypeKeyDown, Key: key, Text: key}
		if _, err := cdp.Call(ctx, t, input.DispatchKeyEvent, down); err != nil {
			return err
		}
		_, err := cdp.Call(ctx, t, input.DispatchKeyEvent, input.DispatchKeyEventParams{Type: input.DispatchKeyEventTypeKeyUp, Key: key})
		return err
	}))
}

func (p *page) click(selector string) {
	p.t.Helper()
	p.do("clicking "+selector, chromedp.Click(selector, chromedp.NodeVisible))
}

// picture writes what the page looks like.
func (p *page) picture(file string) {
	p.t.Helper()
	time.Sleep(350 * time.Millisecond) // for what moves to come to rest
	png, err := chromedp.Run(p.ctx, chromedp.CaptureScreenshot())
	p.check("taking a picture", err)
	if err := os.WriteFile(file, png, 0o644); err != nil {
		p.t.Fatal(err)
	}
}

// written keeps a text in a file that the browser may open.
func written(t *testing.T, name, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	return path
}

// looked takes pictures of what is to be looked at, in both themes, where they are wanted;
// none of them is kept.
func (p *page) looked(name string) {
	p.t.Helper()
	if *shots == "" || !*all {
		return
	}
	for _, theme := range []string{"dark", "light"} {
		// As another tab would change it, so that all that is drawn follows.
		value[any](p, fmt.Sprintf(`localStorage.setItem('entelon-theme', %q), window.dispatchEvent(new StorageEvent('storage', { key: 'entelon-theme', newValue: %q, storageArea: localStorage }))`, theme, theme))
		p.until("the theme "+theme, fmt.Sprintf(`document.documentElement.classList.contains('dark') === %v`, theme == "dark"))
		p.picture(filepath.Join(*shots, name+"-"+theme+".png"))
	}
}

// theme chooses light or dark and forgets what else the browser keeps. Other
// tabs hear of what is cleared all at once and would write their own again.
func (p *page) theme(name string) {
	p.t.Helper()
	p.until("the application", `document.querySelector('nav')`)
	value[any](p, fmt.Sprintf(`Object.keys(localStorage).filter(k => k !== 'entelon-theme').forEach(k => localStorage.removeItem(k)), localStorage.setItem('entelon-theme', %q), localStorage.setItem('entelon-tour-offered', 'true')`, name))
	p.visit("/programs")
	p.until("the theme", fmt.Sprintf(`document.querySelector('nav') && document.documentElement.classList.contains('dark') === %v`, name == "dark"))
}
