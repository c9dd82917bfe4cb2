package scope

import (
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"

	"github.com/alecthomas/participle/v2"
	"github.com/alecthomas/participle/v2/lexer"

	"entelon/core/profile"
	"entelon/core/scope/language"
)

// The grammar, in docs/scope.md in the notation of RFC 5234. The structures
// below are what the parser fills; expressions are made from them.
type (
	anyNode struct {
		All []*allNode `parser:"@@ ('or' @@)*"`
	}
	allNode struct {
		One []*oneNode `parser:"@@ ('and' @@)*"`
	}
	oneNode struct {
		Not   *oneNode       `parser:"  'not' @@"`
		Group *anyNode       `parser:"| '(' @@ ')'"`
		Is    *conditionNode `parser:"| @@"`
	}
	conditionNode struct {
		Pos    lexer.Position
		Idle   bool        `parser:"  @'idle'"`
		Time   *timeNode   `parser:"| 'time' @@"`
		Path   *pathNode   `parser:"| 'path' @@"`
		Label  *labelNode  `parser:"| 'label' @@"`
		During *duringNode `parser:"| 'during' @@"`
		In     *inNode     `parser:"| 'in' @@"`
		Woken  *wokenNode  `parser:"| 'woken' @@"`
		Field  *fieldNode  `parser:"| @@"`
	}
	timeNode struct {
		Pos  lexer.Position
		From *amountNode `parser:"( 'from' @@ )?"`
		To   *amountNode `parser:"( 'to' @@ )?"`
	}
	pathNode struct {
		Not   bool        `parser:"'is' @'not'?"`
		Steps []*textNode `parser:"@@ ('>' @@)*"`
	}
	labelNode struct {
		Name    *textNode  `parser:"@@"`
		Is      *textsNode `parser:"( 'is' @@"`
		Matches *textNode  `parser:"| 'matches' @@ )"`
	}
	fieldNode struct {
		Pos     lexer.Position
		Name    string      `parser:"@Word"`
		Is      *textsNode  `parser:"( 'is' @@"`
		Matches *textNode   `parser:"| 'matches' @@"`
		Over    *amountNode `parser:"| ( 'over' | '>' ) @@"`
		Under   *amountNode `parser:"| ( 'under' | '<' ) @@"`
		Least   *amountNode `parser:"| ( 'at' 'least' | '>=' ) @@"`
		Most    *amountNode `parser:"| ( 'at' 'most' | '<=' ) @@ )"`
	}
	textsNode struct {
		Not   bool        `parser:"@'not'?"`
		Texts []*textNode `parser:"@@ (',' @@)*"`
	}
	textNode struct {
		Pos    lexer.Position
		Quoted *string `parser:"  @Quoted"`
		Word   string  `parser:"| @Word"`
	}
	amountNode struct {
		Pos    lexer.Position
		Number string `parser:"@Word"`
		Unit   string `parser:"@( 'ns' | 'us' | 'µs' | 'ms' | 's' | 'min' | 'B' | 'kB' | 'MB' | 'GB' | 'KiB' | 'MiB' | 'GiB' )?"`
	}
)

// grammar is that of expressions. It is made when it is first needed: most commands parse no scope.
var (
	grammar = sync.OnceValue(func() *participle.Parser[anyNode] {
		return participle.MustBuild[anyNode](participle.Lexer(language.Rules()), participle.Elide("Space"), participle.UseLookahead(2))
	})
)

// maxText bounds what is parsed, and with it how deep brackets are nested.
const maxText = 16 << 10

const maxDepth = 100

func parse(text string) (expression, error) {
	if len(text) > maxText {
		return nil, &SyntaxError{Text: text[:40] + "…", Problem: fmt.Sprintf("the expression is longer than %d bytes", maxText)}
	}
	if !utf8.ValidString(text) {
		return nil, &SyntaxError{Text: strings.ToValidUTF8(text, "?"), Problem: "the expression is not valid text"}
	}
	depth := 0
	for i, r := range text {
		switch r {
		case '(':
			depth++
		case ')':
			depth--
		}
		if depth > maxDepth || strings.Count(text, "not") > 2*maxDepth {
			return nil, &SyntaxError{Text: text, At: utf8.RuneCountInString(text[:i]), Problem: fmt.Sprintf("more than %d brackets are open", maxDepth)}
		}
	}
	tree, err := grammar().ParseString("", text)
	if err != nil {
		return nil, language.Explain(text, err)
	}
	c := converter{text}
	return c.any(tree)
}

// converter makes expressions of what was parsed, and checks what the grammar
// does not: names of fields, amounts, patterns.
type converter struct{ text string }

func (c converter) any(n *anyNode) (expression, error) {
	return joinedOf[any_](n.All, c.all, func(xs any_) expression { return xs })
}

// all joins conditions. Those about events that follow one "in events where" are a part of it.
func (c converter) all(n *allNode) (expression, error) {
	var whole all
	for i := 0; i < len(n.One); i++ {
		one := n.One[i]
		from, inverse := one, false
		for from.Not != nil {
			from, inverse = from.Not, !inverse
		}
		if from.Is == nil || from.Is.In == nil {
			x, err := c.one(one)
			if err != nil {
				return nil, err
			}
			if same, ok := x.(all); ok {
				whole = append(whole, same...)
				continue
			}
			whole = append(whole, x)
			continue
		}
		to := i + 1
		for from.Is.In.Where.Group == nil && to < len(n.One) && eventual(n.One[to]) {
			to++
		}
		x, err := c.inEvents(from.Is.In.Where, n.One[i+1:to])
		if err != nil {
			return nil, err
		}
		whole = append(whole, negated(x, inverse))
		i = to - 1
	}
	if len(whole) == 1 {
		return whole[0], nil
	}
	return whole, nil
}

// joinedOf makes one expression of several: the only one as it is, and those of
// its own kind within it as if their brackets were not there.
func joinedOf[L ~[]expression, N any](nodes []N, convert func(N) (expression, error), whole func(L) expression) (expression, error) {
	var out L
	for _, n := range nodes {
		x, err := convert(n)
		if err != nil {
			return nil, err
		}
		if same, ok := any(x).(L); ok {
			out = append(out, same...)
			continue
		}
		out = append(out, x)
	}
	if len(out) == 1 {
		return out[0], nil
	}
	return whole(out), nil
}

func (c converter) one(n *oneNode) (expression, error) {
	switch {
	case n.Not != nil:
		x, err := c.one(n.Not)
		if err != nil {
			return nil, err
		}
		return negate(x), nil
	case n.Group != nil:
		return c.any(n.Group)
	}
	return c.condition(n.Is)
}

func (c converter) condition(n *conditionNode) (expression, error) {
	switch {
	case n.Idle:
		return idle{}, nil
	case n.Time != nil:
		return c.time(n.Time)
	case n.Path != nil:
		steps, err := c.patterns(n.Path.Steps)
		if err == nil && len(steps) > maxSteps {
			err = c.wrong(n.Pos, fmt.Sprintf("a path has at most %d steps", maxSteps), "")
		}
		return negated(pathExpr{steps}, n.Path.Not), err
	case n.Label != nil:
		name, err := c.patterns([]*textNode{n.Label.Name})
		if err != nil {
			return nil, err
		}
		is, not, err := c.values(n.Label.Is, n.Label.Matches)
		return negated(label{name[0].source, is}, not), err
	}
	switch {
	case n.During != nil:
		return c.during(n.During)
	case n.In != nil:
		return c.inEvents(n.In.Where, nil)
	case n.Woken != nil:
		by, err := c.patterns(n.Woken.By)
		return woken{by}, err
	}
	return c.field(n.Field)
}

func (c converter) time(n *timeNode) (expression, error) {
	if n.From == nil && n.To == nil {
		return nil, c.wrong(n.Pos, `"time" is followed by "from" or "to" and a time, such as: time from 3.2 s to 5.9 s`, "")
	}
	var out between
	for _, x := range []struct {
		n    *amountNode
		into *int64
	}{{n.From, &out.from}, {n.To, &out.to}} {
		if x.n == nil {
			continue
		}
		v, unit, err := c.amount(x.n)
		if err != nil {
			return nil, err
		}
		if unit != "ns" {
			return nil, c.wrong(x.n.Pos, "a time has a unit: s, ms, µs or ns", "")
		}
		*x.into = v
	}
	if n.To != nil && out.to <= out.from {
		return nil, c.wrong(n.To.Pos, "the time ends before it begins", "")
	}
	return out, nil
}

func (c converter) field(n *fieldNode) (expression, error) {
	if n.Is != nil || n.Matches != nil {
		if !slices.Contains(language.FieldNames, n.Name) {
			near := language.Nearest(n.Name, language.FieldNames)
			return nil, c.wrong(n.Pos, fmt.Sprintf("there is no field %q; there are %s", n.Name, strings.Join(language.FieldNames, ", ")), c.replaced(n.Pos, n.Name, near))
		}
		texts, not, err := c.values(n.Is, n.Matches)
		if err != nil {
			return nil, err
		}
		if n.Name == "span" {
			return negated(label{profile.SpanLabel, texts}, not), nil
		}
		if few := fieldValues[n.Name]; few != nil && n.Is != nil {
			for _, t := range n.Is.Texts {
				if v := t.value(); !slices.Contains(few, v) && !strings.ContainsAny(v, "*?") {
					return nil, c.wrong(t.Pos, fmt.Sprintf("%s is one of %s", n.Name, strings.Join(few, ", ")), c.replaced(t.Pos, v, language.Nearest(v, few)))
				}
			}
		}
		return negated(field{n.Name, texts}, not), nil
	}
	by, node := n.comparison()
	if slices.Contains(language.FieldNames, n.Name) {
		return nil, c.wrong(n.Pos, fmt.Sprintf(`%s is not an amount; write "%s is …"`, n.Name, n.Name), "")
	}
	v, unit, err := c.amount(node)
	return amount{n.Name, by, v, unit}, err
}

// comparison is how a field is compared, and with what.
func (n *fieldNode) comparison() (comparison, *amountNode) {
	switch {
	case n.Over != nil:
		return over, n.Over
	case n.Under != nil:
		return under, n.Under
	case n.Least != nil:
		return atLeast, n.Least
	}
	return atMost, n.Most
}

// values reads what stands behind "is" or "matches".
func (c converter) values(is *textsNode, matches *textNode) (texts []pattern, not bool, err error) {
	if matches != nil {
		p, err := matching(matches.value())
		if err != nil {
			return nil, false, c.wrong(matches.Pos, err.Error(), "")
		}
		return []pattern{p}, false, nil
	}
	texts, err = c.patterns(is.Texts)
	return texts, is.Not, err
}

func (t *textNode) value() string {
	if t.Quoted != nil {
		return language.Unquoted(*t.Quoted)
	}
	return t.Word
}

func (c converter) patterns(ns []*textNode) ([]pattern, error) {
	out := make([]pattern, len(ns))
	for i, n := range ns {
		if n.Quoted == nil && slices.Contains(language.Reserved, n.Word) {
			return nil, c.wrong(n.Pos, fmt.Sprintf("%q is a word of the language; put it into quotes if a name is meant", n.Word), "")
		}
		v := n.value()
		if v == "" {
			return nil, c.wrong(n.Pos, "a name cannot be empty", "")
		}
		out[i] = literal(v)
	}
	return out, nil
}

var units = map[string]struct {
	unit string
	size float64
}{
	"ns": {"ns", 1}, "us": {"ns", 1e3}, "µs": {"ns", 1e3}, "ms": {"ns", 1e6}, "s": {"ns", 1e9}, "min": {"ns", 60e9},
	"B": {"bytes", 1}, "kB": {"bytes", 1e3}, "MB": {"bytes", 1e6}, "GB": {"bytes", 1e9}, "KiB": {"bytes", 1 << 10}, "MiB": {"bytes", 1 << 20}, "GiB": {"bytes", 1 << 30}, "": {"count", 1},
}

var glued = regexp.MustCompile(`^([0-9.]+)(\D*)$`)

// amount reads a number with its unit, which may be written together.
func (c converter) amount(n *amountNode) (value int64, unit string, err error) {
	m := glued.FindStringSubmatch(n.Number)
	if m == nil {
		return 0, "", c.wrong(n.Pos, fmt.Sprintf("%q is not a number", n.Number), "")
	}
	number, name := m[1], n.Unit
	if m[2] != "" {
		name = m[2]
	}
	u, ok := units[name]
	v, parseErr := strconv.ParseFloat(number, 64)
	if parseErr != nil || !ok {
		return 0, "", c.wrong(n.Pos, fmt.Sprintf("%q is not an amount; write a number and a unit, such as 5 ms or 16 KiB", n.Number), "")
	}
	if v *= u.size; v > math.MaxInt64/2 {
		return 0, "", c.wrong(n.Pos, "that is too much", "")
	}
	return int64(math.Round(v)), u.unit, nil
}

func (c converter) wrong(at lexer.Position, problem, correction string) *SyntaxError {
	return &SyntaxError{Text: c.text, At: utf8.RuneCountInString(c.text[:min(at.Offset, len(c.text))]), Problem: problem, Correction: correction}
}

// replaced is the text with one word in the place of another, "" where there
// is none.
func (c converter) replaced(at lexer.Position, old, with string) string {
	if with == "" {
		return ""
	}
	begin, end := c.text[:at.Offset], c.text[at.Offset:]
	return begin + strings.Replace(end, old, with, 1)
}
