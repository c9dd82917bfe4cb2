package invent

import (
	"fmt"
	"hash/fnv"
	"math"
	"math/rand/v2"
	"slices"
	"time"

	"entelon/core/measure"
	"entelon/core/profile"
)

// Invention says how large a take is invented.
type Invention struct {
	Samples, Stacks int
	Seed            uint64
	// Build is another build of the same program, with the same stacks and other
	// samples; "" is the first.
	Build string
	// Intervals are waits and system calls of so many Lanes, over so many Seconds; 0: as long as
	// the samples take.
	Intervals, Lanes, Seconds int
}

// Words of the engraving shop, of which names are made.
var (
	inventedAreas = []string{"score", "spacing", "beam", "slur", "lyric", "page", "glyph", "staff", "tie", "rest", "chord", "clef", "measure", "system", "ink", "proof"}
	inventedVerbs = []string{"Read", "Space", "Group", "Route", "Place", "Draw", "Measure", "Stretch", "Lift", "Clear", "Outline", "Fold", "Join", "Split", "Sort", "Weigh"}
	inventedNouns = []string{"Notes", "Heads", "Stems", "Flags", "Curves", "Lines", "Bars", "Words", "Pages", "Edges", "Spans", "Marks", "Dots", "Slots", "Rows", "Cues"}
)

// Take invents a take that has the shape of a real one: stacks of 8 to 60
// frames that share their roots, some functions much hotter than others, and
// eight threads over as long a time as so many samples take. It is the same
// for the same numbers.
func (n Invention) Take() *profile.Take {
	r := rand.New(rand.NewPCG(n.Seed, 7))
	b := profile.NewBuilder()
	b.Measure("cpu", "ns", measure.Sum)
	if n.Intervals > 0 {
		for _, name := range counted {
			m, err := measure.Parse(name)
			if err != nil {
				panic(err) // the table has them
			}
			for _, c := range m.Columns() {
				b.Column(c)
			}
		}
	}
	values := make([]int64, len(b.Profile().Measures))
	frames := inventFrames(b, r, n.Stacks)
	stacks := inventStacks(b, r, n.Stacks, frames)
	pid := b.Process(4711)
	b.NameProcess(pid, "invented")
	build := n.Build
	if build == "" {
		build = fmt.Sprintf("seed-%d", n.Seed)
	} else {
		h := fnv.New64a()
		h.Write([]byte(build)) // it never fails
		r = rand.New(rand.NewPCG(n.Seed, h.Sum64()))
	}
	threads := make([]profile.ThreadID, 8)
	for i := range threads {
		threads[i] = b.Thread(pid, uint32(4711+i))
		b.NameThread(threads[i], fmt.Sprintf("worker-%d", i+1))
	}
	const tick = 1_003_009
	// Each thread works at pages, some of the time in a span.
	const longestPage, pages = 60, 24
	sets := make([][]profile.LabelSetID, pages)
	for page := range sets {
		set := b.Label(0, "page", fmt.Sprint(page+1))
		sets[page] = []profile.LabelSetID{set, b.Label(set, profile.SpanLabel, "place"), b.Label(set, profile.SpanLabel, "draw")}
	}
	at, until := make([]profile.LabelSetID, len(threads)), make([]int, len(threads))
	within := make([]int, len(threads)) // when in a tick each thread is sampled, in the order of time
	values[0] = tick
	for i := range n.Samples {
		if i%len(threads) == 0 {
			for k := range within {
				within[k] = r.IntN(tick)
			}
			slices.Sort(within)
		}
		// The rank of a stack falls off as costs do: most of it in few stacks.
		// Every stack is met once first, as far as the samples go.
		rank := i
		if i >= len(stacks) {
			rank = int(float64(len(stacks)) * math.Pow(r.Float64(), 2.6))
		}
		th := i % len(threads)
		b.Sample(int64(i/len(threads))*tick+int64(within[th]), threads[th], stacks[min(rank, len(stacks)-1)], values...)
		if i/len(threads) >= until[th] {
			at[th], until[th] = sets[r.IntN(pages)][r.IntN(3)], i/len(threads)+1+r.IntN(longestPage)
		}
		b.Labelled(at[th])
	}
	p := b.Profile()
	duration := max(int64(n.Samples/len(threads)+1)*tick, int64(n.Seconds)*int64(time.Second))
	facts := n.intervals(b, r, pid, stacks, duration)
	t := &profile.Take{
		Settings: profile.Settings{Program: "invented", Build: build, Command: []string{"entelon", "invent", "--samples", fmt.Sprint(n.Samples), "--stacks", fmt.Sprint(n.Stacks), "--seed", fmt.Sprint(n.Seed)}, RateHz: 997, Event: "invented", Unwind: "invented", Note: "invented; nothing was measured"},
		Facts:    profile.Facts{DurationNS: duration, CPUNS: p.Total(0), Samples: int64(n.Samples), UserStacks: int64(n.Samples), Complete: int64(n.Samples), EndedBy: "exit", Warnings: []profile.Warning{}},
		Machine:  profile.Machine{Host: "nowhere", OS: "none", Processor: "none", Processors: len(threads), StartedAt: time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)},
		Profile:  p, Whole: true,
	}
	t.Facts.Counted = facts
	if n.Intervals > 0 {
		t.Settings.Measures = append([]string{measure.CPU}, counted...)
		t.Facts.Samples += int64(len(counted))
	}
	t.Facts.Warn("invented", "This take is invented: no program was measured.", "Use it to try how Entelon copes with sizes, and for nothing else.")
	return t
}

func inventFrames(b *profile.Builder, r *rand.Rand, stacks int) []profile.FrameID {
	count := min(20_000, 200+stacks/20)
	kinds := []profile.ModuleKind{profile.KindOwn, profile.KindOwn, profile.KindOwn, profile.KindLibrary, profile.KindLibrary, profile.KindRuntime, profile.KindKernel}
	paths := map[profile.ModuleKind]string{profile.KindOwn: "/srv/engraved/bin/invented", profile.KindLibrary: "/srv/engraved/lib/libstave.so.2", profile.KindRuntime: "/srv/engraved/lib/libpress.so.1", profile.KindKernel: "[kernel]"}
	frames := make([]profile.FrameID, count)
	for i := range frames {
		k := kinds[r.IntN(len(kinds))]
		m := b.Module(profile.Module{Path: b.Intern(paths[k]), Kind: k})
		area := inventedAreas[r.IntN(len(inventedAreas))]
		name := fmt.Sprintf("%s.%s%s%d", area, inventedVerbs[r.IntN(len(inventedVerbs))], inventedNouns[r.IntN(len(inventedNouns))], i)
		f := b.Function(profile.Function{Name: b.Intern(name), Module: m, File: b.Intern("invented/" + area + ".go"), Line: uint32(10 + i), Kind: k, Entry: i == 0})
		frames[i] = b.Frame(profile.Frame{Function: f, Line: uint32(12 + i), Address: uint64(i+1) * 64, Found: profile.FoundTables, Inlined: i > 0 && r.IntN(12) == 0})
	}
	return frames
}

// inventStacks grows a prefix tree: a new stack leaves an older one somewhere on
// its way and goes on by itself, so that most are shared near the root.
func inventStacks(b *profile.Builder, r *rand.Rand, count int, frames []profile.FrameID) []profile.StackID {
	root := b.Push(0, frames[0])
	stacks := make([]profile.StackID, 0, count)
	seen := make(map[profile.StackID]bool, count)
	var way []profile.StackID
	p := b.Profile()
	for len(stacks) < count {
		at := root
		if len(stacks) > 0 {
			way = way[:0]
			for s := stacks[int(float64(len(stacks))*math.Pow(r.Float64(), 1.5))]; s != 0; s = p.Stacks.Parent[s] {
				way = append(way, s)
			}
			at = way[r.IntN(len(way))]
		}
		depth := 0
		for s := at; s != 0; s = p.Stacks.Parent[s] {
			depth++
		}
		for more := 1 + r.IntN(12); more > 0 && depth < 60; more-- {
			at = b.Push(at, frames[1+int(float64(len(frames)-1)*math.Pow(r.Float64(), 2))])
			depth++
		}
		if depth >= 3 && !seen[at] {
			seen[at] = true
			stacks = append(stacks, at)
		}
	}
	return stacks
}
