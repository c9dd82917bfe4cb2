package scope

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/alecthomas/participle/v2"
	"github.com/alecthomas/participle/v2/lexer"
)

// token is a piece of an expression with where it begins, in bytes.
type token struct {
	text  string
	word  bool // not quoted, and no sign
	quote bool
	at    int
}

// value is the text that is meant.
func (t token) value() string { return (&textNode{Quoted: quotedOf(t), Word: t.text}).value() }

func quotedOf(t token) *string {
	if t.quote {
		return &t.text
	}
	return nil
}

// tokens splits a text as far as it can be split.
func tokens(text string) (out []token, rest int) {
	lx, err := rules().LexString("", text)
	if err != nil {
		return nil, 0
	}
	kinds := rules().Symbols()
	for {
		t, err := lx.Next()
		if err != nil || t.EOF() {
			if err != nil && len(out) > 0 {
				last := out[len(out)-1]
				return out, last.at + len(last.text)
			}
			return out, len(text)
		}
		if t.Type == kinds["Space"] {
			continue
		}
		out = append(out, token{t.Value, t.Type == kinds["Word"], t.Type == kinds["Quoted"], t.Pos.Offset})
	}
}

// expected is what may come next in an expression.
type expected struct {
	want  want
	field string // whose names are wanted
	open  int    // brackets
	event bool   // it is behind "in events where"
}

type want uint8

const (
	wantCondition want = iota
	wantVerb           // "is", "matches", or for a measure "over"
	wantNotOrName      // behind "is"
	wantName
	wantMore // another name, or "and", "or"
	wantTimeWord
	wantAmount
	wantUnit
	wantTo
	wantLeast
	wantJoin
	wantLabelName
	wantLabelIs
	wantSpanWord
	wantLonger // another name, how long, or "and", "or"
	wantThan
	wantEventsWord
	wantWhereWord
	wantByWord
	wantThreadWord
)

// follow says what may come behind these tokens.
func follow(ts []token) expected {
	at := expected{}
	path := false
	for _, t := range ts {
		w := t.text
		switch {
		case at.want == wantCondition && w == "(" && !t.quote:
			at.open++
		case at.want == wantCondition && w == "not":
		case at.want == wantCondition && w == "idle":
			at.want = wantJoin
		case at.want == wantCondition && w == "time":
			at.want, at.field = wantTimeWord, "time"
		case at.want == wantCondition && w == "during":
			at.want, at.field = wantSpanWord, duringField
		case at.want == wantCondition && w == "in" && !at.event:
			at.want = wantEventsWord
		case at.want == wantEventsWord:
			at.want = wantWhereWord
		case at.want == wantWhereWord:
			at.want, at.event = wantCondition, true
		case at.want == wantCondition && w == "woken":
			at.want = wantByWord
		case at.want == wantByWord:
			at.want = wantThreadWord
		case at.want == wantThreadWord:
			at.want, at.field = wantName, "thread"
		case at.want == wantSpanWord:
			at.want = wantName
		case at.want == wantLonger && (w == "longer" || w == "shorter") || at.want == wantUnit && w == "shorter" || at.want == wantTo && w == "shorter":
			at.want = wantThan
		case at.want == wantThan:
			at.want = wantAmount
		case at.want == wantCondition && w == "label":
			at.want, at.field = wantLabelName, "label"
		case at.want == wantLabelName:
			at.want, at.field = wantLabelIs, labelField(t.value())
		case at.want == wantLabelIs:
			at.want = wantNotOrName
		case at.want == wantCondition && at.event && !slices.Contains(fieldNames, w):
			at.want, at.field = wantVerb, eventField(t.value())
		case at.want == wantCondition:
			at.want, at.field, path, at.event = wantVerb, w, w == "path", false
		case at.want == wantVerb && (w == "is" || w == "matches"):
			at.want = wantNotOrName
		case at.want == wantVerb && slices.Contains([]string{"over", "under", "<", ">", "<=", ">="}, w):
			at.want = wantAmount
		case at.want == wantVerb && w == "at":
			at.want = wantLeast
		case at.want == wantLeast:
			at.want = wantAmount
		case at.want == wantNotOrName && w == "not":
			at.want = wantName
		case at.field == duringField && at.want == wantName:
			at.want = wantLonger
		case at.want == wantLonger && w == ",":
			at.want = wantName
		case at.want == wantNotOrName || at.want == wantName:
			at.want = wantMore
		case at.want == wantMore && (w == "," || w == ">" && path):
			at.want = wantName
		case at.want == wantTimeWord && (w == "from" || w == "to") || at.want == wantTo && w == "to" || at.want == wantUnit && w == "to":
			at.want = wantAmount
		case at.want == wantAmount:
			at.want = wantUnit
			if strings.TrimLeft(w, "0123456789.") != "" {
				at.want = wantTo
			}
		case at.want == wantUnit && slices.Contains(unitNames, w):
			at.want = wantTo
		case w == "and" || w == "or":
			at.want, at.field = wantCondition, ""
		case w == ")":
			at.open--
			at.want = wantJoin
		}
	}
	return at
}

var unitNames = []string{"s", "ms", "µs", "us", "ns", "min", "B", "kB", "MB", "GB", "KiB", "MiB", "GiB"}

// words lists the words of the language that may come, without names.
func (at expected) words() []string {
	switch at.want {
	case wantCondition:
		var first []string
		if at.event {
			first = slices.Clone(eventWords)
		}
		return append(append(first, fieldNames...), "time", "path", "idle", "label", "during", "in", "woken", "not", "(")
	case wantVerb:
		switch {
		case at.field == "path":
			return []string{"is", "is not"}
		case slices.Contains(fieldNames, at.field):
			return []string{"is", "is not", "matches"}
		case at.field == eventField(eventKind) || at.field == eventField(eventName):
			return []string{"is", "is not", "matches"}
		case at.event && at.field != eventField(eventDuration):
			return []string{"is", "is not", "matches", "over", "under", "at least", "at most"}
		}
		return []string{"over", "under", "at least", "at most"}
	case wantLabelIs:
		return []string{"is", "is not", "matches"}
	case wantSpanWord:
		return []string{"span"}
	case wantEventsWord:
		return []string{"events"}
	case wantWhereWord:
		return []string{"where"}
	case wantByWord:
		return []string{"by"}
	case wantThreadWord:
		return []string{"thread"}
	case wantLonger:
		return append([]string{"longer", "shorter", ","}, at.joins()...)
	case wantThan:
		return []string{"than"}
	case wantNotOrName:
		return []string{"not"}
	case wantMore:
		joins := at.joins()
		if at.field == "path" {
			return append(joins, ">")
		}
		return append(joins, ",")
	case wantTimeWord:
		return []string{"from", "to"}
	case wantUnit:
		if at.field == "time" || at.field == duringField {
			return []string{"s", "ms", "µs", "ns"}
		}
		return append(append([]string{}, unitNames...), at.joins()...)
	case wantTo:
		if at.field == "time" {
			return append([]string{"to"}, at.joins()...)
		}
		return at.joins()
	case wantLeast:
		return []string{"least", "most"}
	case wantJoin:
		return at.joins()
	}
	return nil
}

func (at expected) joins() []string {
	if at.open > 0 {
		return []string{"and", "or", ")"}
	}
	return []string{"and", "or"}
}

// expected says in words what may come.
func (at expected) expected() string {
	switch at.want {
	case wantCondition:
		return "a condition, such as: thread is worker-1"
	case wantNotOrName, wantName:
		if at.field == "" {
			return "a name"
		}
		if at.field == duringField {
			return "the name of a span"
		}
		if name, ok := strings.CutPrefix(at.field, eventField("")); ok {
			return fmt.Sprintf("the %s of an event", name)
		}
		if name, ok := strings.CutPrefix(at.field, labelField("")); ok {
			return fmt.Sprintf("a value of the label %s", quote(name))
		}
		return fmt.Sprintf("the name of a %s", at.field)
	case wantLabelName:
		return "the name of a label"
	case wantAmount:
		return "a number with its unit, such as 5 ms"
	}
	ws := at.words()
	for i, w := range ws {
		ws[i] = `"` + w + `"`
	}
	if len(ws) > 1 {
		return strings.Join(ws[:len(ws)-1], ", ") + " or " + ws[len(ws)-1]
	}
	return ws[0]
}

// signs are what others write for words of the language.
var signs = map[string]string{
	"=": "is", "==": "is", "!=": "is not", "<": "under", ">": "over", ">=": "at least", "<=": "at most", "&&": "and", "&": "and", "||": "or", "|": "or", "!": "not",
	"AND": "and", "OR": "or", "NOT": "not", "Is": "is", "IS": "is",
}

// explain makes a sentence of the parser's error, with a correction where one
// is near.
func explain(text string, err error) *SyntaxError {
	at := len(text)
	var pe participle.Error
	if errors.As(err, &pe) {
		at = pe.Position().Offset
	}
	ts, rest := tokens(text)
	var le *lexer.Error
	if errors.As(err, &le) {
		at = max(at, rest)
		for at < len(text) && text[at] == ' ' {
			at++
		}
	}
	before := ts[:0:0]
	var bad *token
	for i, t := range ts {
		if t.at >= at {
			bad = &ts[i]
			break
		}
		before = append(before, t)
	}
	// The parser may have gone back to the beginning of a condition; what is
	// wrong is then further on, where the words stop making sense.
	for bad != nil {
		p := follow(before)
		if !fitsPlace(p, *bad) {
			break
		}
		before = append(before, *bad)
		if len(before) == len(ts) {
			bad = nil
		} else {
			bad = &ts[len(before)]
		}
	}
	e := &SyntaxError{Text: text}
	next := follow(before)
	switch {
	case at < len(text) && text[at] == '"' && strings.Count(text[at:], `"`) == 1:
		e.At, e.Problem, e.Correction = at, "the quotes are not closed", text+`"`
	case bad == nil && rest < len(text):
		at = rest
		for at < len(text) && text[at] == ' ' {
			at++
		}
		e.At = at
		sign := strings.TrimRight(text[at:min(len(text), at+2)], " abcdefghijklmnopqrstuvwxyz0123456789")
		e.Problem = fmt.Sprintf("%q means nothing here; expected is %s", sign, next.expected())
		if w, ok := signs[sign]; ok {
			e.Correction = text[:at] + spaced(w, text[:at], text[at+len(sign):]) + text[at+len(sign):]
		}
	case bad == nil:
		e.At = len(text)
		e.Problem = "the expression ends here; expected is " + next.expected()
		if next.open > 0 && slices.Contains(next.words(), ")") {
			e.Problem = "a bracket is not closed"
			e.Correction = text + strings.Repeat(")", next.open)
		}
	default:
		e.At = bad.at
		e.Problem = fmt.Sprintf("%q is not expected here, but %s", bad.text, next.expected())
		near := signs[bad.text]
		if near == "" && bad.word {
			near = nearest(bad.text, next.words())
		}
		if near != "" {
			e.Correction = text[:bad.at] + spaced(near, text[:bad.at], text[bad.at+len(bad.text):]) + text[bad.at+len(bad.text):]
		}
	}
	e.At = utf8.RuneCountInString(text[:e.At])
	return e
}

// spaced puts spaces around a word where what stands beside it has none.
func spaced(word, before, behind string) string {
	if before != "" && !strings.HasSuffix(before, " ") {
		word = " " + word
	}
	if behind != "" && !strings.HasPrefix(behind, " ") {
		word += " "
	}
	return word
}

// fitsPlace reports whether a token may come at a place.
func fitsPlace(at expected, t token) bool {
	if t.quote {
		return at.want == wantNotOrName || at.want == wantName || at.want == wantLabelName
	}
	switch at.want {
	case wantCondition:
		return t.text == "(" || t.word && !slices.Contains([]string{"and", "or", "is", "matches", "over", "under", "at", "from", "to"}, t.text)
	case wantNotOrName, wantName, wantLabelName:
		return t.word && (t.text == "not" && at.want == wantNotOrName || !slices.Contains(reserved, t.text))
	case wantAmount:
		return t.word && t.text[0] >= '0' && t.text[0] <= '9'
	}
	for _, w := range at.words() {
		if first, _, _ := strings.Cut(w, " "); first == t.text {
			return true
		}
	}
	return false
}
