package follow

import (
	"cmp"
	"errors"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"entelon/capture/rings"
	"entelon/core/profile"
	"entelon/linux"
	"entelon/linux/bpf"
	"entelon/symbol"
	"entelon/symbol/staticprobes"
)

// What a probe's name ends in, where something begins and where it ends.
var (
	beginnings = []string{"start", "begin", "entry", "enter"}
	endings    = []string{"done", "end", "return", "exit", "stop", "finish"}
)

// Pair is two static probes between which something goes on.
type Pair struct {
	Name         string // "postgresql:query"
	Begins, Ends []staticprobes.Probe
}

// half is of which pair a probe is, and whether that ends there; ok is false where it is of none.
func half(p staticprobes.Probe) (pair string, ends, ok bool) {
	for _, ends = range []bool{false, true} {
		words := beginnings
		if ends {
			words = endings
		}
		for _, w := range words {
			if stem, is := strings.CutSuffix(p.Name, w); is {
				stem = strings.TrimRight(stem, "_-")
				return strings.TrimSuffix(p.Provider+":"+stem, ":"), ends, true
			}
		}
	}
	return "", false, false
}

// Pairs are the pairs of probes of a file, by name; alone are those that are of none.
func Pairs(file string) (pairs []Pair, alone []staticprobes.Probe, err error) {
	of := map[string]*Pair{}
	err = within(file, func(o *symbol.Object) error {
		all, _, err := staticprobes.Of(o.Image())
		for _, p := range all {
			name, ends, ok := half(p)
			if !ok {
				alone = append(alone, p)
				continue
			}
			x := of[name]
			if x == nil {
				x = &Pair{Name: name}
				of[name] = x
			}
			if ends {
				x.Ends = append(x.Ends, p)
			} else {
				x.Begins = append(x.Begins, p)
			}
		}
		return err
	})
	if errors.Is(err, errNotCode) {
		return nil, nil, nil
	}
	for _, x := range of {
		if len(x.Begins) == 0 || len(x.Ends) == 0 {
			alone = append(append(alone, x.Begins...), x.Ends...)
			continue
		}
		pairs = append(pairs, *x)
	}
	slices.SortFunc(pairs, func(a, b Pair) int { return cmp.Compare(a.Name, b.Name) })
	return pairs, alone, err
}

// Probes are the event of the pairs of probes that a name means, in the first file that has any. The error
// is linux.ErrProbe.
func Probes(files []string, name string) (*rings.Event, []profile.Warning, error) {
	var alone []string
	for _, file := range files {
		pairs, others, err := Pairs(file)
		if err != nil && len(pairs) == 0 {
			return nil, nil, fmt.Errorf("%s: %w: %w", filepath.Base(file), err, linux.ErrProbe)
		}
		for _, p := range others {
			if full := p.Provider + ":" + p.Name; means(name, full) {
				alone = append(alone, full)
			}
		}
		for _, p := range pairs {
			for _, h := range append(slices.Clone(p.Begins), p.Ends...) {
				if full := h.Provider + ":" + h.Name; full == name {
					return nil, nil, fmt.Errorf("%s is one probe of a pair; the pair is probe:%s: %w", full, p.Name, linux.ErrProbe)
				}
			}
		}
		pairs = slices.DeleteFunc(pairs, func(p Pair) bool { return !means(name, p.Name) })
		switch {
		case len(pairs) == 0:
			continue
		case len(pairs) > maxSpans:
			return nil, nil, fmt.Errorf("%q means %d pairs of %s; at most %d can be followed: %w", name, len(pairs), filepath.Base(file), maxSpans, linux.ErrProbe)
		}
		var warnings []profile.Warning
		if err != nil {
			warnings = append(warnings, profile.Warning{Code: "probe-notes", Text: filepath.Base(file) + ": " + err.Error() + "; some probes may be missing."})
		}
		x := &rings.Spans{Path: file, Pairs: true}
		for n, p := range pairs {
			x.Names = append(x.Names, p.Name)
			for _, at := range p.Begins {
				x.Begins = append(x.Begins, bpf.SpanPoint{Offset: at.Offset, Function: n, Wanted: at.Wanted})
			}
			for _, at := range p.Ends {
				x.Ends = append(x.Ends, bpf.SpanPoint{Offset: at.Offset, Function: n, Wanted: at.Wanted})
			}
		}
		return &rings.Event{Role: rings.RoleSpan, Spans: x}, warnings, nil
	}
	if len(alone) > 0 {
		return nil, nil, fmt.Errorf("%s is no pair: nothing is called like it that says where it ends, or begins: %w", alone[0], linux.ErrProbe)
	}
	return nil, nil, fmt.Errorf("%q: the program and its libraries have no such pair of probes: %w", name, linux.ErrProbe)
}

// means reports whether a name, in which * stands for anything, is a probe's.
func means(name, probe string) bool {
	is, err := path.Match(strings.ReplaceAll(name, "/", "\x01"), strings.ReplaceAll(probe, "/", "\x01"))
	return err == nil && is || name == probe
}
