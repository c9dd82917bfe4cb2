package compare

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"entelon/core/match"
	"entelon/core/profile"
	"entelon/core/statistics"
	"entelon/core/until"
)

// Conditions under which takes are made differ, and takes of one workload with them: the
// machine, the rate, what else ran, the day. Takes under the same ones are a block. Where
// both sides have takes in several blocks, they are compared within each, and that is
// combined: with y the logarithm of a take's cost,
//
//	y = block + side + rest,
//
// where a block's effect is estimated as the mean of both sides' means in it and taken off
// its takes, which costs a degree of freedom for each block but one. Blocks in which only
// one side has takes say nothing of the difference, and are left out and counted.
//
// Source: G. E. P. Box, J. S. Hunter and W. G. Hunter, Statistics for Experimenters, 2nd
// edition, 4.2 (blocking).

// ConditionsOf says under what a take was made, as far as that matters to what it comes to,
// each as a name and a value.
func ConditionsOf(t *profile.Take) []match.Condition {
	disturbed := ""
	for _, w := range t.Facts.Warnings {
		if slices.Contains([]string{"busy", "hot", "held-back", "sampled"}, w.Code) {
			disturbed += w.Code + " "
		}
	}
	measures := slices.Clone(t.Settings.Measures)
	slices.Sort(measures)
	return []match.Condition{
		{Name: "machine", Value: t.Machine.Host},
		{Name: "processor", Value: t.Machine.Processor},
		{Name: "kernel", Value: t.Machine.Kernel},
		{Name: "rate", Value: fmt.Sprint(t.Settings.RateHz)},
		{Name: "measures", Value: strings.Join(measures, ", ")},
		{Name: "trigger", Value: t.Trigger()},
		{Name: "disturbance", Value: strings.TrimSpace(disturbed)},
	}
}

// PairsOf is how many pairs a take is one of at most, where they were made until a difference
// was decided; else 0.
func PairsOf(t *profile.Take) int {
	if u, err := until.Parse(t.Settings.Until); err != nil || !u.Decided || t.Settings.Side == "" {
		return 0
	}
	return t.Settings.Turns / 2
}

// apartBy is how long nothing was taken before takes are of another day.
const apartBy = 12 * time.Hour

// blocks are the numbers of the blocks that both sides' runs are in, and what differs
// between blocks, in words.
func blocks(sides [2][]match.Run) (of [2][]int, n int, differs []string) {
	type made struct {
		side, run int
		at        time.Time
	}
	var order []made
	for side, runs := range sides {
		of[side] = make([]int, len(runs))
		for i := range runs {
			order = append(order, made{side, i, runs[i].StartedAt})
		}
	}
	slices.SortStableFunc(order, func(a, b made) int { return cmp.Compare(a.at.UnixNano(), b.at.UnixNano()) })
	numbers, values := map[string]int{}, map[string]map[string]bool{}
	day := 0
	for i, m := range order {
		if i > 0 && !m.at.IsZero() && m.at.Sub(order[i-1].at) > apartBy {
			day++
		}
		key := fmt.Sprint(day)
		for _, c := range append(slices.Clone(sides[m.side][m.run].Conditions), match.Condition{Name: "day", Value: fmt.Sprint(day)}) {
			key += "\x00" + c.Value
			if values[c.Name] == nil {
				values[c.Name] = map[string]bool{}
			}
			values[c.Name][c.Value] = true
		}
		k, known := numbers[key]
		if !known {
			k = len(numbers)
			numbers[key] = k
		}
		of[m.side][m.run] = k
	}
	for name, v := range values {
		if len(v) > 1 {
			differs = append(differs, name)
		}
	}
	slices.Sort(differs)
	return of, len(numbers), differs
}

// block leaves both sides the takes that can be compared within blocks, and gives each its
// block's number. It returns what is to be said.
func (r *Result) block() (out []Remark) {
	of, n, differs := blocks([2][]match.Run{r.a, r.b})
	if n < 2 {
		return nil
	}
	var count [2][]int
	for side := range of {
		count[side] = make([]int, n)
		for _, k := range of[side] {
			count[side][k]++
		}
	}
	shared, left := map[int]bool{}, 0
	for k := range n {
		if count[0][k] > 0 && count[1][k] > 0 {
			shared[k] = true
		} else {
			left += count[0][k] + count[1][k]
		}
	}
	takes := 0
	for k := range shared {
		takes += count[0][k] + count[1][k]
	}
	what := strings.Join(differs, ", ")
	// Each block costs a degree of freedom, and some must be left.
	if takes-len(shared)-1 < 2 {
		return []Remark{{"conditions", 0, -1, fmt.Sprintf("The takes were made under different conditions (%s), so that a difference may come from those.", what),
			"Interleave both sides on one machine, with take --against or a baseline in New take."}}
	}
	number := map[int]int{}
	for side, runs := range []*[]match.Run{&r.a, &r.b} {
		var kept []match.Run
		for i, k := range of[side] {
			if !shared[k] {
				continue
			}
			if _, ok := number[k]; !ok {
				number[k] = len(number)
			}
			kept = append(kept, (*runs)[i])
			r.blockOf[side] = append(r.blockOf[side], number[k])
		}
		*runs = kept
	}
	r.blocks = len(shared)
	if left > 0 {
		out = append(out, Remark{"blocks", 0, -1, fmt.Sprintf("%d takes are left out: under their conditions (%s) only one side was taken.", left, what),
			"Interleave both sides, so that they meet the same conditions."})
	}
	if r.blocks < 2 {
		r.blocks, r.blockOf = 0, [2][]int{}
	} else {
		out = append(out, Remark{"blocks", 0, -1, fmt.Sprintf("The takes were made under %d different conditions (%s), and were compared within each.", r.blocks, what), "Nothing needs to be done."})
	}
	return out
}

// unblock takes the effects of blocks off the costs of both sides.
func unblock(r *Result, a, b *statistics.Quantity) {
	if r.blocks < 2 {
		return
	}
	sum, count := [2][]float64{}, [2][]float64{}
	for side, c := range []*statistics.Quantity{a, b} {
		sum[side], count[side] = make([]float64, r.blocks), make([]float64, r.blocks)
		for i, v := range c.Value {
			sum[side][r.blockOf[side][i]] += v
			count[side][r.blockOf[side][i]]++
		}
	}
	effect, mean, n := make([]float64, r.blocks), 0.0, 0.0
	for k := range effect {
		x, y := sum[0][k]/count[0][k], sum[1][k]/count[1][k]
		if x <= 0 || y <= 0 {
			return // a block has nothing of it on a side: nothing is known of its effect
		}
		effect[k] = (math.Log(x) + math.Log(y)) / 2
		w := count[0][k] + count[1][k]
		mean, n = mean+w*effect[k], n+w
	}
	for side, c := range []*statistics.Quantity{a, b} {
		for i := range c.Value {
			c.Value[i] *= math.Exp(mean/n - effect[r.blockOf[side][i]])
		}
	}
	a.Blocks, b.Blocks = r.blocks, r.blocks
}
