package statistics

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"
)

// TestOrderOfTakes: takes in turns are no wider than takes that have nothing to do
// with each other; one side after the other is, and most where neighbours are alike.
func TestOrderOfTakes(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 7))
	const n = 16
	mean := func(drag float64, inTurns bool) float64 {
		sum := 0.0
		const times = 60
		for range times {
			var x []float64
			var side []int
			at := r.NormFloat64()
			for i := range 2 * n {
				at = drag*at + math.Sqrt(1-drag*drag)*r.NormFloat64()
				s := i % 2
				if !inTurns {
					s = i / n
				}
				x, side = append(x, 0.03*at), append(side, s)
			}
			sum += inOrder(x, side) / times
		}
		return sum
	}
	turns, apart, alike := mean(0, true), mean(0, false), mean(0.7, false)
	if turns > 1.01 || mean(0.7, true) > 1.01 {
		t.Errorf("in turns intervals are %.2f times as wide", turns)
	}
	if apart < 1.1 || apart > 1.6 || alike < apart+0.15 {
		t.Errorf("one after the other they are %.2f times as wide where nothing drifts, %.2f where it does", apart, alike)
	}
	for _, x := range [][]float64{{1, 1, 1, 1}, {0, 0, 0, 0}, {1}} {
		side := []int{0, 0, 1, 1}[:len(x)]
		if w := inOrder(x, side); w != 1 {
			t.Errorf("%v: %v", x, w)
		}
	}
}

// TestUnknownOrder: where a take's time is not known nothing is made wider.
func TestUnknownOrder(t *testing.T) {
	var a, b Group
	for i, v := range []float64{100, 103, 99, 101} {
		a.Add(v, 1e6, time.Unix(int64(i), 0))
		b.Add(v+20, 1e6, time.Unix(int64(10+i), 0))
	}
	known := Totals(&a, &b, true)
	b.At[2] = time.Time{}
	unknown := Totals(&a, &b, true)
	if known.Error <= unknown.Error || unknown.Verdict != Slower || math.Abs(known.Difference-20) > 1e-9 {
		t.Errorf("known %+v, unknown %+v", known, unknown)
	}
	// The variance of the inverse is that of the correlations themselves.
	const r, m = 0.4, 5
	for i := range m {
		for j := range m {
			sum := 0.0 // of row i of R times column j of its inverse
			for k := range m {
				e, f := make([]float64, m), make([]float64, m)
				e[k], f[j] = 1, 1
				sum += math.Pow(r, math.Abs(float64(i-k))) * inverse(r, e, f)
			}
			want := 0.0
			if i == j {
				want = 1
			}
			if math.Abs(sum-want) > 1e-12 {
				t.Errorf("R times its inverse has %v at %d, %d", sum, i, j)
			}
		}
	}
}
