package profile

import "strings"

// Short leaves out what a reader rarely needs of a name: the path before a Go
// package's last element, what a C++ function takes and returns, and the
// arguments of templates and generic types.
func Short(name string) string {
	if strings.HasPrefix(name, "[") {
		return shownMark(name)
	}
	if !strings.ContainsAny(name, "</[(:") {
		return name
	}
	if strings.IndexByte(name, '<') >= 0 {
		for _, part := range pythonParts {
			if strings.Contains(name, part) {
				return strings.ReplaceAll(name, ".<locals>", "")
			}
		}
	}
	if strings.Contains(name, "::") || strings.ContainsAny(name, "<(") && !strings.Contains(name, ".(") {
		if s := shortScoped(name); s != "" {
			return s
		}
	}
	plain, _, generic := strings.Cut(name, "[")
	if i := strings.LastIndexByte(plain, '/'); i >= 0 && !strings.ContainsAny(plain[:i], " (<") && !arity(plain[i+1:]) {
		plain = plain[i+1:]
	}
	if generic {
		plain += "[…]"
	}
	return plain
}

// arity reports whether what is behind a slash is how many arguments a function takes, as
// in Erlang's fib/1.
func arity(s string) bool {
	for i := range len(s) {
		if s[i] < '0' || s[i] > '9' {
			return false
		}
	}
	return s != ""
}

// pythonParts are what Python puts in a qualified name for what has none.
var pythonParts = []string{"<locals>", "<lambda>", "<listcomp>", "<genexpr>", "<dictcomp>", "<setcomp>", "<module>"}

// shortScoped shortens a name of C++ or Rust.
func shortScoped(name string) string {
	var b strings.Builder
	for i := 0; i < len(name); {
		switch rest := name[i:]; {
		case strings.HasPrefix(rest, "operator") && (i == 0 || name[i-1] == ':' || name[i-1] == ' '):
			n := operatorLength(rest)
			b.WriteString(strings.ReplaceAll(rest[:n], " ", "\u00a0"))
			i += n
		case strings.HasPrefix(rest, "(anonymous namespace)"):
			b.WriteString("(anonymous)")
			i += len("(anonymous namespace)")
		case strings.HasPrefix(rest, "{lambda("):
			end := closing(rest[len("{lambda"):]) + len("{lambda")
			b.WriteString("{lambda")
			i += end
		case rest[0] == '(':
			i += closing(rest)
		case rest[0] == '<' && b.Len() == 0: // the type that a trait of Rust is implemented for
			end := closing(rest)
			b.WriteString("<" + shortType(rest[1:max(1, end-1)]) + ">")
			i += end
		case rest[0] == '<':
			b.WriteString("<…>")
			i += closing(rest)
		default:
			b.WriteByte(rest[0])
			i++
		}
	}
	s := strings.TrimSuffix(strings.TrimSpace(b.String()), " const")
	s = strings.TrimRight(s, " &")
	if strings.HasPrefix(s, "<") {
		return strings.ReplaceAll(s, "\u00a0", " ")
	}
	if i := strings.LastIndexByte(s, ' '); i >= 0 { // behind what it returns
		s = s[i+1:]
	}
	return strings.ReplaceAll(strings.TrimLeft(s, "*&"), "\u00a0", " ")
}

// shortType shortens "<a::B as c::D>" to its last elements.
func shortType(s string) string {
	of, trait, both := strings.Cut(s, " as ")
	if !both {
		return lastElement(of)
	}
	return lastElement(of) + " as " + lastElement(trait)
}

func lastElement(s string) string {
	head, _, generic := strings.Cut(s, "<")
	if i := strings.LastIndex(head, "::"); i >= 0 {
		head = head[i+2:]
	}
	if generic {
		head += "<…>"
	}
	return head
}

// operatorLength returns how long the name of an operator at the begin of s is,
// up to its parameters.
func operatorLength(s string) int {
	const word = len("operator")
	if strings.HasPrefix(s[word:], "()") {
		return word + 2
	}
	if i := strings.IndexByte(s[word:], '('); i >= 0 {
		end := word + i
		// The arguments of a template come before the parameters.
		if j := strings.Index(s[word:end], " <"); j > 0 {
			return word + j + 1
		}
		return end
	}
	return len(s)
}

// closing returns the place behind the bracket that closes the one s begins
// with, or the length of s.
func closing(s string) int {
	depth := 0
	for i := 0; i < len(s); i++ {
		switch s[i] {
		case '<', '(', '[', '{':
			depth++
		case '>':
			if i > 0 && s[i-1] == '-' {
				continue
			}
			depth--
		case ')', ']', '}':
			depth--
		}
		if depth == 0 {
			return i + 1
		}
	}
	return len(s)
}
