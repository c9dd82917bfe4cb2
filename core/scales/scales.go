// Package scales says by what the cost of a take is divided before it is compared with another: a
// run, a unit of work, a second, what stayed the same, or the whole. It has no state.
package scales

import (
	"fmt"

	"entelon/core/match"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/workload"
)

// Scale says by what the cost of a take is divided before it is compared.
type Scale string

// The scales. Their units: a share of the take's total (0 to 1), units of the
// measure a second of the take, the same a second of processor time, the same a
// unit of the program's work, and units of the measure a take.
const (
	ByShare  Scale = "share"
	BySecond Scale = "second"
	ByCPU    Scale = "cpu-second"
	ByWork   Scale = "work"
	ByRun    Scale = "run"
	// ByYardstick divides by what the functions cost that stayed the same on both sides.
	ByYardstick Scale = "unchanged"
)

// All are all of them, with what they divide by in words.
var All = []struct {
	Scale Scale
	Text  string
}{
	{ByRun, "for each run"}, {ByWork, "for each unit of work"}, {BySecond, "for each second"}, {ByCPU, "for each second of processor time"}, {ByYardstick, "for each unit of unchanged work"}, {ByShare, "as shares of the total"},
}

// formerly are names that scales once had: they stand in links and in files of rules.
var formerly = map[string]Scale{"total": ByShare, "none": ByRun}

// Parse reads a scale by name; "" is ByShare.
func Parse(s string) (Scale, error) {
	if s == "" {
		return ByShare, nil
	}
	if x, ok := formerly[s]; ok {
		return x, nil
	}
	for _, x := range All {
		if string(x.Scale) == s {
			return x.Scale, nil
		}
	}
	return "", fmt.Errorf("there is no scale %q; choose run, work, second, cpu-second, unchanged or share", s)
}

// Unit is the unit of a figure that was scaled, given the measure's.
func (s Scale) Unit(measure string) string {
	switch s {
	case ByShare:
		return "share"
	case BySecond:
		return measure + "/s"
	case ByCPU:
		return measure + "/cpu-s"
	case ByWork:
		return measure + "/work"
	}
	return measure
}

// Words is what a figure is for, in words: "a run".
func (s Scale) Words() string {
	switch s {
	case ByShare:
		return "as a share of the total"
	case BySecond:
		return "for each second"
	case ByCPU:
		return "for each second of processor time"
	case ByWork:
		return "for each unit of work"
	case ByYardstick:
		return "for each unit of unchanged work"
	}
	return "for each run"
}

// Fitting is the scale that suits takes when the user chose none: by work where
// all tell how much they did, as they are where all are of one workload that ran to its
// end, or two commands were interleaved, whatever their programs are called; else by what
// stayed the same on both sides. A level stays as it is.
func Fitting(m measure.Column, takes ...*profile.Take) Scale {
	in := make([]string, len(takes))
	for i, t := range takes {
		in[i] = workload.Of(&t.Settings, &t.Facts).Key
	}
	return FittingIn(m, in, takes...)
}

// FittingIn is Fitting where people have said which workload each take is of: those that they
// merged are the same to them.
func FittingIn(m measure.Column, in []string, takes ...*profile.Take) Scale {
	if m.Combine == measure.Level {
		return ByRun
	}
	work, same := true, true
	for i, t := range takes {
		work = work && t.Facts.Work > 0
		f := takes[0]
		alike := len(t.Settings.Command) > 0 && in[i] == in[0]
		// When two commands are interleaved, they do the same.
		turns := t.Settings.Side != "" && t.Settings.Series == f.Settings.Series
		same = same && t.Facts.EndedBy == "exit" && (alike || turns)
	}
	switch {
	case work:
		return ByWork
	case same:
		return ByRun
	}
	return ByYardstick
}

// Divisor is what a run's values are divided by.
func Divisor(r *match.Run, scale Scale) (float64, error) {
	return Extent{float64(r.Total()), r.Cost.Reduced != "", r.DurationNS, r.CPUNS, r.Work}.Divisor(scale)
}

// Extent is how much a take is.
type Extent struct {
	Total      float64 // of the measure, in its unit
	Level      bool    // the measure is one
	DurationNS int64
	CPUNS      int64
	Work       float64 // units of work
}

// Divisor is what a take's figures are divided by. It is an error where the take does
// not tell.
func (x Extent) Divisor(scale Scale) (float64, error) {
	switch {
	case x.Level && scale != ByShare && scale != ByRun:
		return 0, fmt.Errorf("a level does not grow with what it would be divided by")
	case scale == ByShare && x.Total <= 0:
		return 0, fmt.Errorf("there is nothing to divide by: its total is %g", x.Total)
	case scale == ByShare:
		return x.Total, nil
	case scale == BySecond && x.DurationNS <= 0:
		return 0, fmt.Errorf("its duration is unknown")
	case scale == BySecond:
		return float64(x.DurationNS) / 1e9, nil
	case scale == ByCPU && x.CPUNS <= 0:
		return 0, fmt.Errorf("its processor time is unknown")
	case scale == ByCPU:
		return float64(x.CPUNS) / 1e9, nil
	case scale == ByWork && x.Work <= 0:
		return 0, fmt.Errorf("how much work it did is unknown; take it with --work or --work-from")
	case scale == ByWork:
		return x.Work, nil
	case scale == ByYardstick:
		return 0, fmt.Errorf("what stayed the same can only be found between two sides")
	}
	return 1, nil
}
