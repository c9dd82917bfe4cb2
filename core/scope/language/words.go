// Package language knows the words of scope expressions: how a text is parted into them, what may come
// after what, what is wrong where something else does, and what was probably meant.
//
// The package has no state.
package language

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/alecthomas/participle/v2/lexer"

	"entelon/core/profile"
)

// Rules are those of words. They are made when they are first needed. A word may hold a Go receiver, so
// that methods need no quotes.
var Rules = sync.OnceValue(func() *lexer.StatefulDefinition {
	return lexer.MustSimple([]lexer.SimpleRule{
		{Name: "Space", Pattern: `\s+`},
		{Name: "Quoted", Pattern: `"(\\.|[^"\\])*"`},
		{Name: "Word", Pattern: `(\(\*[\w.]+\)|[^\s,()<>="!])+`},
		{Name: "Sign", Pattern: `>=|<=|[(),<>]`},
	})
})

// Reserved words have to stand in quotes where they are meant as a text.
var Reserved = []string{"and", "or", "not", "is", "matches", "over", "under", "at", "from", "to", "idle", "during", "longer", "shorter", "than", "in", "woken"}

// FieldNames are what a sample can be chosen by, in the order in which they are
// proposed.
var FieldNames = []string{"thread", "process", "function", "top", "module", "code", "state", "program", "build", "workload", "span"}

// wordOnly is a text that needs no quotes; it is the lexer's own rule.
var wordOnly = regexp.MustCompile(`^(\(\*[\w.]+\)|[^\s,()<>="!])+$`)

// Quote writes a text as a word where it can be one.
func Quote(s string) string {
	if wordOnly.MatchString(s) && !slices.Contains(Reserved, s) {
		return s
	}
	return strconv.Quote(s)
}

// Unquoted is the text that is meant by one in quotes.
func Unquoted(text string) string {
	s, err := strconv.Unquote(text)
	if err != nil {
		return strings.Trim(text, `"`)
	}
	return s
}

// What every event has.
const (
	EventKind     = "kind"
	EventName     = "name"
	EventDuration = "duration"
)

// EventField is under what values of what is known of events are proposed.
func EventField(name string) string { return "event " + name }

// EventWords are what can be asked of any event.
var EventWords = []string{EventKind, EventName, EventDuration, profile.AttributeMoved, profile.AttributeFile, profile.AttributeError, profile.AttributeDevice, profile.AttributeResult}

// DuringField is under what names of spans that have a beginning and an end are proposed.
const DuringField = "during"

// LabelField is the field under which the values of a label stand in Names.
func LabelField(name string) string { return "label " + name }

// SyntaxError is what is wrong with the text of an expression.
type SyntaxError struct {
	Text       string // of the whole expression
	At         int    // of the character that is wrong, in characters from 0
	Problem    string // one sentence
	Correction string // of the whole expression, "" where none is near
}

// Error says it in one line.
func (e *SyntaxError) Error() string {
	out := fmt.Sprintf("at character %d: %s", e.At+1, e.Problem)
	if e.Correction != "" {
		out += fmt.Sprintf("; did you mean: %s", e.Correction)
	}
	return out
}

// Marked shows the text with a mark under the character that is wrong.
func (e *SyntaxError) Marked() string {
	return e.Text + "\n" + strings.Repeat(" ", e.At) + "^"
}
