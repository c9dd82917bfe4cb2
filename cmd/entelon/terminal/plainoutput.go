// Package terminal writes for people at a terminal: numbers, names and errors in one plain
// line, and nothing that would steer the terminal.
//
// It holds nothing.
package terminal

import (
	"fmt"
	"io"
	"strings"
	"unicode"
	"unicode/utf8"
)

// PlainWriter shows control characters instead of sending them: what a program
// is called shall not steer the terminal of who reads about it.
type PlainWriter struct{ To io.Writer }

// Write implements io.Writer.
func (w PlainWriter) Write(b []byte) (int, error) {
	if _, err := io.WriteString(w.To, Plain(string(b), "\n\t\r")); err != nil {
		return 0, err
	}
	return len(b), nil
}

// plainText shows control characters other than those that are kept.
func Plain(s, kept string) string {
	clean := true
	for _, r := range s {
		if unicode.IsControl(r) && !strings.ContainsRune(kept, r) || r == utf8.RuneError {
			clean = false
			break
		}
	}
	if clean {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		r, n := utf8.DecodeRuneInString(s[i:])
		if r == utf8.RuneError && n == 1 || unicode.IsControl(r) && !strings.ContainsRune(kept, r) {
			for _, c := range []byte(s[i : i+n]) {
				fmt.Fprintf(&b, `\x%02x`, c)
			}
		} else {
			b.WriteString(s[i : i+n])
		}
		i += n
	}
	return b.String()
}
