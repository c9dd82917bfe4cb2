package language

import (
	"fmt"
	"slices"
	"strings"
)

// token is a piece of an expression with where it begins, in bytes.
type token struct {
	text  string
	word  bool // not quoted, and no sign
	quote bool
	at    int
}

// value is the text that is meant.
func (t token) value() string {
	if t.quote {
		return Unquoted(t.text)
	}
	return t.text
}

// tokens splits a text as far as it can be split.
func tokens(text string) (out []token, rest int) {
	lx, err := Rules().LexString("", text)
	if err != nil {
		return nil, 0
	}
	kinds := Rules().Symbols()
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

// Place is what may come next in an expression.
type Place struct {
	want  want
	Field string // whose names are wanted
	open  int    // brackets
	Event bool   // it is behind "in events where"
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
func follow(ts []token) Place {
	at := Place{}
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
			at.want, at.Field = wantTimeWord, "time"
		case at.want == wantCondition && w == "during":
			at.want, at.Field = wantSpanWord, DuringField
		case at.want == wantCondition && w == "in" && !at.Event:
			at.want = wantEventsWord
		case at.want == wantEventsWord:
			at.want = wantWhereWord
		case at.want == wantWhereWord:
			at.want, at.Event = wantCondition, true
		case at.want == wantCondition && w == "woken":
			at.want = wantByWord
		case at.want == wantByWord:
			at.want = wantThreadWord
		case at.want == wantThreadWord:
			at.want, at.Field = wantName, "thread"
		case at.want == wantSpanWord:
			at.want = wantName
		case at.want == wantLonger && (w == "longer" || w == "shorter") || at.want == wantUnit && w == "shorter" || at.want == wantTo && w == "shorter":
			at.want = wantThan
		case at.want == wantThan:
			at.want = wantAmount
		case at.want == wantCondition && w == "label":
			at.want, at.Field = wantLabelName, "label"
		case at.want == wantLabelName:
			at.want, at.Field = wantLabelIs, LabelField(t.value())
		case at.want == wantLabelIs:
			at.want = wantNotOrName
		case at.want == wantCondition && at.Event && !slices.Contains(FieldNames, w):
			at.want, at.Field = wantVerb, EventField(t.value())
		case at.want == wantCondition:
			at.want, at.Field, path, at.Event = wantVerb, w, w == "path", false
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
		case at.Field == DuringField && at.want == wantName:
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
			at.want, at.Field = wantCondition, ""
		case w == ")":
			at.open--
			at.want = wantJoin
		}
	}
	return at
}

var unitNames = []string{"s", "ms", "µs", "us", "ns", "min", "B", "kB", "MB", "GB", "KiB", "MiB", "GiB"}

// Words lists the words of the language that may come, without names.
func (at Place) Words() []string {
	switch at.want {
	case wantCondition:
		var first []string
		if at.Event {
			first = slices.Clone(EventWords)
		}
		return append(append(first, FieldNames...), "time", "path", "idle", "label", "during", "in", "woken", "not", "(")
	case wantVerb:
		switch {
		case at.Field == "path":
			return []string{"is", "is not"}
		case slices.Contains(FieldNames, at.Field):
			return []string{"is", "is not", "matches"}
		case at.Field == EventField(EventKind) || at.Field == EventField(EventName):
			return []string{"is", "is not", "matches"}
		case at.Event && at.Field != EventField(EventDuration):
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
		if at.Field == "path" {
			return append(joins, ">")
		}
		return append(joins, ",")
	case wantTimeWord:
		return []string{"from", "to"}
	case wantUnit:
		if at.Field == "time" || at.Field == DuringField {
			return []string{"s", "ms", "µs", "ns"}
		}
		return append(append([]string{}, unitNames...), at.joins()...)
	case wantTo:
		if at.Field == "time" {
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

func (at Place) joins() []string {
	if at.open > 0 {
		return []string{"and", "or", ")"}
	}
	return []string{"and", "or"}
}

// expected says in words what may come.
func (at Place) expected() string {
	switch at.want {
	case wantCondition:
		return "a condition, such as: thread is worker-1"
	case wantNotOrName, wantName:
		if at.Field == "" {
			return "a name"
		}
		if at.Field == DuringField {
			return "the name of a span"
		}
		if name, ok := strings.CutPrefix(at.Field, EventField("")); ok {
			return fmt.Sprintf("the %s of an event", name)
		}
		if name, ok := strings.CutPrefix(at.Field, LabelField("")); ok {
			return fmt.Sprintf("a value of the label %s", Quote(name))
		}
		return fmt.Sprintf("the name of a %s", at.Field)
	case wantLabelName:
		return "the name of a label"
	case wantAmount:
		return "a number with its unit, such as 5 ms"
	}
	ws := at.Words()
	for i, w := range ws {
		ws[i] = `"` + w + `"`
	}
	if len(ws) > 1 {
		return strings.Join(ws[:len(ws)-1], ", ") + " or " + ws[len(ws)-1]
	}
	return ws[0]
}

// Begun says what stands before the end of a text: what may come there, and a word of it that is begun, as
// it stands there and as it is meant, with where that begins, in bytes.
func Begun(head string) (place Place, begun, meant string, from int) {
	ts, _ := tokens(head)
	from = len(head)
	if k := len(ts); k > 0 && strings.HasSuffix(head, ts[k-1].text) && (ts[k-1].word || ts[k-1].quote) {
		begun = ts[k-1].text
		ts = ts[:k-1]
	} else if i := strings.LastIndexByte(head, '"'); i >= 0 && strings.Count(head, `"`)%2 == 1 {
		begun = head[i:]
	}
	return follow(ts), begun, strings.Trim(begun, `"`), from - len(begun)
}

// WantsName reports whether a name comes next.
func (at Place) WantsName() bool {
	return at.want == wantName || at.want == wantNotOrName || at.want == wantLabelName
}

// WantsCondition reports whether a condition does.
func (at Place) WantsCondition() bool { return at.want == wantCondition }
