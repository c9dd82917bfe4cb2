package follow

import (
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"entelon/capture/rings"
	"entelon/core/profile"
	"entelon/linux"
	"entelon/linux/bpf"
	"entelon/symbol"
)

// ErrNoFunction is the error about a name that no function has; linux.ErrProbe is the one about those that
// cannot be followed.
var ErrNoFunction = errors.New("there is no such function in the program")

// Functions are the event of the functions that a name means, in the first file that has any, with what
// there is to warn of. Errors are ErrNoFunction and linux.ErrProbe.
func Functions(files []string, name string) (*rings.Event, []profile.Warning, error) {
	for _, path := range files {
		e, err := spansIn(path, name)
		if errors.Is(err, ErrNoFunction) {
			continue
		}
		if err != nil {
			return nil, nil, err
		}
		var warnings []profile.Warning
		if n := len(e.failed); n > 0 {
			warnings = append(warnings, profile.Warning{Code: "span-unfollowed", Text: fmt.Sprintf("%d of the functions that %s means are not followed, among them this one: %s.", n, name, e.failed[0])})
		}
		if len(e.jumping) > 0 {
			warnings = append(warnings, profile.Warning{Code: "span-ends", Text: fmt.Sprintf("%s may end by a jump to a function that is known only when it runs; such calls have no end.", strings.Join(e.jumping, ", "))})
		}
		if n := InlinedSites(path, name); n > 0 {
			warnings = append(warnings, profile.Warning{
				Code: "inlined", Text: fmt.Sprintf("%s is inlined in %s, where it is not a span.", name, Places(n)), Remedy: "Build it without inlining to follow all of its calls.",
			})
		}
		return e.Event, warnings, nil
	}
	if len(files) > 0 {
		if n := InlinedSites(files[0], name); n > 0 {
			return nil, nil, fmt.Errorf("%q is inlined wherever it is called (%s), so there is nothing to follow; build it without inlining: %w", name, Places(n), linux.ErrProbe)
		}
	}
	return nil, nil, fmt.Errorf("%q: %w", name, ErrNoFunction)
}

// Places says at how many places something is.
func Places(n int) string {
	if n == 1 {
		return "1 place"
	}
	return fmt.Sprintf("%d places", n)
}

// InlinedSites is at how many places of a file a function is inlined; 0 where the file has no code.
func InlinedSites(path, name string) (n int) {
	_ = within(path, func(o *symbol.Object) error {
		n = symbol.InlinedSites(o, name)
		return nil
	})
	return n
}

// spanEvent is an event with the functions that may end in an unknown way, and those that cannot be
// followed, with why.
type spanEvent struct {
	*rings.Event
	jumping []string
	failed  []error
}

// maxSpans is how many functions one name may mean.
const maxSpans = 256

// spansIn finds the functions that a name means in a file.
func spansIn(path, name string) (out spanEvent, err error) {
	out.Event = &rings.Event{Role: rings.RoleSpan, Spans: &rings.Spans{Path: path}}
	err = within(path, func(o *symbol.Object) error {
		defined, err := symbol.FunctionsByName(o, name)
		if err != nil {
			return err
		}
		if len(defined) > maxSpans {
			return fmt.Errorf("%q means %d functions of %s; at most %d can be followed: %w", name, len(defined), filepath.Base(path), maxSpans, linux.ErrProbe)
		}
		numberAt := uint32(0)
		if o.HasGoSection() {
			g, err := symbol.GoScheduleOf(o)
			if err != nil {
				return err
			}
			numberAt = g.Number
		}
		for _, d := range defined {
			if !d.Chooses {
				out.add(o, d, name, numberAt)
			}
		}
		return nil
	})
	switch {
	case errors.Is(err, errNotCode):
		return out, ErrNoFunction
	case err != nil || len(out.Spans.Names) > 0:
		return out, err
	case len(out.failed) > 0:
		return out, fmt.Errorf("%w: %w", out.failed[0], linux.ErrProbe)
	}
	return out, ErrNoFunction
}

// add adds a function; numberAt is where a goroutine has its number.
func (e *spanEvent) add(o *symbol.Object, d symbol.Defined, name string, numberAt uint32) {
	points, err := symbol.SpanPointsOf(o, d)
	if err != nil {
		e.failed = append(e.failed, err)
		return
	}
	if !points.Go { // such as C in a Go program
		numberAt = 0
	}
	x := e.Spans
	at := bpf.SpanPoint{Offset: points.Begin, Function: len(x.Names), NumberAt: numberAt}
	x.Begins = append(x.Begins, at)
	for _, at.Offset = range points.Ends {
		x.Ends = append(x.Ends, at)
	}
	shown := shownAs(d, name)
	x.Names = append(x.Names, shown)
	if points.JumpsAway {
		e.jumping = append(e.jumping, shown)
	}
}
