package capture

import (
	"errors"
	"fmt"
	"path"
	"strings"

	"entelon/capture/follow"
	"entelon/core/measure"
	"entelon/linux/tracefs"
)

// Measurable is something that can be measured.
type Measurable struct {
	Name  string `json:"name"` // as it is chosen
	Unit  string `json:"unit"`
	Means string `json:"means"`
	Cost  string `json:"cost"`
	Not   string `json:"not,omitempty"` // why not, for this user on this machine
}

// Measurables lists what of this machine's measures, tracepoints, and functions of some
// programs has a name like a pattern, in which * is any text.
func Measurables(pattern string, programs []string) (out []Measurable, err error) {
	add := func(m Measurable) {
		if is, _ := path.Match(pattern, strings.ReplaceAll(m.Name, "/", "|")); is || pattern == m.Name {
			out = append(out, m)
		}
	}
	list, listErr := tracefs.Open()
	if listErr == nil {
		defer func() { err = errors.Join(err, list.Close()) }()
	}
	for _, k := range measure.Kinds {
		m := Measurable{Name: k.Form(), Unit: k.Units(), Means: k.Means, Cost: k.Cost}
		if listErr != nil && needsTracing(k) {
			m.Not = listErr.Error()
		}
		add(m)
	}
	if listErr == nil {
		points, err := list.All()
		if err != nil {
			return nil, err
		}
		for _, p := range points {
			add(Measurable{Name: "tracepoint:" + p.Group + ":" + p.Name, Unit: measure.Count, Means: "passes of the kernel's tracepoint", Cost: "about 5 µs each, under 1 µs where they come fast"})
		}
	}
	for _, program := range programs {
		pairs, err := follow.PairNames(program)
		if err != nil {
			return nil, fmt.Errorf("listing probes: %w", err)
		}
		for _, n := range pairs {
			add(Measurable{Name: "probe:" + n, Unit: measure.Nanoseconds, Means: "time between the probes of the pair", Cost: "about 15 µs a pair"})
		}
		names, err := follow.FunctionNames(program)
		if err != nil {
			return nil, fmt.Errorf("listing functions: %w", err)
		}
		for _, n := range names {
			add(Measurable{Name: "function:" + n, Unit: measure.Count, Means: "calls of the function", Cost: "about 5 µs a call, under 1 µs where they come fast"})
		}
	}
	return out, nil
}

// needsTracing reports whether a measure needs the kernel's list of tracepoints or probes.
func needsTracing(k measure.Kind) bool {
	switch k.Way {
	case measure.BySystemCalls, measure.ByDisk, measure.ByTracepoint, measure.ByCalls:
		return true
	}
	return false
}
