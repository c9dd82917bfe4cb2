package scope

import (
	"fmt"
	"regexp"
	"strings"
	"unicode/utf8"
)

// pattern is a name in which * stands for any text and ? for any character, or
// a regular expression. Regular expressions take time in proportion to the text
// (they are of RE2's kind), so that none goes on without end.
type pattern struct {
	source  string
	wild    bool           // it has a * or a ? that means something
	parts   []string       // between its stars, where it has such and no ?
	matches *regexp.Regexp // source is a regular expression; nil: it is none
}

func literal(s string) pattern {
	p := pattern{source: s}
	from := 0
	for i := range len(s) {
		switch {
		case s[i] == '?':
			return pattern{source: s, wild: true}
		case s[i] == '*' && (i == 0 || s[i-1] != '('): // a Go receiver's star is a star
			p.parts = append(p.parts, s[from:i])
			from = i + 1
		}
	}
	if p.parts != nil {
		p.wild, p.parts = true, append(p.parts, s[from:])
	}
	return p
}

// inTurn reports whether a name begins with the first part, ends with the last one
// and has the others between them in their order.
func inTurn(parts []string, name string) bool {
	last := len(parts) - 1
	name, begins := strings.CutPrefix(name, parts[0])
	name, ends := strings.CutSuffix(name, parts[last])
	if !begins || !ends {
		return false
	}
	for _, part := range parts[1:last] {
		at := strings.Index(name, part)
		if at < 0 {
			return false
		}
		name = name[at+len(part):]
	}
	return true
}

// wildly reports whether a name fits a pattern with * and ?. It goes back to the
// last star at most, so that its time is bounded by both lengths' product.
func wildly(pattern, name string) bool {
	p, n, star, from := 0, 0, -1, 0
	for n < len(name) {
		switch {
		case p < len(pattern) && pattern[p] == '*' && (p == 0 || pattern[p-1] != '('):
			star, from = p, n
			p++
		case p < len(pattern) && pattern[p] == '?' && name[n] < utf8.RuneSelf:
			p, n = p+1, n+1
		case p < len(pattern) && pattern[p] == '?':
			_, size := utf8.DecodeRuneInString(name[n:])
			p, n = p+1, n+size
		case p < len(pattern) && pattern[p] == name[n]:
			p, n = p+1, n+1
		case star >= 0:
			from++
			p, n = star+1, from
		default:
			return false
		}
	}
	for p < len(pattern) && pattern[p] == '*' && (p == 0 || pattern[p-1] != '(') {
		p++
	}
	return p == len(pattern)
}

// maxExpression bounds a regular expression; what RE2 makes of one grows with
// its length and its counts.
const maxExpression = 500

func matching(s string) (pattern, error) {
	if len(s) > maxExpression {
		return pattern{}, fmt.Errorf("the regular expression is longer than %d bytes", maxExpression)
	}
	r, err := regexp.Compile(s)
	if err != nil {
		return pattern{}, fmt.Errorf("not a regular expression: %s", strings.TrimPrefix(err.Error(), "error parsing regexp: "))
	}
	return pattern{source: s, matches: r}, nil
}

func (p pattern) regular() bool { return p.matches != nil }

// fits reports whether a name is meant.
func (p pattern) fits(name string) bool {
	switch {
	case p.matches != nil:
		return p.matches.MatchString(name)
	case p.parts != nil:
		return inTurn(p.parts, name)
	case p.wild:
		return wildly(p.source, name)
	}
	return p.source == name
}

// fitsAny reports whether one of the names is meant by one of the patterns.
func fitsAny(ps []pattern, names ...string) bool {
	for _, p := range ps {
		for _, n := range names {
			if n != "" && p.fits(n) {
				return true
			}
		}
	}
	return false
}

// Fits reports whether a name is what a pattern with * and ? says, as names are
// after "is" in an expression.
func Fits(pattern, name string) bool { return literal(pattern).fits(name) }
