package unwind

import (
	"strings"

	"entelon/symbol"
)

// CompileObject makes the table of an object from all that it holds.
func CompileObject(o *symbol.Object) (*Table, error) {
	f, err := o.Frames()
	if err != nil && f.EHFrame.Bytes == nil && f.DebugFrame.Bytes == nil && f.Code == nil {
		return nil, err
	}
	s := Source{EHFrame: Section(f.EHFrame), DebugFrame: Section(f.DebugFrame)}
	for _, c := range f.Code {
		s.Code = append(s.Code, Section(c))
	}
	if o.HasGoSection() {
		s.GoFrames = func(visit func(GoFunction)) {
			o.GoFrames(func(g symbol.GoFunction) {
				rows := make([]GoRow, len(g.Rows))
				for i, r := range g.Rows {
					rows[i] = GoRow(r)
				}
				visit(GoFunction{
					Start: g.Start, End: g.End, Outmost: g.Outmost, Switches: g.Switches, Rows: rows,
					Callback: g.Name == "runtime.cgocallback", StandIn: g.Name == "runtime.systemstack_switch",
					Sigreturn: strings.HasPrefix(g.Name, "runtime.sigreturn"),
				})
			})
		}
	}
	t := Compile(s)
	if t.Fault == nil {
		t.Fault = err
	}
	return t, nil
}
