package scope

// Early is what is known of a sample before its stack has been walked.
type Early struct {
	Program, Build, Workload, Process, Thread string
	PID, TID                                  uint32
	Kernel                                    bool // it was taken in the kernel
	Time                                      int64
}

// Verdict is what can be said of a sample.
type Verdict uint8

// The order is that of logic with an unknown: and is the least, or the greatest.
const (
	Out     Verdict = iota // it does not count, whatever its stack is
	Unknown                // that depends on the stack
	In
)

// Early decides about a sample as far as that is possible without its stack.
func (s Scope) Early(e Early) Verdict {
	if s.root == nil {
		return In
	}
	return s.root.early(e)
}

// Modes reports whether samples that were taken in the program, and in the
// kernel, can count at all.
func (s Scope) Modes() (user, kernel bool) {
	user, kernel = true, true
	for _, c := range s.conditions() {
		x := c
		if n, ok := c.(not); ok {
			x = n.of
		}
		if f, ok := x.(field); !ok || f.name != "code" {
			continue // it may need more than the mode to be decided
		}
		user = user && c.early(Early{}) != Out
		kernel = kernel && c.early(Early{Kernel: true}) != Out
	}
	return user, kernel
}

func decided(v bool) Verdict {
	if v {
		return In
	}
	return Out
}

func (x all) early(e Early) Verdict {
	out := In
	for _, c := range x {
		out = min(out, c.early(e))
	}
	return out
}

func (x any_) early(e Early) Verdict {
	out := Out
	for _, c := range x {
		out = max(out, c.early(e))
	}
	return out
}

func (x not) early(e Early) Verdict  { return In - x.of.early(e) }
func (idle) early(Early) Verdict     { return Unknown }
func (pathExpr) early(Early) Verdict { return Unknown }
func (amount) early(Early) Verdict   { return Unknown }
func (label) early(Early) Verdict    { return Unknown }
func (x between) early(e Early) Verdict {
	return decided(e.Time >= x.from && (x.to == 0 || e.Time < x.to))
}
func (x field) early(e Early) Verdict {
	switch x.name {
	case "program":
		return decided(fitsAny(x.is, e.Program))
	case "build":
		return decided(fitsAny(x.is, e.Build))
	case "workload":
		return decided(fitsAny(x.is, e.Workload))
	case "process":
		return decided(fitsAny(x.is, e.Process, number(e.PID)))
	case "thread":
		return decided(fitsAny(x.is, e.Thread, number(e.TID)))
	case "code":
		kernel := fitsAny(x.is, "kernel")
		if e.Kernel {
			// What waited or which call it was may still stand on top of it.
			if !kernel && !fitsAny(x.is, "mark") {
				return Out
			}
			return Unknown
		}
		if kernel && len(x.is) == 1 && !x.is[0].wild && !x.is[0].regular() {
			return Out
		}
	}
	return Unknown
}
