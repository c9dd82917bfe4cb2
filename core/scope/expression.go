package scope

import (
	"fmt"
	"strconv"
	"strings"

	"entelon/core/profile"
	"entelon/core/scope/language"
)

// expression is a condition or several. Expressions never change.
type expression interface {
	// text writes the expression for a place that binds as strongly as this.
	text(place binding) string
	on(*subject) condition
	early(Early) Verdict
}

// binding is how strongly an expression holds together.
type binding int

const (
	weakest binding = iota
	inAny
	inAll
	inNot
)

type (
	all  []expression
	any_ []expression // "any" is Go's own
	not  struct{ of expression }
	idle struct{}
	// between is a part of the time; to 0 is the end.
	between struct{ from, to int64 }
	// field has to be one of these.
	field struct {
		name string
		is   []pattern
	}
	// label has to have one of these values; a span is the label of that name.
	label struct {
		name string
		is   []pattern
	}
	// pathExpr has functions on the stack in this order from its root, with others
	// between them.
	pathExpr struct{ steps []pattern }
	// amount restricts the value of a measure.
	amount struct {
		measure string
		by      comparison
		value   int64
		unit    string
	}
)

type comparison string

const (
	over    comparison = "over"
	under   comparison = "under"
	atLeast comparison = "at least"
	atMost  comparison = "at most"
)

// maxSteps bounds a path, so that how much of it was met fits into a byte.
const maxSteps = 32

// fieldValues are what fields can be that have only a few values.
var fieldValues = map[string][]string{
	"code":  {"own", "library", "runtime", "kernel", "unknown", "mark"},
	"state": profile.ThreadStates(),
}

func negate(x expression) expression {
	if n, ok := x.(not); ok {
		return n.of
	}
	return not{x}
}

func negated(x expression, is bool) expression {
	if is {
		return negate(x)
	}
	return x
}

func joined(xs []expression, word string, inner, outer, place binding) string {
	parts := make([]string, len(xs))
	for i, x := range xs {
		parts[i] = x.text(inner)
	}
	s := strings.Join(parts, " "+word+" ")
	if place > outer {
		return "(" + s + ")"
	}
	return s
}

func (x all) text(place binding) string  { return joined(x, "and", inAll, inAll-1, place) }
func (x any_) text(place binding) string { return joined(x, "or", inAny, weakest, place) }

func (x not) text(binding) string {
	switch of := x.of.(type) {
	case field:
		if !of.is[0].regular() {
			return of.name + " is not " + patternList(of.is, ", ")
		}
	case label:
		if !of.is[0].regular() {
			return of.subject() + " is not " + patternList(of.is, ", ")
		}
	case pathExpr:
		return "path is not " + patternList(of.steps, " > ")
	}
	return "not " + x.of.text(inNot)
}

func (idle) text(binding) string { return "idle" }

func (x between) text(binding) string {
	out := "time"
	if x.from > 0 || x.to == 0 {
		out += " from " + timeText(x.from)
	}
	if x.to > 0 {
		out += " to " + timeText(x.to)
	}
	return out
}

// timeText writes nanoseconds as seconds, exactly.
func timeText(ns int64) string {
	s := fmt.Sprintf("%d.%09d", ns/1e9, ns%1e9)
	return strings.TrimRight(strings.TrimRight(s, "0"), ".") + " s"
}

func (x field) text(binding) string {
	if x.is[0].regular() {
		return x.name + " matches " + strconv.Quote(x.is[0].source)
	}
	return x.name + " is " + patternList(x.is, ", ")
}

// subject is what stands before "is".
func (x label) subject() string {
	if x.name == profile.SpanLabel {
		return "span"
	}
	return "label " + language.Quote(x.name)
}

func (x label) text(binding) string {
	if x.is[0].regular() {
		return x.subject() + " matches " + strconv.Quote(x.is[0].source)
	}
	return x.subject() + " is " + patternList(x.is, ", ")
}

func (x pathExpr) text(binding) string { return "path is " + patternList(x.steps, " > ") }

func (x amount) text(binding) string {
	unit := map[string]string{"ns": " ns", "bytes": " B", "count": ""}[x.unit]
	v := strconv.FormatInt(x.value, 10)
	if x.unit == "ns" && x.value >= 1e6 {
		v, unit = strings.TrimSuffix(timeText(x.value), " s"), " s"
	}
	return x.measure + " " + string(x.by) + " " + v + unit
}

func patternList(ps []pattern, between string) string {
	parts := make([]string, len(ps))
	for i, p := range ps {
		parts[i] = language.Quote(p.source)
	}
	return strings.Join(parts, between)
}

// Of is the scope of what passes through functions whose names are like a pattern.
func Of(pattern string) (Scope, error) { return Parse("function is " + language.Quote(pattern)) }
