// Package compare sets two profiles side by side, function by function.
package compare

import (
	"fmt"
	"math"
	"slices"
	"sort"

	"entelon/core/profile"
	"entelon/core/tree"
)

// Scale says by what both sides are divided before they are compared.
type Scale string

// The scales. Their units: a share of the total (0 to 1), units of the measure
// a second of the take, and units of the measure.
const (
	ByTotal  Scale = "total"
	BySecond Scale = "second"
	Unscaled Scale = "none"
)

// ParseScale reads a scale by name; "" is ByTotal.
func ParseScale(s string) (Scale, error) {
	switch x := Scale(s); x {
	case "":
		return ByTotal, nil
	case ByTotal, BySecond, Unscaled:
		return x, nil
	}
	return "", fmt.Errorf("there is no scale %q; choose total, second or none", s)
}

// State is what became of a function.
type State string

// The states. A function is Changed where it is on both sides and the difference
// is Certain; it is New or Gone where one side has no sample of it, which for a
// rare function may be chance.
const (
	Same    State = "same"
	Changed State = "changed"
	New     State = "new"
	Gone    State = "gone"
)

// changedAt is how many standard errors a difference must exceed. Among a
// thousand functions that did not change, about one in all exceeds 3.29.
const changedAt = 3.29

// Side is one of the two: a profile's functions with what they add up to.
type Side struct {
	Profile    *profile.Profile
	Functions  []tree.FunctionCost
	Total      int64 // of the measure
	Samples    int64
	DurationNS int64
}

// Figure is a function's cost on one side, scaled.
type Figure struct {
	Self         float64
	Total        float64
	SelfSamples  int64
	TotalSamples int64
}

// Row is one function on both sides.
type Row struct {
	Name       string
	Module     string // path on the side that has it, the candidate's first
	File       string
	Line       uint32
	Kind       profile.ModuleKind
	Baseline   Figure
	Candidate  Figure
	DeltaSelf  float64
	DeltaTotal float64
	ErrorSelf  float64 // standard error of DeltaSelf
	ErrorTotal float64
	State      State
	Certain    bool // sampling alone hardly explains a difference of this size
}

// Functions compares function by function. Functions are the same if their names and
// their homes are. The largest change of self cost comes first.
func Functions(baseline, candidate Side, scale Scale) ([]Row, error) {
	a, err := divisor(baseline, scale)
	if err != nil {
		return nil, fmt.Errorf("baseline: %w", err)
	}
	b, err := divisor(candidate, scale)
	if err != nil {
		return nil, fmt.Errorf("candidate: %w", err)
	}
	rows := map[key]*Row{}
	collect(rows, baseline, a, func(r *Row) *Figure { return &r.Baseline })
	collect(rows, candidate, b, func(r *Row) *Figure { return &r.Candidate })
	out := make([]Row, 0, len(rows))
	for _, r := range rows {
		r.DeltaSelf = r.Candidate.Self - r.Baseline.Self
		r.DeltaTotal = r.Candidate.Total - r.Baseline.Total
		r.ErrorSelf = deltaError(r.Baseline.SelfSamples, r.Candidate.SelfSamples, baseline, candidate, a, b, scale)
		r.ErrorTotal = deltaError(r.Baseline.TotalSamples, r.Candidate.TotalSamples, baseline, candidate, a, b, scale)
		r.Certain = exceeds(r.DeltaSelf, r.ErrorSelf) || exceeds(r.DeltaTotal, r.ErrorTotal)
		r.State = state(r)
		out = append(out, *r)
	}
	sort.Slice(out, func(i, j int) bool {
		x, y := &out[i], &out[j]
		if dx, dy := math.Abs(x.DeltaSelf), math.Abs(y.DeltaSelf); dx != dy {
			return dx > dy
		}
		if x.Name != y.Name {
			return x.Name < y.Name
		}
		return x.Module < y.Module
	})
	return out, nil
}

type key struct{ name, module string }

// divisor is what a side's values are divided by.
func divisor(s Side, scale Scale) (float64, error) {
	switch {
	case scale == ByTotal && s.Total <= 0:
		return 0, fmt.Errorf("there is nothing to take a share of: its total is %d", s.Total)
	case scale == ByTotal:
		return float64(s.Total), nil
	case scale == BySecond && s.DurationNS <= 0:
		return 0, fmt.Errorf("its duration is unknown")
	case scale == BySecond:
		return float64(s.DurationNS) / 1e9, nil
	}
	return 1, nil
}

func collect(rows map[key]*Row, s Side, by float64, side func(*Row) *Figure) {
	p := s.Profile
	for _, f := range s.Functions {
		fn := p.Functions[f.Function]
		name, module := p.Strings[fn.Name], p.ModulePath(f.Function)
		k := key{name, p.Home(f.Function)}
		r := rows[k]
		if r == nil {
			r = &Row{}
			rows[k] = r
		}
		r.Name, r.Module, r.Kind = name, module, fn.Kind
		if file := p.Strings[fn.File]; file != "" {
			r.File, r.Line = file, fn.Line
		}
		x := side(r)
		x.Self += float64(f.Self) / by
		x.Total += float64(f.Total) / by
		x.SelfSamples += f.SelfSamples
		x.TotalSamples += f.TotalSamples
	}
}

// deltaError is the standard error of a difference. A count k of samples has
// the variance k(1−k/n) if it is a share of n, and k if it is not; a sample
// stands for total/samples of the measure.
func deltaError(ka, kb int64, a, b Side, byA, byB float64, scale Scale) float64 {
	one := func(k int64, s Side, by float64) float64 {
		if s.Samples == 0 {
			return 0
		}
		each := float64(s.Total) / float64(s.Samples) / by
		variance := float64(k)
		if scale == ByTotal {
			variance *= 1 - float64(k)/float64(s.Samples)
		}
		return each * each * variance
	}
	return math.Sqrt(one(ka, a, byA) + one(kb, b, byB))
}

func exceeds(delta, standardError float64) bool {
	return delta != 0 && math.Abs(delta) > changedAt*standardError
}

func state(r *Row) State {
	switch {
	case r.Baseline.TotalSamples == 0:
		return New
	case r.Candidate.TotalSamples == 0:
		return Gone
	case r.Certain:
		return Changed
	}
	return Same
}

// Unit is the unit of a figure that was scaled, given the measure's.
func (s Scale) Unit(measure string) string {
	switch s {
	case ByTotal:
		return "share"
	case BySecond:
		return measure + "/s"
	}
	return measure
}

// Fitting is the scale that suits two takes when the user chose none: as they
// are where both ran the same work to its end, else as shares.
func Fitting(a, b *profile.Take) Scale {
	if a.Facts.EndedBy != "exit" || b.Facts.EndedBy != "exit" || len(a.Settings.Command) == 0 || len(b.Settings.Command) == 0 {
		return ByTotal
	}
	if !slices.Equal(a.Settings.Command[1:], b.Settings.Command[1:]) || a.Settings.Program != b.Settings.Program {
		return ByTotal
	}
	return Unscaled
}
