package exact

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"entelon/core/profile"
	"entelon/symbol"
)

// Part is the part of a run that counts: what some calls of a function do, with all that they
// call. Its zero value is all of the run.
type Part struct {
	Inside string // the function, as it is named elsewhere: slur.Route
	After  int64  // so many of its calls are skipped
	Calls  int64  // so many count then; 0: all that follow
}

// All reports whether that is all of the run.
func (p Part) All() bool { return p.Inside == "" }

// Check refuses what is no part.
func (p Part) Check() error {
	switch {
	case p.All() && (p.After != 0 || p.Calls != 0):
		return errors.New("which calls count is said of a function; name it with --inside")
	case p.After < 0 || p.Calls < 0:
		return errors.New("a number of calls is not negative")
	case strings.ContainsAny(p.Inside, "\x00\n"):
		return errors.New("a function's name is on one line")
	}
	return nil
}

// Errors of a part that cannot be found.
var (
	ErrNoFunction = errors.New("the program has no such function")
	ErrNotCalled  = errors.New("nothing was counted")
)

// maxPlaces is how many functions a part may mean; the plugin has the same bound.
const maxPlaces = 64

// write tells the plugin of a part, in a file beside the counts.
func (p Part) write(folder, program string, finder *symbol.Finder) error {
	if p.All() {
		return nil
	}
	f, err := os.OpenFile(program, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return fmt.Errorf("looking for %s: %w", p.Inside, err)
	}
	o, err := symbol.OpenObject(f, program, profile.KindOwn, finder)
	if err != nil {
		return fmt.Errorf("looking for %s: %w", p.Inside, err)
	}
	defer o.Close()
	list, err := symbol.FunctionsByName(o, p.Inside)
	if err != nil {
		return fmt.Errorf("looking for %s: %w", p.Inside, err)
	}
	if len(list) == 0 {
		return fmt.Errorf("%s: %w, or has it only inlined", p.Inside, ErrNoFunction)
	}
	if len(list) > maxPlaces {
		return fmt.Errorf("%s means %d functions; at most %d can be told", p.Inside, len(list), maxPlaces)
	}
	var b strings.Builder
	fmt.Fprintf(&b, "%d %d\n", p.After, p.Calls)
	for _, d := range list {
		fmt.Fprintf(&b, "%x %s\n", d.Offset-(max(d.Address, d.Settled)-d.Address), program)
	}
	if err := os.WriteFile(filepath.Join(folder, "part"), []byte(b.String()), 0o600); err != nil {
		return fmt.Errorf("telling the plugin what counts: %w", err)
	}
	return nil
}

// made checks that a run had the part.
func (p Part) made(r *Run) error {
	if p.All() {
		return nil
	}
	entered := r.Entered()
	times := func(n int64) string {
		if n == 1 {
			return "once"
		}
		return fmt.Sprintf("%d times", n)
	}
	switch {
	case entered == 0:
		return fmt.Errorf("%s was not called: %w", p.Inside, ErrNotCalled)
	case entered <= p.After:
		return fmt.Errorf("%s was called %s, and the first %d calls were to be skipped: %w", p.Inside, times(entered), p.After, ErrNotCalled)
	}
	return nil
}

// Entered is how often the function was called of which a part counts. The program could have
// written into that, so it is bounded.
func (r *Run) Entered() (n int64) {
	for _, c := range r.Processes {
		n += int64(min(c.Entered, 1<<62/maxProcesses))
	}
	return n
}

// Counted is how many calls of it counted, where it was called so often.
func (p Part) Counted(entered int64) int64 {
	n := max(0, entered-p.After)
	if p.Calls > 0 {
		n = min(n, p.Calls)
	}
	return n
}
