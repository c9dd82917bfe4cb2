package profile

import (
	"fmt"
	"strings"
)

// Words are how a measure is spoken of.
type Words struct {
	Name    string // as it is chosen and kept: "cpu"
	Label   string // "CPU time"
	Unit    string // of the values: "ns", "bytes" or "count"
	Counted bool   // every event is in it, so that it has no sampling error
}

var labels = map[string]string{
	"cpu":           "CPU time",
	"cycles":        "processor cycles",
	"waiting":       "waiting time",
	"faults":        "page faults",
	"syscall-time":  "time in system calls",
	"syscalls":      "system calls",
	"disk-bytes":    "bytes to and from disks",
	"disk-requests": "requests to disks",
	"allocated":     "allocated bytes",
	"allocations":   "allocations",
}

// Words returns how a measure is spoken of.
func (p *Profile) Words(measure int) Words {
	m := p.Measures[measure]
	w := Words{Name: p.Strings[m.Name], Unit: p.Strings[m.Unit], Counted: m.Counted}
	kind, of, _ := strings.Cut(w.Name, ":")
	switch {
	case kind == "function":
		w.Label = "calls of " + of
	case kind == "tracepoint":
		w.Label = "passes of " + of
	case of != "" && labels[kind] != "":
		w.Label = labels[kind] + " by " + of
	case labels[w.Name] != "":
		w.Label = labels[w.Name]
	default:
		w.Label = w.Name
	}
	return w
}

// MeasureNamed returns the position of a measure; "" is the first one.
func (p *Profile) MeasureNamed(name string) (int, error) {
	if name == "" && len(p.Measures) > 0 {
		return 0, nil
	}
	var known []string
	for i, m := range p.Measures {
		if p.Strings[m.Name] == name {
			return i, nil
		}
		known = append(known, p.Strings[m.Name])
	}
	return 0, fmt.Errorf("the take has no measure %q; it has %s", name, strings.Join(known, ", "))
}

// Amount writes a value of a unit with the prefix that leaves three
// significant digits.
func Amount(v int64, unit string) string {
	f := float64(v)
	scaled := func(f float64, unit string) string {
		digits := 2
		switch a := max(f, -f); {
		case a >= 100:
			digits = 0
		case a >= 10:
			digits = 1
		}
		return fmt.Sprintf("%.*f %s", digits, f, unit)
	}
	a := max(f, -f)
	switch unit {
	case "ns":
		switch {
		case v == 0:
			return "0 s"
		case a >= 1e9:
			return scaled(f/1e9, "s")
		case a >= 1e6:
			return scaled(f/1e6, "ms")
		}
		return scaled(f/1e3, "µs")
	case "bytes":
		switch {
		case a >= 1<<30:
			return scaled(f/(1<<30), "GiB")
		case a >= 1<<20:
			return scaled(f/(1<<20), "MiB")
		case a >= 1<<10:
			return scaled(f/(1<<10), "KiB")
		}
		return fmt.Sprintf("%d B", v)
	}
	return fmt.Sprint(v)
}
