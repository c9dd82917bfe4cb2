// Package invent makes profiles of random shape for tests, always the same for
// the same seed.
//
// It holds nothing between calls.
package invent

import (
	"fmt"
	"math/rand/v2"

	"entelon/core/measure"
	"entelon/core/profile"
)

// Shape says how large a profile is made.
type Shape struct {
	Functions, Threads, Stacks, Samples, Depth int
}

// Small is a shape with much recursion: few functions in deep stacks.
var Small = Shape{Functions: 12, Threads: 3, Stacks: 200, Samples: 1500, Depth: 14}

// Profile makes a profile with two measures.
func Profile(seed uint64, s Shape) *profile.Profile {
	r := rand.New(rand.NewPCG(seed, 1))
	b := profile.NewBuilder()
	b.Measure("cpu", "ns", measure.Sum)
	b.Measure("calls", "count", measure.Sum)
	frames := make([]profile.FrameID, s.Functions*2)
	for i := range s.Functions {
		kind := []profile.ModuleKind{profile.KindOwn, profile.KindLibrary, profile.KindKernel}[i%3]
		m := b.Module(profile.Module{Path: b.Intern(fmt.Sprintf("/srv/lib%d.so.1", i%3)), Kind: kind})
		f := b.Function(profile.Function{Name: b.Intern(fmt.Sprintf("fn%d", i)), Module: m, File: b.Intern("a.c"), Line: uint32(i), Kind: kind})
		frames[2*i] = b.Frame(profile.Frame{Function: f, Line: uint32(i), Address: uint64(i) * 16, Found: profile.Found(1 + i%6)})
		frames[2*i+1] = b.Frame(profile.Frame{Function: f, Line: uint32(i) + 1, Address: uint64(i)*16 + 4, Inlined: true})
	}
	stacks := []profile.StackID{0}
	depth := []int{0}
	for len(stacks) < s.Stacks {
		i := r.IntN(len(stacks))
		if depth[i] < s.Depth {
			stacks = append(stacks, b.Push(stacks[i], frames[r.IntN(len(frames))]))
			depth = append(depth, depth[i]+1)
		}
	}
	p := b.Process(100)
	b.NameProcess(p, "made")
	for i := range s.Samples {
		t := b.Thread(p, uint32(100+r.IntN(s.Threads)))
		b.NameThread(t, "worker")
		b.Sample(int64(i)*1_000_000+int64(r.IntN(1000))*1000, t, stacks[1+r.IntN(len(stacks)-1)], 1+r.Int64N(2_000_000), r.Int64N(3))
		if i%4 != 3 { // some have labels, drawn beside the others
			set := b.Label(0, "page", fmt.Sprint(i/100%5))
			if i%3 == 0 {
				set = b.Label(set, profile.SpanLabel, []string{"draw", "place"}[i/50%2])
			}
			b.Labelled(set)
		}
	}
	return b.Profile()
}

// Take makes a finished take around a profile.
func Take(seed uint64, s Shape) *profile.Take {
	p := Profile(seed, s)
	return &profile.Take{
		Settings: profile.Settings{Program: "made", Build: "1", Command: []string{"./made", "--scores", "3"}, RateHz: 997, Event: "cpu-clock"},
		Facts:    profile.Facts{DurationNS: 2_000_000_000, CPUNS: p.Total(0), Samples: int64(p.Samples.Len()), UserStacks: 10, Complete: 9, EndedBy: "exit", Warnings: []profile.Warning{}},
		Profile:  p,
		Whole:    true,
	}
}
