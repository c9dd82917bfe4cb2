package language

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/alecthomas/participle/v2"
	"github.com/alecthomas/participle/v2/lexer"
)

// signs are what others write for words of the language.
var signs = map[string]string{
	"=": "is", "==": "is", "!=": "is not", "<": "under", ">": "over", ">=": "at least", "<=": "at most", "&&": "and", "&": "and", "||": "or", "|": "or", "!": "not",
	"AND": "and", "OR": "or", "NOT": "not", "Is": "is", "IS": "is",
}

// Explain makes a sentence of the parser's error, with a correction where one
// is near.
func Explain(text string, err error) *SyntaxError {
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
		if next.open > 0 && slices.Contains(next.Words(), ")") {
			e.Problem = "a bracket is not closed"
			e.Correction = text + strings.Repeat(")", next.open)
		}
	default:
		e.At = bad.at
		e.Problem = fmt.Sprintf("%q is not expected here, but %s", bad.text, next.expected())
		near := signs[bad.text]
		if near == "" && bad.word {
			near = Nearest(bad.text, next.Words())
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
func fitsPlace(at Place, t token) bool {
	if t.quote {
		return at.want == wantNotOrName || at.want == wantName || at.want == wantLabelName
	}
	switch at.want {
	case wantCondition:
		return t.text == "(" || t.word && !slices.Contains([]string{"and", "or", "is", "matches", "over", "under", "at", "from", "to"}, t.text)
	case wantNotOrName, wantName, wantLabelName:
		return t.word && (t.text == "not" && at.want == wantNotOrName || !slices.Contains(Reserved, t.text))
	case wantAmount:
		return t.word && t.text[0] >= '0' && t.text[0] <= '9'
	}
	for _, w := range at.Words() {
		if first, _, _ := strings.Cut(w, " "); first == t.text {
			return true
		}
	}
	return false
}
