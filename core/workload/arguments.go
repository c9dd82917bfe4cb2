package workload

import (
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"
	"unicode"

	"entelon/core/profile"
)

// varies stands for what varies from run to run.
const varies = "*"

const (
	// maxArguments bounds the arguments that are looked at, and maxArgument the bytes of
	// each: what is beyond them does not tell workloads apart.
	maxArguments = 1000
	maxArgument  = 4 << 10
)

// general returns a command's arguments without what varies: the program's own name,
// temporary names, ports, seeds, numbers of processes, times and random names.
// Secrets are masked. A value that a flag has after "=" is an argument of its own.
func general(s *profile.Settings) []string {
	if len(s.Command) == 0 {
		return nil
	}
	args := s.Command[1:]
	if len(args) > maxArguments {
		args = args[:maxArguments]
	}
	args, _ = Mask(args)
	out := make([]string, 0, len(args))
	flag, script := "", interpreted(s)
	for _, a := range args {
		a = bounded(a, maxArgument)
		switch name, value, both := strings.Cut(a, "="); {
		case isFlag(a) && both:
			out = append(out, name, generalValue(name, relative(value, s.Dir)))
			flag = ""
		case isFlag(a):
			out = append(out, a)
			flag = a
		case script:
			// The script is the program, wherever it lies.
			out, script, flag = append(out, path.Base(a)), false, ""
		case both && isName(name):
			out = append(out, name+"="+generalValue(name, relative(value, s.Dir)))
			flag = ""
		default:
			out = append(out, generalValue(flag, relative(a, s.Dir)))
			flag = ""
		}
	}
	return out
}

func isFlag(a string) bool {
	return len(a) > 1 && a[0] == '-' && a != "--" && !numeric(a[1:])
}

func numeric(a string) bool {
	return a != "" && strings.Trim(a, "0123456789.") == ""
}

func isName(a string) bool {
	return a != "" && strings.IndexFunc(a, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) && r != '_' && r != '-' }) < 0
}

// relative is a path as it is seen from the directory that the command ran in.
func relative(a, dir string) string {
	if rest, ok := strings.CutPrefix(a, dir+"/"); ok && dir != "" && dir != "/" {
		return rest
	}
	return strings.TrimPrefix(a, "./")
}

// ordered puts flags, each with the argument after it, into one order, and what else
// there is behind them in its own.
func ordered(args []string) []string {
	var flags, rest []string
	for i := 0; i < len(args); i++ {
		switch {
		case args[i] == "--":
			rest = append(rest, args[i:]...)
			i = len(args)
		case !isFlag(args[i]):
			rest = append(rest, args[i])
		case i+1 < len(args) && !isFlag(args[i+1]) && args[i+1] != "--":
			flags = append(flags, args[i]+" "+args[i+1])
			i++
		default:
			flags = append(flags, args[i])
		}
	}
	slices.Sort(flags)
	return append(flags, rest...)
}

// varying are the words of a flag's name whose numbers vary from run to run.
var varying = []string{"port", "seed", "pid", "fd", "nonce", "uuid", "timestamp"}

// generalValue is a value, given the flag before it or the name that it belongs to.
func generalValue(name, value string) string {
	if name != "" && numeric(value) {
		for _, w := range wordsOf(name) {
			if slices.Contains(varying, w) {
				return varies
			}
		}
	}
	for _, x := range general1() {
		value = x.is.ReplaceAllString(value, x.as)
	}
	if !strings.Contains(value, "/") {
		if random(value) {
			return varies
		}
		return value
	}
	steps := strings.Split(value, "/")
	for i, s := range steps {
		if random(s) {
			steps[i] = varies
		}
	}
	return strings.Join(steps, "/")
}

// general1 are the forms of what varies.
var general1 = sync.OnceValue(func() []form {
	return []form{
		{regexp.MustCompile(`\b[0-9a-fA-F]{8}(?:-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}\b`), varies},
		{regexp.MustCompile(`\b\d{4}-\d\d-\d\d[T_ ]\d\d[:-]?\d\d(?:[:-]?\d\d(?:\.\d+)?)?(?:Z|[+-]\d\d:?\d\d)?\b`), varies},
		{regexp.MustCompile(`((?:^|[\s'"=@/])(?:localhost|\d{1,3}(?:\.\d{1,3}){3}|\[[0-9a-fA-F:]*\])?):\d{2,5}\b`), "${1}:" + varies},
		{regexp.MustCompile(`(://[^/\s:@]+):\d{2,5}\b`), "${1}:" + varies},
		// A folder that was made for one run; a file in it keeps its name.
		{regexp.MustCompile(`((?:/var)?/tmp|/dev/shm|/run/user/\d+)/[^\s'"]*/`), "${1}/" + varies + "/"},
		{regexp.MustCompile(`\btmp[._-][A-Za-z0-9_]{6,}`), varies},
	}
})

// random reports whether a name looks as if it had been made by chance: a long number,
// a long hexadecimal one, or letters and digits that take turns.
func random(name string) bool {
	if i := strings.IndexByte(name, '.'); i > 0 {
		name = name[:i]
	}
	if len(name) < 8 {
		return false
	}
	turns, hexadecimal, letters := 0, true, 0
	var before rune
	for i, r := range name {
		switch {
		case unicode.IsDigit(r):
		case unicode.IsLetter(r):
			letters++
		default:
			return false
		}
		hexadecimal = hexadecimal && strings.ContainsRune("0123456789abcdefABCDEF", r)
		if i > 0 && unicode.IsDigit(r) != unicode.IsDigit(before) {
			turns++
		}
		before = r
	}
	return turns >= 4 || hexadecimal && len(name) >= 16 && turns > 0 || letters == 0 && len(name) >= 12
}

// wordsOf are the words of which a name is made: "--listenPort" is listen and port.
func wordsOf(name string) (out []string) {
	var word strings.Builder
	end := func() {
		if word.Len() > 0 {
			out = append(out, strings.ToLower(word.String()))
			word.Reset()
		}
	}
	var before rune
	for _, r := range name {
		switch {
		case !unicode.IsLetter(r) && !unicode.IsDigit(r):
			end()
		case unicode.IsUpper(r) && unicode.IsLower(before):
			end()
			word.WriteRune(r)
		default:
			word.WriteRune(r)
		}
		before = r
	}
	end()
	return out
}

// form is how a part of a text looks, and what stands for it.
type form struct {
	is *regexp.Regexp
	as string
}
