package profile

import (
	"errors"
	"fmt"
	"unicode"
	"unicode/utf8"
)

// LongestName bounds the name of a program or a build, in bytes: it stands in
// addresses, in lists and in indexes.
const LongestName = 400

// CheckName refuses a name of a program or a build that could not be kept or
// shown. "" is a name that is found out later.
func CheckName(name string) error {
	if len(name) > LongestName {
		return fmt.Errorf("a name has at most %d bytes, and this one has %d", LongestName, len(name))
	}
	if !utf8.ValidString(name) {
		return errors.New("a name is text in UTF-8")
	}
	for _, r := range name {
		if unicode.IsControl(r) {
			return fmt.Errorf("a name has no control characters, such as %U", r)
		}
	}
	return nil
}

// ThreadWords is a thread as it is shown: "draw 4711", or "goroutine 17, main.serve".
func (p *Profile) ThreadWords(id ThreadID) string {
	t := p.Threads[id]
	name := p.Strings[t.Name]
	switch {
	case t.Goroutine && name == "":
		return fmt.Sprintf("goroutine %d", t.TID)
	case t.Goroutine:
		return fmt.Sprintf("goroutine %d, %s", t.TID, name)
	case MadeUp(p, t):
		return name
	}
	return fmt.Sprintf("%s %d", name, t.TID)
}

// madeUp is from where on numbers of threads stand for none, but for a lane of what was told.
const madeUp = 1<<32 - 16

// MadeUp reports whether there is no thread of this number: what has it was told by somebody who did not
// say which thread it was, or happened in none.
func MadeUp(p *Profile, t Thread) bool {
	return !t.Goroutine && (t.TID == 0 && p.Processes[t.Process].PID != 0 || t.TID >= madeUp)
}
