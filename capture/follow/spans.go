package follow

import (
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"entelon/capture/rings"
	"entelon/core/profile"
	"entelon/linux/bpf"
	"entelon/symbol"
	"entelon/symbol/elfimage"
)

// Errors about functions that cannot be followed.
var (
	ErrNoFunction = errors.New("no function of the program or its libraries has this name")
	ErrFollow     = errors.New("it cannot be followed")
)

// Functions are the event of the functions that a name means, in the first file that has any, with what
// there is to warn of. Errors are ErrNoFunction and ErrFollow.
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
			return nil, nil, fmt.Errorf("%q is inlined wherever it is called (%s), so there is nothing to follow; build it without inlining: %w", name, Places(n), ErrFollow)
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

// InlinedSites is at how many places of a file a function is inlined.
func InlinedSites(path, name string) int {
	f, err := elfimage.OpenRegular(path)
	if err != nil {
		return 0
	}
	o, err := symbol.OpenObject(f, path, profile.KindOwn, nil)
	if err != nil {
		return 0
	}
	defer o.Close()
	return symbol.InlinedSites(o, name)
}

// spanEvent is an event with the functions that may end in an unknown way.
type spanEvent struct {
	*rings.Event
	jumping []string
}

// maxSpans is how many functions one name may mean.
const maxSpans = 256

// spansIn finds the functions that a name means in a file.
func spansIn(path, name string) (out spanEvent, err error) {
	f, err := elfimage.OpenRegular(path)
	if err != nil {
		return out, ErrNoFunction
	}
	o, err := symbol.OpenObject(f, path, profile.KindOwn, nil)
	if err != nil {
		return out, ErrNoFunction // not a file of code
	}
	defer func() { err = errors.Join(err, o.Close()) }()
	defined, err := symbol.FunctionsByName(o, name)
	if err != nil {
		return out, err
	}
	if len(defined) > maxSpans {
		return out, fmt.Errorf("%q means %d functions of %s; at most %d can be followed: %w", name, len(defined), filepath.Base(path), maxSpans, ErrFollow)
	}
	numberAt := uint32(0)
	if o.HasGoSection() {
		g, err := symbol.GoScheduleOf(o)
		if err != nil {
			return out, err
		}
		numberAt = g.Number
	}
	out.Event = &rings.Event{Role: rings.RoleSpan, Spans: &rings.Spans{Path: path}}
	var failed error
	for _, d := range defined {
		if d.Chooses {
			continue
		}
		points, err := symbol.SpanPointsOf(o, d)
		if err != nil {
			failed = err
			continue
		}
		x := out.Spans
		at := bpf.SpanPoint{Offset: points.Begin, Function: len(x.Names), NumberAt: numberAt}
		x.Begins = append(x.Begins, at)
		for _, at.Offset = range points.Ends {
			x.Ends = append(x.Ends, at)
		}
		shown := d.Name
		if d.Linkage == name {
			shown = d.Linkage
		}
		x.Names = append(x.Names, shown)
		if points.JumpsAway {
			out.jumping = append(out.jumping, shown)
		}
	}
	switch {
	case len(out.Spans.Names) > 0:
		return out, nil
	case failed != nil:
		return out, fmt.Errorf("%w: %w", failed, ErrFollow)
	}
	return out, ErrNoFunction
}
