package comparing

import (
	"fmt"
	"strconv"
	"strings"

	"entelon/core/measure"
)

// Exact takes and samples are never compared with each other: one counts what the other times. Of
// sides that have both, those of one kind are compared.

// ownKind leaves the takes of one kind: of the one that has the measure that is asked for, or
// that both sides have, samples before exact runs. notice says what is left out, "" for nothing.
func ownKind(a, b *measured, wanted string) (notice string) {
	kinds := map[bool][2]int{}
	has := map[bool]bool{} // the measure that is wanted
	for side, m := range []*measured{a, b} {
		for _, t := range m.takes {
			exact := t.Facts.Exact != nil
			n := kinds[exact]
			n[side]++
			kinds[exact] = n
			if _, err := t.Profile.MeasureNamed(wanted); err == nil {
				has[exact] = true
			}
		}
	}
	if len(kinds) < 2 {
		return ""
	}
	both := func(exact bool) bool { return kinds[exact][0] > 0 && kinds[exact][1] > 0 }
	var exact bool
	switch {
	case both(true) && both(false):
		exact = wanted != "" && has[true] && !has[false]
	case both(true):
		exact = true
	case !both(false):
		return "" // what they cannot be compared by is said later
	}
	left := a.keep(exact) + b.keep(exact)
	if exact {
		return fmt.Sprintf("%s left out: the others are exact takes, which are compared with their own kind", strayed(left, "sampled take is", "sampled takes are"))
	}
	return fmt.Sprintf("%s left out, since the others are samples; --measure instructions compares them", strayed(left, "exact take is", "exact takes are"))
}

func strayed(n int, one, more string) string {
	if n == 1 {
		return "1 " + one
	}
	return strconv.Itoa(n) + " " + more
}

// keep leaves the takes of one kind, and returns how many were left out.
func (m *measured) keep(exact bool) (left int) {
	var kept measured
	for i, t := range m.takes {
		if (t.Facts.Exact != nil) == exact {
			kept.add(t, m.files[i], m.in[i])
		} else {
			left++
		}
	}
	*m = kept
	return left
}

// limitFlag is how many functions are printed, or what a measure may rise by.
type limitFlag struct{ of *Comparison }

// String is the number of functions.
func (f limitFlag) String() string {
	if f.of == nil {
		return ""
	}
	return strconv.Itoa(f.of.Limit)
}

// Type is what the help calls it.
func (limitFlag) Type() string { return "limit" }

// Set takes "20", or "instructions=0.1%".
func (f limitFlag) Set(text string) error {
	name, rise, ok := strings.Cut(text, "=")
	if !ok {
		n, err := strconv.Atoi(text)
		if err != nil || n < 0 {
			return fmt.Errorf("give a number of functions, or what a measure may rise by, such as instructions=0.1%%")
		}
		f.of.Limit = n
		return nil
	}
	if _, known := measure.Named(name); !known {
		return fmt.Errorf("there is no measure %q; for functions, use --threshold", name)
	}
	if f.of.chosen.Measure != "" && f.of.chosen.Measure != name {
		return fmt.Errorf("%s and %s: one measure is compared at a time", f.of.chosen.Measure, name)
	}
	f.of.chosen.Measure = name
	f.of.Limits = append(f.of.Limits, rise)
	return nil
}
