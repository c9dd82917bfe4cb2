package calltree_test

import (
	"math/rand/v2"
	"testing"

	"entelon/core/calltree"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/scope"
)

// storage is a profile with processor time and, at a few times, with the sheets in
// stock: a level. by tells where from: what each function holds at each time.
func storage(seed uint64, ordered bool) (p *profile.Profile, by map[string]map[int64]int64) {
	r := rand.New(rand.NewPCG(seed, 2))
	b := profile.NewBuilder()
	b.Measure("cpu", measure.Nanoseconds, measure.Sum)
	b.Measure("sheets", measure.Count, measure.Level)
	mod := b.Module(profile.Module{Path: b.Intern("stockroom"), Kind: profile.KindOwn})
	th := b.Thread(b.Process(1), 1)
	stack := map[string]profile.StackID{}
	by = map[string]map[int64]int64{}
	for _, name := range []string{"shelve", "count", "bind"} {
		f := b.Function(profile.Function{Name: b.Intern(name), Module: mod, Kind: profile.KindOwn})
		stack[name] = b.Push(0, b.Frame(profile.Frame{Function: f}))
		by[name] = map[int64]int64{}
	}
	times := []int64{0, 10, 20, 30, 40}
	if !ordered {
		times = []int64{30, 0, 40, 10, 20}
	}
	for _, at := range times {
		for _, name := range []string{"shelve", "count", "bind"} {
			if name == "bind" && at == 40 { // which holds nothing at the end
				continue
			}
			for range 1 + r.IntN(3) {
				v := 1 + r.Int64N(50)
				by[name][at] += v
				b.Sample(at, th, stack[name], 0, v)
			}
		}
		for range 3 {
			b.Sample(at+5, th, stack["shelve"], 100, 0)
		}
	}
	return b.Profile(), by
}

// TestALevelIsNeverAddedUpOverTime: against what each function held at each time.
func TestALevelIsNeverAddedUpOverTime(t *testing.T) {
	for seed := range uint64(20) {
		for _, ordered := range []bool{true, false} {
			p, by := storage(seed, ordered)
			all := func(at int64) int64 { return by["shelve"][at] + by["count"][at] + by["bind"][at] }
			if got := p.Total(1); got != all(40) {
				t.Fatalf("the whole is %d, not %d", got, all(40))
			}
			tr := calltree.New(p)
			for _, text := range []string{"", "function is bind", "time from 5ns to 35ns", "function is count and time from 10ns", "time to 1ns"} {
				sc, err := scope.Parse(text)
				if err != nil {
					t.Fatal(err)
				}
				from, to, in := int64(0), int64(41), []string{"shelve", "count", "bind"}
				switch text {
				case "function is bind":
					in = []string{"bind"}
				case "time from 5ns to 35ns":
					from, to = 5, 35
				case "function is count and time from 10ns":
					from, in = 10, []string{"count"}
				case "time to 1ns":
					to = 1
				}
				var at []int64
				for _, x := range []int64{0, 10, 20, 30, 40} {
					if x >= from && x < to {
						at = append(at, x)
					}
				}
				held := func(times ...int64) (sum int64) {
					for _, x := range times {
						for _, name := range in {
							sum += by[name][x]
						}
					}
					return sum
				}
				peak := at[0]
				for _, x := range at {
					if all(x) > all(peak) {
						peak = x
					}
				}
				for by, want := range map[measure.Reduction]int64{measure.Last: held(at[len(at)-1]), measure.First: held(at[0]), measure.Peak: held(peak), measure.Mean: held(at...) / int64(len(at))} {
					for _, x := range []*calltree.Tree{tr, tr.In(calltree.Shape{Group: calltree.GroupThread}), tr.In(calltree.Shape{Merge: true, Fold: calltree.FoldForeign})} {
						c := x.CostOf(1, by, sc)
						if got := c.Total(0); got != want || c.Reduced != by {
							t.Errorf("seed %d, in order %v, %q %s: %d, not %d", seed, ordered, text, by, got, want)
						}
						var self int64
						for _, f := range calltree.Functions(x, c) {
							self += f.Self
						}
						if self != want {
							t.Errorf("%q %s: the functions come to %d, not %d", text, by, self, want)
						}
						var threads int64
						for _, th := range x.ThreadsOf(1, by, sc) {
							threads += th.Value
						}
						if threads != want {
							t.Errorf("%q %s: the threads come to %d, not %d", text, by, threads, want)
						}
					}
				}
			}
			if c := tr.Cost(0, scope.Scope{}); c.Total(0) != 1500 || c.Reduced != "" {
				t.Errorf("a sum is %d", c.Total(0))
			}
		}
	}
}

// TestALevelWithoutTimes is one snapshot.
func TestALevelWithoutTimes(t *testing.T) {
	p, by := storage(1, true)
	p.Samples.Time = nil
	var want int64
	for _, times := range by {
		for _, v := range times {
			want += v
		}
	}
	for _, r := range measure.Reductions {
		if got := calltree.New(p).CostOf(1, r, scope.Scope{}).Total(0); got != want {
			t.Errorf("%s: %d, not %d", r, got, want)
		}
	}
	if p.Total(1) != want {
		t.Error(p.Total(1))
	}
}
