package match

import (
	"regexp"
	"strings"

	"entelon/core/profile"
)

// What compilers put behind names: parts and clones of functions, the numbers of
// closures, the hashes of Rust.
var (
	compilersSuffix = regexp.MustCompile(`(\.(isra|part|constprop|cold|lto_priv|llvm|localalias|clone)(\.[0-9]+)*|\.[0-9]+| \[clone [^\]]*\]|-fm|-range[0-9]+|::h[0-9a-f]{16})+$`)
	closureNumber   = regexp.MustCompile(`(func|gowrap|deferwrap|lambda#|\{closure#|lambda_)[0-9]+(\.[0-9]+)*`)
)

// plainName leaves out of a name what changes without the function being
// another one: generic and template arguments, parameters, compilers' suffixes
// and the numbers of closures.
func plainName(name string) string {
	name = compilersSuffix.ReplaceAllString(name, "")
	name = closureNumber.ReplaceAllString(name, "$1")
	return withoutArguments(name)
}

// withoutArguments leaves out what stands in angle and square brackets, and a
// parameter list at the end. Brackets of operators stay.
func withoutArguments(name string) string {
	var b strings.Builder
	depth := 0
	for i := 0; i < len(name); i++ {
		c := name[i]
		operator := strings.HasSuffix(name[:i], "operator") || strings.HasSuffix(name[:i], "operator"+string(c)) || c == '>' && i > 0 && name[i-1] == '-'
		switch {
		case (c == '<' || c == '[') && !operator:
			if i > 0 { // a name that is one bracket, as of a mark, stays
				depth++
				continue
			}
			return name
		case (c == '>' || c == ']') && depth > 0 && !operator:
			depth--
			continue
		}
		if depth == 0 {
			b.WriteByte(c)
		}
	}
	out := b.String()
	if depth > 0 {
		return name // unbalanced: nothing is sure
	}
	if i := strings.IndexByte(out, '('); i > 0 && strings.HasSuffix(out, ")") && out[i-1] != '.' && !strings.HasPrefix(out[i:], "(anonymous namespace)") {
		out = out[:i]
	}
	return out
}

// lastName is the last part of a function's name: without package, namespace,
// class and parameters.
func lastName(name string) string {
	s := plainName(profile.Short(name))
	if i := strings.LastIndex(s, "::"); i >= 0 {
		s = s[i+2:]
	}
	if i := strings.LastIndexByte(s, '.'); i >= 0 && i+1 < len(s) {
		s = s[i+1:]
	}
	return s
}

// alike is how many pairs of letters two names share, from 0 to 1 (Dice's
// coefficient).
func alike(a, b string) float64 {
	a, b = strings.ToLower(a), strings.ToLower(b)
	if a == b {
		return 1
	}
	if len(a) < 2 || len(b) < 2 {
		return 0
	}
	pairs := map[string]int{}
	for i := 0; i+2 <= len(a); i++ {
		pairs[a[i:i+2]]++
	}
	common := 0
	for i := 0; i+2 <= len(b); i++ {
		if pairs[b[i:i+2]] > 0 {
			pairs[b[i:i+2]]--
			common++
		}
	}
	return 2 * float64(common) / float64(len(a)+len(b)-2)
}

// otherForm says in what two names of one function differ.
func otherForm(a, b *entry) string {
	x, y := compilersSuffix.ReplaceAllString(a.Name, ""), compilersSuffix.ReplaceAllString(b.Name, "")
	switch {
	case x == y:
		return "the same name but for what the compiler put behind it"
	case closureNumber.ReplaceAllString(x, "$1") == closureNumber.ReplaceAllString(y, "$1"):
		return "the same name but for the number of a closure"
	}
	return "the same name but for its arguments"
}
