package profile

import (
	"fmt"

	"entelon/core/measure"
)

// Check reports the first identifier in p that points outside its column, or
// the first broken promise of the data model. A profile that came from
// outside must pass before any other function of this module sees it.
func (p *Profile) Check() error {
	if len(p.Strings) == 0 || p.Strings[0] != "" {
		return fmt.Errorf("string 0 is not the empty string")
	}
	if len(p.Modules) == 0 || len(p.Functions) == 0 || len(p.Frames) == 0 || p.Stacks.Len() == 0 {
		return fmt.Errorf("a reserved first entry is missing")
	}
	if len(p.Stacks.Frame) != len(p.Stacks.Parent) {
		return fmt.Errorf("%d stack parents but %d stack frames", len(p.Stacks.Parent), len(p.Stacks.Frame))
	}
	str := func(id StringID) bool { return int(id) < len(p.Strings) }
	for i, m := range p.Modules {
		if !str(m.Path) || !str(m.BuildID) || !m.Kind.Valid() {
			return fmt.Errorf("module %d points outside its tables", i)
		}
	}
	for i, f := range p.Functions {
		if !str(f.Name) || !str(f.Linkage) || !str(f.File) || int(f.Module) >= len(p.Modules) || !f.Kind.Valid() {
			return fmt.Errorf("function %d points outside its tables", i)
		}
		if !f.Mark.Valid() || (f.Mark != NoMark) != (f.Kind == KindMark) {
			return fmt.Errorf("function %d is a mark and is not", i)
		}
	}
	for i, f := range p.Frames {
		if int(f.Function) >= len(p.Functions) || !f.Found.Valid() {
			return fmt.Errorf("frame %d is of function %d of %d", i, f.Function, len(p.Functions))
		}
	}
	for i := 1; i < p.Stacks.Len(); i++ {
		if int(p.Stacks.Parent[i]) >= i || int(p.Stacks.Frame[i]) >= len(p.Frames) {
			return fmt.Errorf("stack %d points outside its tables", i)
		}
	}
	for i, x := range p.Processes {
		if !str(x.Name) {
			return fmt.Errorf("process %d has no name in the tables", i)
		}
	}
	for i, t := range p.Threads {
		if !str(t.Name) || int(t.Process) >= len(p.Processes) {
			return fmt.Errorf("thread %d points outside its tables", i)
		}
	}
	if err := p.LabelSets.check(str); err != nil {
		return err
	}
	if err := p.checkSamples(str); err != nil {
		return err
	}
	return p.Intervals.check(p)
}

func (s *LabelSets) check(str func(StringID) bool) error {
	if len(s.Name) != s.Len() || len(s.Value) != s.Len() {
		return fmt.Errorf("the columns of label sets differ in length")
	}
	for i := 1; i < s.Len(); i++ {
		if int(s.Parent[i]) >= i || !str(s.Name[i]) || !str(s.Value[i]) {
			return fmt.Errorf("label set %d points outside its tables", i)
		}
	}
	return nil
}

func (p *Profile) checkSamples(str func(StringID) bool) error {
	for i, m := range p.Measures {
		if !str(m.Name) || !str(m.Unit) || m.Combine > measure.Level || !m.Time.Valid() {
			return fmt.Errorf("measure %d points outside its tables", i)
		}
	}
	s := &p.Samples
	n := s.Len()
	if len(s.Thread) != n || (s.Time != nil && len(s.Time) != n) || (s.Labels != nil && len(s.Labels) != n) || len(s.Values) != len(p.Measures) {
		return fmt.Errorf("sample columns differ in length")
	}
	for i := range s.Values {
		if len(s.Values[i]) != n {
			return fmt.Errorf("measure %d has %d values for %d samples", i, len(s.Values[i]), n)
		}
	}
	for i := range n {
		if int(s.Stack[i]) >= p.Stacks.Len() || int(s.Thread[i]) >= len(p.Threads) {
			return fmt.Errorf("sample %d points outside its tables", i)
		}
	}
	for i, l := range s.Labels {
		if int(l) >= p.LabelSets.Len() {
			return fmt.Errorf("sample %d points outside the label sets", i)
		}
	}
	return nil
}
