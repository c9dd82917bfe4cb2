// Package guard holds the loops in which Entelon spends its own time against what they cost when
// that was last accepted: exact runs count the same on every machine, so that a rise of a percent
// shows in one run.
package guard

import (
	"cmp"
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strings"

	"entelon/core/profile"
)

// Figures are what one loop cost.
type Figures struct {
	Instructions int64            `json:"instructions"` // in the rooms of the loop, and in what they call
	Functions    map[string]int64 `json:"functions"`    // of their own, the costliest
}

// maxFunctions is how many functions figures name.
const maxFunctions = 25

// Of adds up a profile of an exact run: what has a function of one of the rooms on its stack.
func Of(p *profile.Profile, rooms []string) Figures {
	inside := make([]bool, p.Stacks.Len()) // a function of the rooms is at or above it
	for s := range inside {
		if s == 0 {
			continue
		}
		name := p.FunctionName(p.FunctionOf(profile.StackID(s)))
		inside[s] = inside[p.Stacks.Parent[s]] || slices.ContainsFunc(rooms, func(room string) bool { return strings.HasPrefix(name, room) })
	}
	out := Figures{Functions: map[string]int64{}}
	for i, s := range p.Samples.Stack {
		if inside[s] {
			v := p.Samples.Values[0][i]
			out.Instructions += v
			out.Functions[p.FunctionName(p.FunctionOf(s))] += v
		}
	}
	names := out.sorted()
	for _, name := range names[min(len(names), maxFunctions):] {
		delete(out.Functions, name)
	}
	return out
}

// sorted are the functions, the costliest first.
func (f *Figures) sorted() []string {
	var names []string
	for name := range f.Functions {
		names = append(names, name)
	}
	slices.SortFunc(names, func(a, b string) int {
		return cmp.Or(cmp.Compare(f.Functions[b], f.Functions[a]), cmp.Compare(a, b))
	})
	return names
}

// Risen says where a loop costs more than it may, "" where it does not: by a share of what it cost
// when that was accepted.
func Risen(before, now Figures, share float64) string {
	if float64(now.Instructions) <= float64(before.Instructions)*(1+share) {
		return ""
	}
	var b strings.Builder
	fmt.Fprintf(&b, "%d instructions, %.2f %% more than the %d that were accepted", now.Instructions, 100*(float64(now.Instructions)/float64(before.Instructions)-1), before.Instructions)
	for _, name := range now.sorted() {
		if d := now.Functions[name] - before.Functions[name]; float64(d) > share/4*float64(before.Instructions) {
			fmt.Fprintf(&b, "\n  %+d in %s", d, name)
		}
	}
	return b.String()
}

// Accepted are the figures of all loops that were accepted, with the compiler that they are of.
type Accepted struct {
	Compiler string             `json:"compiler"`
	Loops    map[string]Figures `json:"loops"`
}

// Read reads them.
func Read(path string) (out Accepted, err error) {
	b, err := os.ReadFile(path)
	if err == nil {
		err = json.Unmarshal(b, &out)
	}
	if err != nil {
		return out, fmt.Errorf("reading what loops may cost: %w", err)
	}
	return out, nil
}

// Write writes them.
func (a Accepted) Write(path string) error {
	b, err := json.MarshalIndent(a, "", "  ")
	if err == nil {
		err = os.WriteFile(path, append(b, '\n'), 0o644)
	}
	if err != nil {
		return fmt.Errorf("writing what loops may cost: %w", err)
	}
	return nil
}
