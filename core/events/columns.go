package events

import (
	"cmp"
	"fmt"
	"slices"
	"sort"
	"strings"

	"entelon/core/measure"
	"entelon/core/profile"
)

// Column is what is known of events of a kind, each in a row of its own.
type Column struct {
	Name string
	Type profile.AttributeType
	Rows int64 // of the take that have it

	at int // among the attributes; -1: how long they took, -2: what they are called
}

// The columns that are no attributes.
const (
	Duration = "duration"
	Name     = "name"

	durationColumn = -1
	nameColumn     = -2
)

// ColumnsOf are the columns that rows of a kind have, beside when and where. They come from intervals:
// samples have none.
func ColumnsOf(p *profile.Profile, k *Kind) (out []Column) {
	if !k.Apart {
		return nil
	}
	v := &p.Intervals
	is := k.kinds()
	lasting := Column{Name: Duration, Type: profile.AttributeTime, at: durationColumn}
	called := Column{Name: Name, Type: profile.AttributeText, at: nameColumn}
	names := namesOf(p)
	for i, of := range v.Kind {
		if !is[of] {
			continue
		}
		if v.Duration[i] > 0 {
			lasting.Rows++
		}
		if names[v.Stack[i]] >= 0 {
			called.Rows++
		}
	}
	for _, c := range []Column{called, lasting} {
		if c.Rows > 0 {
			out = append(out, c)
		}
	}
	for n, a := range v.Attributes {
		c := Column{Name: p.Strings[a.Name], Type: a.Type, at: n}
		switch c.Name {
		case profile.AttributeParent, profile.AttributeLink, profile.AttributeOpen:
			continue // of spans
		}
		for _, i := range a.Interval {
			if is[v.Kind[i]] {
				c.Rows++
			}
		}
		if c.Rows > 0 {
			out = append(out, c)
		}
	}
	return out
}

// ColumnNamed returns the column of a name that can be added up and sorted. Its error names those that
// there are.
func ColumnNamed(columns []Column, name string) (*Column, error) {
	var numbers []string
	for i := range columns {
		switch {
		case columns[i].Type == profile.AttributeText || columns[i].Type == profile.AttributeAddress:
			continue
		case columns[i].Name == name:
			return &columns[i], nil
		}
		numbers = append(numbers, columns[i].Name)
	}
	if len(numbers) == 0 {
		return nil, fmt.Errorf("these events have no %q, nor any other number", name)
	}
	return nil, fmt.Errorf("these events have no number %q; they have %s", name, strings.Join(numbers, ", "))
}

// Unit is what the column's values are given in.
func (c *Column) Unit() measure.Unit {
	switch c.Type {
	case profile.AttributeTime:
		return measure.Nanoseconds
	case profile.AttributeBytes:
		return measure.Bytes
	}
	return measure.Count
}

// Words is what the column's values are: their unit, "text" or "address".
func (c *Column) Words() string {
	switch c.Type {
	case profile.AttributeText:
		return "text"
	case profile.AttributeAddress:
		return "address"
	}
	return c.Unit()
}

// Unit is what amounts of the answer are given in.
func (q *Question) Unit() measure.Unit {
	if q.Column != nil {
		return q.Column.Unit()
	}
	return q.Kind.Unit
}

// reader reads the column that amounts are of; nil: the kind's own.
func (q *Question) reader(p *profile.Profile) *reader {
	if q.Column == nil {
		return nil
	}
	return q.Column.reader(p)
}

// reader reads values by the positions of intervals. Asked for them in ascending order, it looks at
// each once.
type reader struct {
	p    *profile.Profile
	of   profile.Attribute
	kind int // as in Column.at
	next int
	last int
	// names are the functions of stacks that have a name, by stack; -1: it has none.
	names []int32
}

func (c *Column) reader(p *profile.Profile) *reader {
	r := &reader{p: p, kind: c.at}
	if c.at >= 0 {
		r.of = p.Intervals.Attributes[c.at]
	}
	return r
}

// namesOf are the functions of stacks that have a name, by stack; -1: it has none.
func namesOf(p *profile.Profile) []int32 {
	names := make([]int32, p.Stacks.Len())
	for s := range names {
		f := p.FunctionOf(profile.StackID(s))
		names[s] = int32(f)
		if p.Functions[f].Mark == profile.NoMark {
			names[s] = -1
		}
	}
	return names
}

// attribute reads the attribute of a name and a type; it has no values where there is none.
func attribute(p *profile.Profile, name string, of profile.AttributeType) *reader {
	for i, a := range p.Intervals.Attributes {
		if p.Strings[a.Name] == name && a.Type == of {
			return (&Column{at: i}).reader(p)
		}
	}
	return &reader{p: p}
}

func (r *reader) at(i int) (value int64, has bool) {
	switch r.kind {
	case durationColumn:
		return r.p.Intervals.Duration[i], true
	case nameColumn:
		f := r.names[r.p.Intervals.Stack[i]]
		return int64(f), f >= 0
	}
	at := r.of.Interval
	if i < r.last || i > r.last+1024 {
		r.next = sort.Search(len(at), func(k int) bool { return int(at[k]) >= i })
	}
	r.last = i
	for r.next < len(at) && int(at[r.next]) < i {
		r.next++
	}
	if r.next == len(at) || int(at[r.next]) != i {
		return 0, false
	}
	return r.of.Value[r.next], true
}

// Value is what a row has in a column.
type Value struct {
	Has    bool
	Number int64
	Text   string // of a text
}

func (c *Column) text(p *profile.Profile, value int64) string {
	if c.at == nameColumn {
		return profile.MarkValue(p, profile.FunctionID(value))
	}
	return p.Strings[value]
}

func valuesOf(p *profile.Profile, r *Row, columns []Column) []Value {
	out := make([]Value, len(columns))
	for n := range columns {
		c := &columns[n]
		v, has := int64(0), false
		switch c.at {
		case durationColumn:
			v, has = p.Intervals.Duration[r.Sample], true
		case nameColumn:
			v, has = int64(r.What), p.Functions[r.What].Mark != profile.NoMark
		default:
			v, has = p.Intervals.Attributes[c.at].At(r.Sample)
		}
		if !has {
			continue
		}
		out[n] = Value{Has: true, Number: v}
		if c.Type == profile.AttributeText {
			out[n].Number, out[n].Text = 0, c.text(p, v)
		}
	}
	return out
}

// Group is what the rows of each text of a column add up to.
type Group struct {
	Column string
	Texts  []GroupText // the largest ones, at most maxTexts
	Others int         // texts that are not among them,
	Rows   int64       // with so many rows,
	Total  int64       // and so much together
	None   int64       // rows without any
}

// GroupText is one text of a group.
type GroupText struct {
	Text  string
	Rows  int64
	Total int64
}

// maxTexts is how many texts a group names.
const maxTexts = 12

type grouping struct {
	c    *Column
	p    *profile.Profile
	read *reader
	none int64
	of   []GroupText // by text, or by function
}

func groupsOf(p *profile.Profile, k *Kind, columns []Column) (out []grouping) {
	for i := range columns {
		if c := &columns[i]; c.Type == profile.AttributeText && k.Apart {
			n := len(p.Strings)
			if c.at == nameColumn {
				n = len(p.Functions)
			}
			read := c.reader(p)
			if c.at == nameColumn {
				read.names = namesOf(p)
			}
			out = append(out, grouping{c: c, p: p, read: read, of: make([]GroupText, n)})
		}
	}
	return out
}

func (g *grouping) add(i int, amount int64) {
	v, has := g.read.at(i)
	if !has {
		g.none++
		return
	}
	t := &g.of[v]
	t.Rows++
	t.Total += amount
}

func (g *grouping) join(o *grouping) {
	g.none += o.none
	for i := range o.of {
		g.of[i].Rows, g.of[i].Total = g.of[i].Rows+o.of[i].Rows, g.of[i].Total+o.of[i].Total
	}
}

// group is what came together, the texts with the largest amounts first.
func (g *grouping) group() Group {
	out := Group{Column: g.c.Name, None: g.none}
	for v, t := range g.of {
		if t.Rows == 0 {
			continue
		}
		t.Text = g.c.text(g.p, int64(v))
		out.Texts = append(out.Texts, t)
	}
	slices.SortFunc(out.Texts, func(a, b GroupText) int {
		return cmp.Or(cmp.Compare(b.Total, a.Total), cmp.Compare(b.Rows, a.Rows), cmp.Compare(a.Text, b.Text))
	})
	for _, t := range out.Texts[min(maxTexts, len(out.Texts)):] {
		out.Others, out.Rows, out.Total = out.Others+1, out.Rows+t.Rows, out.Total+t.Total
	}
	out.Texts = out.Texts[:min(maxTexts, len(out.Texts))]
	return out
}

// About tells what is known of a row of the answer, without what is its amount or says so already: "file
// /srv/plates/7.plate", "duration 33 µs".
func (q *Question) About(r *Row) (out []string) {
	values := map[string]Value{}
	for i, v := range r.Values {
		if v.Has {
			values[q.Columns[i].Name] = v
		}
	}
	own := map[measure.Unit]string{measure.Nanoseconds: Duration, measure.Bytes: profile.AttributeMoved}[q.Kind.Unit]
	if q.Column != nil {
		own = q.Column.Name
	}
	for i := range q.Columns {
		c, v := &q.Columns[i], r.Values[i]
		if !v.Has || c.Name == own || c.Name == Name || c.Name == profile.AttributeProcessor || c.Name == profile.AttributeSort {
			continue
		}
		if c.Name == profile.AttributeResult && (values[profile.AttributeMoved].Has || values[profile.AttributeError].Has) {
			continue
		}
		label, text := c.Name, v.Text
		switch c.Type {
		case profile.AttributeText:
			if of := values[profile.AttributeSort]; c.Name == profile.AttributeFile && of.Has {
				label = of.Text
			}
		case profile.AttributeAddress:
			text = fmt.Sprintf("%#x", uint64(v.Number))
		default:
			text = measure.Amount(v.Number, c.Unit())
		}
		if !strings.HasPrefix(text, label+" ") {
			text = label + " " + text
		}
		out = append(out, text)
	}
	return out
}
