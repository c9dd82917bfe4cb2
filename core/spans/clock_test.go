package spans

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

// TestAlign: a clock that is seconds ahead or behind, and gains 40 millionths, is found by what goes on
// from other spans and arrives after it; spans of clocks that can be right stay where they are.
func TestAlign(t *testing.T) {
	const start = int64(1_780_000_000_000_000_000)
	for _, x := range []struct {
		ahead int64
		drift float64
	}{{3_700_000_000, 40e-6}, {-2_100_000_000, -40e-6}, {5_000_000, 0}} {
		t.Run(fmt.Sprint(x.ahead), func(t *testing.T) {
			rng := rand.New(rand.NewPCG(1, 2))
			theirs := func(ns int64) int64 { return ns + x.ahead + int64(x.drift*float64(ns-start)) }
			var told []Told
			var truth []int64
			for i := range int64(400) {
				put := start + i*50_000_000
				told = append(told, Told{Name: "queue page", Begin: put, End: put + 5_000, Service: "engraved", PID: 1, ID: fmt.Sprint("q", i), Arrived: put + 60_000 + rng.Int64N(5_000_000)})
				truth = append(truth, put)
				// It is taken out of the queue at once, or long after.
				begin := put + 40_000 + rng.Int64N(20_000_000)
				if rng.IntN(4) == 0 {
					begin = put + 40_000 + rng.Int64N(30_000)
				}
				end := begin + 10_000_000 + rng.Int64N(10_000_000)
				told = append(told, Told{Name: "expose", Begin: theirs(begin), End: theirs(end), Service: "platesetter", PID: 2, ID: fmt.Sprint("e", i), Links: []string{fmt.Sprint("q", i)}, Arrived: end + 50_000 + rng.Int64N(400_000)})
				truth = append(truth, begin)
			}
			clocks := Align(told)
			if len(clocks) != 1 || clocks[0].Service != "platesetter" || clocks[0].Spans != 400 {
				t.Fatalf("clocks are %+v", clocks)
			}
			c := clocks[0]
			if c.WithinNS <= 0 || c.WithinNS > 100_000 {
				t.Errorf("its spans are said to be right within %d ns", c.WithinNS)
			}
			if d := c.Drift - x.drift; d < -5e-6 || d > 5e-6 {
				t.Errorf("it is said to gain %v, and does %v", c.Drift, x.drift)
			}
			for i, s := range told {
				if d := s.Begin - truth[i]; d < -c.WithinNS-1000 || d > c.WithinNS+1000 {
					t.Fatalf("span %d (%s) is %d ns from where it was, said to be within %d", i, s.Name, d, c.WithinNS)
				}
			}
		})
	}
}

// TestRelated: what other programs told stays out, but for those of the same traces.
func TestRelated(t *testing.T) {
	id := func(trace byte, span string) string { return strings.Repeat(string('a'+trace), traceLength) + span }
	told := []Told{
		{Name: "ours", PID: 1, ID: id(0, "1")}, {Name: "of our trace", PID: 2, ID: id(0, "2")}, {Name: "strange", PID: 3, ID: id(1, "3")},
		{Name: "unknown", ID: id(2, "4")}, {Name: "ours without an ID", PID: 1}, {Name: "goes on from ours", PID: 4, ID: id(3, "5"), Links: []string{id(0, "1")}},
		{Name: "strange without an ID", PID: 3}, {Name: "of that number elsewhere", PID: 1, Host: "foundry", ID: id(5, "7")}, {Name: "ours, which says where", PID: 1, Host: "atelier"},
		{Name: "goes on from a strange one", PID: 5, ID: id(4, "6"), Links: []string{id(1, "3"), "x"}},
	}
	var names []string
	for _, s := range Related(told, "atelier", map[uint32]bool{1: true}) {
		names = append(names, s.Name)
	}
	if want := []string{"ours", "of our trace", "unknown", "ours without an ID", "goes on from ours", "ours, which says where"}; !slices.Equal(names, want) {
		t.Errorf("related are %q, want %q", names, want)
	}
}

// TestAlignWithoutEvidence: what can be right is left alone, and what arrives before it ended is moved as
// little as must be.
func TestAlignWithoutEvidence(t *testing.T) {
	told := []Told{
		{Name: "draw", Begin: 100, End: 5_000, Service: "engraved", ID: "a", Arrived: 9_000},
		{Name: "file", Begin: 100, End: 5_000, Service: "of a file"},
		{Name: "open", Begin: 100, Service: "without an end", Arrived: 50},
		{Name: "reversed", Begin: 100_000, End: 50_000, Service: "reversed", Arrived: 10},
		{Name: "self", Begin: 300, End: 400, Service: "self", ID: "s", Parent: "s", Links: []string{"s", "", "nobody"}, Arrived: 500},
	}
	was := fmt.Sprint(told)
	if clocks := Align(told); len(clocks) != 0 || fmt.Sprint(told) != was {
		t.Errorf("moved: %+v: %+v", clocks, told)
	}
	told = append(told, Told{Name: "late", Begin: 1_000_000, End: 9_000_000, Service: "ahead", Arrived: 7_000_000})
	clocks := Align(told)
	if len(clocks) != 1 || clocks[0].AheadNS != 2_000_000 || clocks[0].WithinNS != 0 || told[5].End != 7_000_000 || told[5].Begin != -1_000_000 {
		t.Errorf("clocks %+v, %+v", clocks, told[5])
	}
}
