package workload

import (
	"math"
	"regexp"
	"slices"
	"strings"
	"sync"

	"entelon/core/profile"
)

// Masked stands where a secret stood.
const Masked = "•••"

// secretWords are words of a name whose value is a secret; secretPairs are those that are
// so only together.
var (
	secretWords = []string{"password", "passwd", "passphrase", "pwd", "token", "secret", "apikey", "credential", "credentials", "bearer", "cookie"}
	secretPairs = [][2]string{{"api", "key"}, {"access", "key"}, {"private", "key"}, {"auth", "key"}, {"signing", "key"}, {"encryption", "key"}}
	// public are words that make of a secret the place where it is.
	public = []string{"file", "path", "dir", "env", "name", "id", "type", "count", "limit", "length", "size", "ttl", "url"}
)

// secretName reports whether a flag or a variable of this name holds a secret.
func secretName(name string) bool {
	w := wordsOf(name)
	if slices.ContainsFunc(w, func(x string) bool { return slices.Contains(public, x) }) {
		return false
	}
	if slices.ContainsFunc(w, func(x string) bool { return slices.Contains(secretWords, x) }) {
		return true
	}
	for i := range max(0, len(w)-1) {
		if slices.Contains(secretPairs, [2]string{w[i], w[i+1]}) {
			return true
		}
	}
	return false
}

// secretForms are secrets within a text.
var secretForms = sync.OnceValue(func() []form {
	return []form{
		{regexp.MustCompile(`(://[^/\s:@]*):[^/\s@]+@`), "${1}:" + Masked + "@"},
		{regexp.MustCompile(`(?i)\b(bearer|basic)(\s+)[A-Za-z0-9+/_.=~-]{8,}`), "${1}${2}" + Masked},
		{regexp.MustCompile(`\beyJ[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]*`), Masked},
		{regexp.MustCompile(`(?i)\b((?:password|passwd|pwd|token|secret|api[_-]?key)["']?\s*[=:]\s*["']?)[^\s"'&,;]+`), "${1}" + Masked},
	}
})

// Mask returns arguments, or variables as KEY=VALUE, in which what looks like a secret
// is replaced, and how many of them have something replaced.
func Mask(args []string) (out []string, masked int) {
	out = make([]string, len(args))
	secret := false // the flag before it says so
	for i, a := range args {
		switch name, value, both := strings.Cut(a, "="); {
		case secret && !isFlag(a):
			out[i] = Masked
		case both && (isFlag(a) || isName(name)) && value != "" && (secretName(name) || looksSecret(value)):
			out[i] = name + "=" + Masked
		case looksSecret(a):
			out[i] = Masked
		default:
			out[i] = maskWithin(a)
		}
		if out[i] != a {
			masked++
		}
		secret = isFlag(a) && !strings.Contains(a, "=") && secretName(a)
	}
	return out, masked
}

// MaskSettings masks what looks like a secret in a take's settings before they are kept or
// shown, unless they say that it stays. They get lists of their own.
func MaskSettings(s *profile.Settings) {
	if s.KeepSecrets {
		return
	}
	for _, list := range []*[]string{&s.Command, &s.Against, &s.Env} {
		if len(*list) > 0 {
			masked, n := Mask(*list)
			*list = masked
			s.Masked += n
		}
	}
}

func maskWithin(a string) string {
	if len(a) > maxArgument*16 {
		return a // a program of its own, such as of a shell
	}
	for _, f := range secretForms() {
		a = f.is.ReplaceAllString(a, f.as)
	}
	return a
}

const (
	minSecret = 20  // bytes of a value that can be a key
	minChance = 3.7 // bits a character of one, by how often each is in it
)

// looksSecret reports whether a value looks like a key: long, of upper and lower case
// letters and digits, without order in them.
func looksSecret(value string) bool {
	if len(value) < minSecret || len(value) > 512 {
		return false
	}
	var upper, lower, digit int
	var count [128]int
	for _, r := range value {
		switch {
		case r >= 'A' && r <= 'Z':
			upper++
		case r >= 'a' && r <= 'z':
			lower++
		case r >= '0' && r <= '9':
			digit++
		case r == '+' || r == '=' || r == '_' || r == '-':
		default:
			return false // a path, an address, a sentence
		}
		count[r]++
	}
	if upper < 2 || lower < 2 || digit < 2 {
		return false
	}
	bits := 0.0
	for _, n := range count {
		if n > 0 {
			p := float64(n) / float64(len(value))
			bits -= p * math.Log2(p)
		}
	}
	return bits >= minChance
}
