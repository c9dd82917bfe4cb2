// Package workload finds what a program was made to do in a take, so that only takes of
// the same are measured against each other: the arguments of its command without what
// varies from run to run, or that it was attached to, and the settings of collecting that
// change what is counted.
//
// Nothing is kept between calls, and nothing that is given is changed.
package workload

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"path"
	"slices"
	"strings"
	"unicode"

	"entelon/core/profile"
)

// Workload is what a program was made to do.
type Workload struct {
	Key   string // the same for all takes of one, in hexadecimal
	Words string // what it is called as long as nobody names it
	Given bool   // its name was given with the take
}

// MaxWords bounds the words of a workload, and a given name, in bytes.
const MaxWords = 200

// exactly ends the words of a workload of exact runs: what they count has nothing to do with
// time, so they are never measured against samples.
const exactly = ", exact run"

// kind is how a program came to be sampled.
type kind string

const (
	run      kind = "run"      // launched, and ran to its end
	part     kind = "part"     // launched, and was stopped before its end
	attached kind = "attached" // ran already
	group    kind = "group"    // a control group
	machine  kind = "machine"  // all of it
)

// Of finds the workload of a take by its settings and facts.
func Of(s *profile.Settings, f *profile.Facts) Workload {
	if name := Name(s.Workload); name != "" {
		if f.Exact != nil {
			return Workload{Key: digest("given exact", name), Words: bounded(name+exactly, MaxWords), Given: true}
		}
		return Workload{Key: digest("given", name), Words: name, Given: true}
	}
	k := kindOf(s, f)
	var args []string
	parts := []string{string(k)}
	switch k {
	case group:
		parts = append(parts, s.Group)
	case machine:
	default:
		args = general(s)
		parts = append(parts, ordered(args)...)
	}
	settings := settingsOf(s)
	if f.Exact != nil {
		settings = append(settings, strings.TrimPrefix(exactly, ", "))
		if s.Inside != "" {
			settings = append(settings, fmt.Sprintf("inside %s after %d for %d", s.Inside, s.After, s.Calls))
		}
	}
	for _, x := range settings {
		parts = append(parts, "\x00"+x)
	}
	return Workload{Key: digest(parts...), Words: words(k, s, args, settings)}
}

// Name is a given name as it is kept: on one line, and not too long.
func Name(given string) string {
	return oneLine(given)
}

// oneLine is a text without line breaks and what else steers a terminal, within MaxWords.
func oneLine(text string) string {
	text = strings.Map(func(r rune) rune {
		switch {
		case unicode.IsSpace(r):
			return ' '
		case unicode.IsControl(r):
			return -1
		}
		return r
	}, strings.ToValidUTF8(text, ""))
	return bounded(strings.Join(strings.Fields(text), " "), MaxWords)
}

func kindOf(s *profile.Settings, f *profile.Facts) kind {
	switch {
	case s.Machine:
		return machine
	case s.Group != "":
		return group
	case s.PID != 0 || len(s.PIDs) > 0 || len(s.Command) == 0:
		return attached
	case f.EndedBy == "exit" || f.EndedBy == "":
		return run
	}
	return part
}

// settingsOf are the settings of collecting that change what a take comes to, in words.
func settingsOf(s *profile.Settings) (out []string) {
	if s.Keep != "" {
		out = append(out, "only "+s.Keep)
	}
	if s.Children == "no" {
		out = append(out, "without children")
	}
	env, _ := Mask(s.Env)
	slices.Sort(env)
	for _, kv := range env {
		name, value, _ := strings.Cut(kv, "=")
		out = append(out, name+"="+generalValue(name, value))
	}
	return out
}

// words are what a workload is called as long as nobody names it.
func words(k kind, s *profile.Settings, args, settings []string) string {
	var out string
	switch k {
	case machine:
		out = "whole machine"
	case group:
		out = "control group " + s.Group
	default:
		out = strings.Join(args, " ")
		if out == "" {
			out = "no arguments"
		}
		switch k {
		case attached:
			if len(args) == 0 {
				out = "attached"
			} else {
				out = "attached, " + out
			}
		case part:
			out += ", stopped early"
		}
	}
	for _, x := range settings {
		out += ", " + x
	}
	return oneLine(out)
}

// bounded cuts a text to a number of bytes at the beginning of a character.
func bounded(text string, most int) string {
	if len(text) <= most {
		return text
	}
	return strings.ToValidUTF8(text[:most-len("…")], "") + "…"
}

// digest is a key of 64 bits of the parts, each by itself.
func digest(parts ...string) string {
	h := sha256.New()
	for _, p := range parts {
		h.Write([]byte(p))
		h.Write([]byte{0xff}) // in no text
	}
	return hex.EncodeToString(h.Sum(nil)[:8])
}

// interpreted reports whether a command's first argument is a script: its program has
// another name than what is launched.
func interpreted(s *profile.Settings) bool {
	return len(s.Command) > 1 && s.Program != "" && !strings.HasPrefix(path.Base(s.Command[0]), s.Program)
}
