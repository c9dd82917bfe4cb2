// Package scope says which samples of a profile count. A Scope is one
// expression that is made to be read aloud:
//
//	thread is worker-* and function is slur.Route and not idle
//
// Its text, its parts as the scope line shows them, and what it does to samples
// are views of one thing. The language is described in docs/scope.md.
//
// A Scope is a value; many goroutines may use one. What is made of it for a profile belongs
// to one.
package scope

import (
	"fmt"
	"slices"
	"strings"

	"entelon/core/profile"
	"entelon/core/scope/language"
)

// Scope restricts samples. Its zero value lets every sample count.
type Scope struct {
	root  expression // nil: everything
	about About
}

// About is what a profile itself does not know of the take that it is from.
type About struct{ Program, Build, Workload string }

// Parse reads an expression; an empty one is everything. Errors are of type
// *SyntaxError.
func Parse(text string) (Scope, error) {
	if strings.TrimSpace(text) == "" {
		return Scope{}, nil
	}
	root, err := parse(text)
	return Scope{root: root}, err
}

// Between is the scope of a part of the time, in nanoseconds since the take
// began, to exclusive; to 0 is the end.
func Between(from, to int64) Scope {
	if from <= 0 && to <= 0 {
		return Scope{}
	}
	return Scope{root: between{max(0, from), max(0, to)}}
}

// And is what both scopes hold.
func (s Scope) And(o Scope) Scope {
	switch {
	case s.root == nil:
		return Scope{o.root, s.about}
	case o.root == nil:
		return s
	}
	return Scope{all(append(s.conditions(), o.conditions()...)), s.about}
}

// Of is the same scope over a take of which this is known.
func (s Scope) Of(about About) Scope {
	s.about = about
	return s
}

// All reports whether every sample counts.
func (s Scope) All() bool { return s.root == nil }

// Fits refuses a profile that cannot answer: one whose samples have no times is not
// restricted by them. Its error wraps profile.ErrFolded.
func (s Scope) Fits(p *profile.Profile) error {
	if p.Folded() && s.root != nil && timed(s.root) {
		return fmt.Errorf("the scope has a part of the time, but of this take %w", profile.ErrFolded)
	}
	return nil
}

// Amounts reports whether the scope asks for values of measures.
func (s Scope) Amounts() bool {
	return s.root != nil && some(s.root, func(x expression) bool { _, is := x.(amount); return is })
}

// timed reports whether an expression asks for times.
func timed(x expression) bool {
	return some(x, func(x expression) bool {
		switch x.(type) {
		case between, during, inEvents, woken:
			return true
		}
		return false
	})
}

// some reports whether an expression, or a part of it, is of a kind.
func some(x expression, is func(expression) bool) bool {
	within := func(x expression) bool { return some(x, is) }
	switch x := x.(type) {
	case not:
		return within(x.of)
	case all:
		return slices.ContainsFunc(x, within)
	case any_:
		return slices.ContainsFunc(x, within)
	}
	return is(x)
}

// String is the expression in its plainest form. Scopes with the same text are
// the same.
func (s Scope) String() string {
	if s.root == nil {
		return ""
	}
	return s.root.text(weakest)
}

// conditions are the parts that all have to hold.
func (s Scope) conditions() []expression {
	switch x := s.root.(type) {
	case nil:
		return nil
	case all:
		return append([]expression(nil), x...)
	default:
		return []expression{x}
	}
}

// Part is one condition of several that all have to hold, as a word in the
// sentence of the scope line.
type Part struct {
	Text  string // as an expression of its own
	Field string // what it restricts: "thread", "time", …; "" where that is several things
	Not   bool
	// From and To are the bounds of a part of the time.
	From, To int64
	// Texts are what a field has to be one of.
	Texts []string
}

// Parts splits the expression into the conditions that all have to hold.
func (s Scope) Parts() []Part {
	out := []Part{}
	for _, c := range s.conditions() {
		p := Part{Text: c.text(inAll)}
		inner := c
		if n, ok := c.(not); ok {
			p.Not, inner = true, n.of
		}
		switch x := inner.(type) {
		case between:
			p.Field, p.From, p.To = "time", x.from, x.to
		case idle:
			p.Field = "idle"
		case during:
			p.Field, p.Texts = language.DuringField, patternTexts(x.spans)
		case inEvents:
			p.Field = "events"
		case woken:
			p.Field, p.Texts = "woken", patternTexts(x.by)
		case amount:
			p.Field = x.measure
		case pathExpr:
			p.Field, p.Texts = "path", patternTexts(x.steps)
		case field:
			p.Field, p.Texts = x.name, patternTexts(x.is)
		case label:
			p.Field, p.Texts = x.subject(), patternTexts(x.is)
		}
		out = append(out, p)
	}
	return out
}

func patternTexts(ps []pattern) []string {
	out := make([]string, len(ps))
	for i, p := range ps {
		out[i] = p.source
	}
	return out
}

// Contains returns a predicate over the positions of p's samples.
func (s Scope) Contains(p *profile.Profile) func(i int) bool {
	if s.root == nil {
		return func(int) bool { return true }
	}
	return s.root.on(&subject{p: p, about: s.about}).holds
}

// SyntaxError is what is wrong with the text of an expression.
type SyntaxError = language.SyntaxError
