package scope

import (
	"fmt"
	"regexp"
	"strings"
)

// wordOnly is a text that needs no quotes; it is the lexer's own rule.
var wordOnly = regexp.MustCompile(`^(\(\*[\w.]+\)|[^\s,()<>="!])+$`)

// pattern is a name in which * stands for any text and ? for any character, or
// a regular expression. Regular expressions take time in proportion to the text
// (they are of RE2's kind), so that none goes on without end.
type pattern struct {
	source string
	star   *regexp.Regexp // nil: the name as it is
	is     bool           // source is a regular expression
}

func literal(s string) pattern {
	p := pattern{source: s}
	if strings.ContainsAny(s, "*?") {
		// A Go receiver's star is a star.
		b := regexp.QuoteMeta(s)
		b = strings.ReplaceAll(b, `\(\*`, "\x00")
		b = strings.ReplaceAll(strings.ReplaceAll(b, `\*`, `.*`), `\?`, `.`)
		if b = strings.ReplaceAll(b, "\x00", `\(\*`); b != regexp.QuoteMeta(s) {
			p.star = regexp.MustCompile(`(?s)^` + b + `$`)
		}
	}
	return p
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
		return pattern{}, fmt.Errorf("no regular expression: %s", strings.TrimPrefix(err.Error(), "error parsing regexp: "))
	}
	return pattern{s, r, true}, nil
}

func (p pattern) regular() bool { return p.is }

// fits reports whether a name is meant.
func (p pattern) fits(name string) bool {
	if p.star == nil {
		return p.source == name
	}
	return p.star.MatchString(name)
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
