package live

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"unicode/utf8"

	"golang.org/x/term"

	"entelon/core/scope"
)

// Plain prints each window as a table, or as a line of JSON.
func (v *View) Plain(w io.Writer) func(Window) error {
	return func(x Window) error {
		t := v.of(&x)
		if v.JSON {
			b, err := json.Marshal(t)
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(w, "%s\n", b)
			return err
		}
		_, err := fmt.Fprintf(w, "%s\n\n", strings.Join(t.lines(false), "\n"))
		return err
	}
}

// What is written to have the terminal show a page of its own, and to come back.
const (
	enterPage = "\x1b[?1049h\x1b[?25l"
	leavePage = "\x1b[?25h\x1b[?1049l"
	home      = "\x1b[H"
	restLine  = "\x1b[K\r\n"
	restPage  = "\x1b[J"
)

// Screen shows windows on the terminal, and reads keys. end is called when the user wants
// it to end; done gives the terminal back.
func (v *View) Screen(end func()) (show func(Window) error, done func() error, err error) {
	in := int(os.Stdin.Fd())
	before, err := term.MakeRaw(in)
	if err != nil {
		return nil, nil, fmt.Errorf("reading keys: %w", err)
	}
	if _, err := io.WriteString(os.Stdout, enterPage+home+"sampling; q ends"+restPage); err != nil {
		return nil, nil, errors.Join(err, term.Restore(in, before))
	}
	go v.keys(os.Stdin, end)
	show = func(x Window) error {
		v.mu.Lock()
		defer v.mu.Unlock()
		if v.stopped {
			return nil
		}
		v.last = &x
		return v.draw(os.Stdout)
	}
	done = func() error {
		_, err := io.WriteString(os.Stdout, leavePage)
		if back := term.Restore(in, before); err == nil {
			err = back
		}
		return err
	}
	return show, done, nil
}

// draw writes the page of the window that was shown last. The lock is held.
func (v *View) draw(w io.Writer) error {
	if v.last == nil {
		return nil
	}
	v.table = v.of(v.last)
	width, height := 100, 40
	if x, y, err := term.GetSize(int(os.Stdout.Fd())); err == nil && x > 0 && y > 3 {
		width, height = x, y
	}
	lines := v.table.lines(true)
	if len(lines) > height-2 {
		lines = lines[:height-2]
	}
	state := "1–9 narrow · 0 back · f t p m rows · blank stops · q ends"
	if v.stopped {
		state = "stopped; blank goes on · " + state
	}
	lines = append(lines, "", state)
	var b strings.Builder
	b.WriteString(home)
	for i, l := range lines {
		if utf8.RuneCountInString(l) > width {
			l = string([]rune(l)[:width])
		}
		b.WriteString(l)
		if i < len(lines)-1 {
			b.WriteString(restLine)
		}
	}
	b.WriteString("\x1b[K" + restPage)
	_, err := io.WriteString(w, b.String())
	return err
}

// keys does what the keys say, until there are no more.
func (v *View) keys(in io.Reader, end func()) {
	var b [1]byte
	for {
		if n, err := in.Read(b[:]); n == 0 || err != nil {
			return
		}
		if !v.key(b[0]) {
			end()
			return
		}
		v.mu.Lock()
		err := v.draw(os.Stdout)
		v.mu.Unlock()
		if err != nil {
			end()
			return
		}
	}
}

// key does what a key says; false ends.
func (v *View) key(k byte) bool {
	v.mu.Lock()
	defer v.mu.Unlock()
	const interrupt, endOfText = 3, 4
	switch {
	case k == 'q' || k == interrupt || k == endOfText:
		return false
	case k == 'f' || k == 't' || k == 'p' || k == 'm':
		v.Rows = map[byte]string{'f': "function", 't': "thread", 'p': "process", 'm': "module"}[k]
	case k == ' ':
		v.stopped = !v.stopped
	case k == '0' && len(v.steps) > 0:
		v.scope, v.steps = v.steps[len(v.steps)-1], v.steps[:len(v.steps)-1]
	case k >= '1' && k <= '9' && int(k-'1') < len(v.table.Rows):
		only, err := scope.Parse(v.table.Rows[k-'1'].only)
		if err != nil {
			break // a name that no expression can hold; it stays as it is
		}
		v.steps = append(v.steps, v.scope)
		v.scope = v.scope.And(only)
	}
	return true
}
