package measure

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// ErrUnknown is wrapped by what Parse says of a measure that does not exist.
var ErrUnknown = errors.New("there is no such measure")

// Choice is a measure as it is chosen: "cpu", "waiting",
// "allocations:score_alloc@2", "tracepoint:sched:sched_process_fork",
// "function:slur.Route".
type Choice struct {
	Kind     string // the word of one in the table
	Of       string // the function or the tracepoint, "" where it is of nothing
	Argument int    // of an allocating function: which argument is the size, counted from 1; else 0
	// Named are arguments of a function that are kept with each call, as they were written:
	// "slurs=arg2,bars=arg1".
	Named string
}

// NamedArgument is an argument of a function that is kept with each call.
type NamedArgument struct {
	Name   string
	Number int // counted from 1
}

// Arguments are those that are kept with each call.
func (c Choice) Arguments() (out []NamedArgument) {
	for _, part := range strings.FieldsFunc(c.Named, func(r rune) bool { return r == ',' }) {
		name, number, _ := strings.Cut(part, "=arg")
		n, err := strconv.Atoi(number)
		if err != nil {
			continue // Parse refuses it
		}
		out = append(out, NamedArgument{name, n})
	}
	return out
}

// named parts a function's name from the arguments in brackets behind it, if that is what these are.
func named(of string) (name, arguments string, err error) {
	at := strings.LastIndexByte(of, '(')
	if at <= 0 || !strings.HasSuffix(of, ")") || !strings.Contains(of[at:], "=arg") {
		return of, "", nil
	}
	name, arguments = of[:at], strings.ReplaceAll(of[at+1:len(of)-1], " ", "")
	seen := map[string]bool{}
	for _, part := range strings.Split(arguments, ",") {
		word, number, _ := strings.Cut(part, "=arg")
		n, err := strconv.Atoi(number)
		switch {
		case err != nil || n < 1 || n > maxArgument:
			return "", "", fmt.Errorf("the arguments are arg1 to arg%d", maxArgument)
		case !identifier(word) || seen[word]:
			return "", "", fmt.Errorf("an argument has a name of its own, of letters, digits and _")
		}
		seen[word] = true
	}
	return name, arguments, nil
}

// MaxChoices is how many measures a take can have.
const MaxChoices = 100

// maxArgument is the last argument of a function that is passed in a register.
const maxArgument = 6

// Parse reads a measure as it is chosen. Its errors wrap ErrUnknown.
func Parse(text string) (Choice, error) {
	word, of, has := strings.Cut(text, ":")
	c := Choice{Kind: word, Of: of}
	fail := func(why string) (Choice, error) {
		return Choice{}, fmt.Errorf("%q: %s: %w", text, why, ErrUnknown)
	}
	k, ok := kind(word)
	if !ok {
		return Choice{}, fmt.Errorf("%w: %q; choose from %s", ErrUnknown, text, strings.Join(words(), ", "))
	}
	switch k.Of {
	case OfNothing:
		if has {
			return fail("nothing can follow " + word)
		}
	case OfAnAllocator:
		if !has {
			return c, nil
		}
		c.Argument = 1
		if name, n, numbered := strings.Cut(of, "@"); numbered {
			arg, err := strconv.Atoi(n)
			if err != nil || arg < 1 || arg > maxArgument {
				return fail(fmt.Sprintf("the argument's number is from 1 to %d", maxArgument))
			}
			c.Of, c.Argument = name, arg
		}
		if c.Of == "" {
			return fail("write " + word + ":FUNCTION")
		}
	case OfATracepoint:
		if group, name, _ := strings.Cut(of, ":"); !identifier(group) || !identifier(name) {
			return fail("write " + k.Form())
		}
	case OfAProbe:
		if provider, name, _ := strings.Cut(of, ":"); provider == "" || name == "" {
			return fail("write " + k.Form())
		}
	case OfAFunction:
		if of == "" {
			return fail("write " + k.Form())
		}
		if word == Function {
			var err error
			if c.Of, c.Named, err = named(of); err != nil {
				return fail(err.Error())
			}
		}
	}
	return c, nil
}

// Split parts texts that are several measures with commas between them. A text of which
// some part is none stays whole: names of functions may have commas.
func Split(texts []string) (out []string) {
	for _, t := range texts {
		parts := strings.Split(t, ",")
		whole := slices.ContainsFunc(parts, func(p string) bool { _, err := Parse(strings.TrimSpace(p)); return err != nil })
		if whole {
			parts = []string{t}
		}
		for _, p := range parts {
			out = append(out, strings.TrimSpace(p))
		}
	}
	return out
}

// ParseAll reads several measures and drops repeated ones; none at all is
// processor time.
func ParseAll(texts []string) ([]Choice, error) {
	var out []Choice
	for _, t := range texts {
		c, err := Parse(strings.TrimSpace(t))
		if err != nil {
			return nil, err
		}
		if !slices.Contains(out, c) {
			out = append(out, c)
		}
	}
	if len(out) > MaxChoices {
		return nil, fmt.Errorf("%d measures are chosen, and a take has %d at most: %w", len(out), MaxChoices, ErrUnknown)
	}
	if out == nil {
		out = []Choice{{Kind: CPU}}
	}
	return out, nil
}

// String returns the measure as it is chosen.
func (c Choice) String() string {
	switch {
	case c.Argument > 1:
		return fmt.Sprintf("%s:%s@%d", c.Kind, c.Of, c.Argument)
	case c.Named != "":
		return fmt.Sprintf("%s:%s(%s)", c.Kind, c.Of, c.Named)
	case c.Of != "":
		return c.Kind + ":" + c.Of
	}
	return c.Kind
}

// Row returns the table's row of the measure.
func (c Choice) Row() Kind {
	k, _ := kind(c.Kind)
	return k
}

// Columns returns the measure's columns, first what it is mostly chosen for.
func (c Choice) Columns() []Column {
	var out []Column
	for _, row := range c.Row().Columns {
		col := row.with(c.Of)
		col.Kind, col.Of = c.Kind, c.Of
		out = append(out, col)
	}
	return out
}

func kind(word string) (Kind, bool) {
	for _, k := range Kinds {
		if k.Word == word {
			return k, true
		}
	}
	return Kind{}, false
}

func words() []string {
	var out []string
	for _, k := range Kinds {
		out = append(out, k.Word)
	}
	return out
}

// identifier reports whether s can be a kernel name, which becomes part of a path.
func identifier(s string) bool {
	for _, c := range s {
		if c != '_' && (c < '0' || c > '9') && (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') {
			return false
		}
	}
	return s != ""
}
