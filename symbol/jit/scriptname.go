package jit

import (
	"strconv"
	"strings"
)

// ScriptName is what a name in a map of just-in-time code tells of a function
// of a script.
type ScriptName struct {
	Function     string // "(anonymous)" where it has no name
	File         string // "" where the name is not that of a script's function
	Line, Column uint32 // where the function begins, counted from 1
}

// scriptTags begin the names of a script's code; one of the marks behind says
// by which of the runtime's compilers the code was made, which is of no matter
// to who it belongs to.
var scriptTags = []string{"JS:", "Function:", "LazyCompile:", "InterpretedFunction:", "Eval:", "Script:"}

// ParseScriptName reads a name such as "JS:*turn /shop/page.js:12:9"; ok is
// false where it is another kind of name.
func ParseScriptName(s string) (n ScriptName, ok bool) {
	tag := ""
	for _, t := range scriptTags {
		if rest, has := strings.CutPrefix(s, t); has {
			tag, s = t, rest
			break
		}
	}
	if tag == "" {
		return n, false
	}
	s = strings.TrimLeft(s, "*~^+'")
	name, place, _ := strings.Cut(s, " ")
	if rest, number, has := cutLast(place); has {
		n.Column = number
		if rest, number, has = cutLast(rest); has {
			n.Line = number
			place = rest
		}
	}
	n.Function, n.File = name, strings.TrimPrefix(place, "file://")
	switch {
	case name != "":
	case n.Line == 1 && n.Column == 1:
		n.Function = "(top level)"
	default:
		n.Function = "(anonymous)"
	}
	return n, true
}

// cutLast takes a number off the end, behind a colon.
func cutLast(s string) (rest string, n uint32, ok bool) {
	i := strings.LastIndexByte(s, ':')
	if i < 0 {
		return s, 0, false
	}
	v, err := strconv.ParseUint(s[i+1:], 10, 32)
	return s[:i], uint32(v), err == nil
}
