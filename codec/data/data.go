// Package data writes a take as JSON (RFC 8259), for programs: settings, machine, facts,
// and the profile in columns, of the samples in scope. Identifiers are positions in the
// lists of the same file; position 0 of strings, modules, functions, frames and stacks is
// the empty one, or unknown. Values of kinds are in words.
//
// It holds nothing.
package data

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"

	"entelon/codec"
	"entelon/core/measure"
	"entelon/core/profile"
)

// Encoder is this format among others.
var Encoder = codec.Encoder{
	Name: "data", Ending: ".json", Type: "application/json", Means: "everything in columns, as JSON, for programs",
	Encode: Write,
}

type measureOut struct {
	Name    string `json:"name"`
	Label   string `json:"label"`
	Unit    string `json:"unit"`           // ns, bytes or count
	Combine string `json:"combine"`        // sum, or level, which holds at a time
	Counted bool   `json:"counted"`        // every event is in it
	Total   int64  `json:"total"`          // of the take, whatever is in scope
	Lost    int64  `json:"lost,omitempty"` // events that are missing in it, which is then partial
}

type moduleOut struct {
	Path    string `json:"path"`
	BuildID string `json:"build_id"`
	Kind    string `json:"kind"`
}

type functionOut struct {
	Name    string           `json:"name"`
	Linkage string           `json:"linkage"` // the linker's name, "" where it is the same
	Module  profile.ModuleID `json:"module"`
	File    string           `json:"file"`
	Line    uint32           `json:"line"`
	Kind    string           `json:"kind"` // whose code, or mark
}

type frameOut struct {
	Function profile.FunctionID `json:"function"`
	Line     uint32             `json:"line"`
	Address  uint64             `json:"address"`
	Inlined  bool               `json:"inlined,omitempty"`
	Found    string             `json:"found"` // how the walk got there
}

type threadOut struct {
	TID     uint32            `json:"tid"`
	Process profile.ProcessID `json:"process"`
	Name    string            `json:"name"`
}

type processOut struct {
	PID  uint32 `json:"pid"`
	Name string `json:"name"`
}

type stacksOut struct {
	Parent []profile.StackID `json:"parent"` // 0: the outer end
	Frame  []profile.FrameID `json:"frame"`
}

type labelsOut struct {
	Parent []profile.LabelSetID `json:"parent"`
	Name   []string             `json:"name"`
	Value  []string             `json:"value"`
}

// combines are the ways in which a measure's values come together.
var combines = map[measure.Combine]string{measure.Sum: "sum", measure.Level: "level"}

// Write writes a view of a take. Of the command's environment only the names are written.
func Write(w io.Writer, v codec.View) error {
	b := bufio.NewWriterSize(w, 64<<10)
	e := &encoder{w: b, most: v.Bounds.Bytes}
	p, t := v.Take.Profile, v.Take
	settings := t.Settings
	settings.Env = settings.EnvNames()
	e.field("settings", settings)
	e.field("machine", t.Machine)
	e.field("facts", t.Facts)
	e.field("scope", v.Scope.String())
	list(e, "measures", len(p.Measures), func(i int) measureOut {
		m := p.Words(i)
		return measureOut{m.Name, m.Label, m.Unit, combines[m.Combine], m.Counted, p.Total(i), v.Take.Missing(i)}
	})
	list(e, "modules", len(p.Modules), func(i int) moduleOut {
		m := p.Modules[i]
		return moduleOut{p.String(m.Path), p.String(m.BuildID), m.Kind.String()}
	})
	list(e, "functions", len(p.Functions), func(i int) functionOut {
		f := p.Functions[i]
		return functionOut{p.String(f.Name), p.String(f.Linkage), f.Module, p.String(f.File), f.Line, f.Kind.String()}
	})
	list(e, "frames", len(p.Frames), func(i int) frameOut {
		f := p.Frames[i]
		return frameOut{f.Function, f.Line, f.Address, f.Inlined, f.Found.String()}
	})
	e.field("stacks", stacksOut(p.Stacks))
	list(e, "processes", len(p.Processes), func(i int) processOut {
		return processOut{p.Processes[i].PID, p.String(p.Processes[i].Name)}
	})
	list(e, "threads", len(p.Threads), func(i int) threadOut {
		x := p.Threads[i]
		return threadOut{x.TID, x.Process, p.String(x.Name)}
	})
	labels := labelsOut{Parent: append([]profile.LabelSetID{}, p.LabelSets.Parent...), Name: []string{}, Value: []string{}}
	for i := range p.LabelSets.Parent {
		labels.Name, labels.Value = append(labels.Name, p.String(p.LabelSets.Name[i])), append(labels.Value, p.String(p.LabelSets.Value[i]))
	}
	e.field("label_sets", labels)
	e.samples(p, v.Scope.Select(p))
	e.end()
	if err := b.Flush(); e.err == nil {
		e.err = err
	}
	if e.err != nil {
		return fmt.Errorf("writing the data: %w", e.err)
	}
	return nil
}

// encoder writes one object, field by field, so that no more than a field is held twice.
type encoder struct {
	w     *bufio.Writer
	most  int64 // bytes; 0: no bound
	wrote int64
	begun bool
	err   error
}

func (e *encoder) text(s string) {
	if e.wrote += int64(len(s)); e.err == nil && e.most > 0 && e.wrote > e.most {
		e.err = codec.ErrTooLarge
	}
	if e.err == nil {
		_, e.err = e.w.WriteString(s)
	}
}

func (e *encoder) value(v any) {
	b, err := json.Marshal(v)
	if err != nil && e.err == nil {
		e.err = err
	}
	e.text(string(b))
}

func (e *encoder) name(name string) {
	if e.begun {
		e.text(",\n")
	} else {
		e.text("{\n")
	}
	e.begun = true
	e.value(name)
	e.text(": ")
}

func (e *encoder) field(name string, v any) {
	e.name(name)
	e.value(v)
}

func (e *encoder) end() { e.text("\n}\n") }

// list writes what at gives for each position, one a line.
func list[T any](e *encoder, name string, n int, at func(int) T) {
	e.name(name)
	e.text("[")
	for i := range n {
		if e.err != nil {
			return
		}
		if i > 0 {
			e.text(",")
		}
		e.text("\n")
		e.value(at(i))
	}
	e.text("]")
}

// samples writes the columns of the samples in scope.
func (e *encoder) samples(p *profile.Profile, in []bool) {
	s := &p.Samples
	of := func(column func(i int) any) {
		first := true
		e.text("[")
		for i := range in {
			if !in[i] {
				continue
			}
			if e.err != nil {
				return
			}
			if !first {
				e.text(",")
			}
			first = false
			e.text(fmt.Sprint(column(i)))
		}
		e.text("]")
	}
	e.name("samples")
	e.text("{")
	if s.Time != nil {
		e.text(`"time_ns": `)
		of(func(i int) any { return s.Time[i] })
		e.text(",\n")
	}
	e.text(`"thread": `)
	of(func(i int) any { return s.Thread[i] })
	e.text(",\n\"stack\": ")
	of(func(i int) any { return s.Stack[i] })
	if s.Labels != nil {
		e.text(",\n\"labels\": ")
		of(func(i int) any { return s.Labels[i] })
	}
	e.text(",\n\"values\": [")
	for m := range s.Values {
		if m > 0 {
			e.text(",\n")
		}
		of(func(i int) any { return s.Values[m][i] })
	}
	e.text("]}")
}
