package scope_test

import (
	"slices"
	"testing"

	"entelon/core/invent"
	"entelon/core/scope"
)

// TestSieveIsSelect: taken apart or not, a scope counts the same samples.
func TestSieveIsSelect(t *testing.T) {
	for seed := range uint64(12) {
		p := invent.Profile(seed, invent.Small)
		name := p.FunctionName(3)
		for _, text := range []string{
			"", "time from 0.2 s to 0.9 s", "not time from 0.2 s to 0.9 s", "time from 0.2 s and time to 0.5 s", "time from 0.9 s and time to 0.2 s",
			"function is \"" + name + "\"", "not function is \"" + name + "\" and time from 0.1 s", "not idle and code is own",
			"thread is 101 and time to 0.8 s", "thread is 101 or function is \"" + name + "\"", "build is none", "program is p and not idle",
			"thread is 101 and cpu over 1 ms and not idle", "label page is 2 and thread is 100 and cpu under 0.7 ms and calls at most 1", "not (label page is 2 or thread is 101) and span is not draw", "label page is 1 or code is own and time to 0.7 s",
		} {
			sc, err := scope.Parse(text)
			if err != nil {
				t.Fatal(err)
			}
			sc = sc.Of(scope.About{Program: "p", Build: "b"})
			want := sc.Select(p)
			for _, ordered := range []bool{false, slices.IsSorted(p.Samples.Time)} {
				got := make([]bool, len(want))
				sc.Sieve(p, ordered).Each(p, func(i int) { got[i] = true })
				if !slices.Equal(got, want) {
					t.Errorf("seed %d, %q, in order of time %v: taken apart it counts other samples", seed, text, ordered)
				}
			}
		}
	}
}
