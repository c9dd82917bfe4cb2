package invent

import (
	"fmt"
	"math"
	"math/rand/v2"

	"entelon/core/measure"
	"entelon/core/profile"
)

// Shop is a program whose takes differ as those of real programs do.
type Shop struct {
	Functions []ShopFunction
	Common    float64 // standard deviation, as a share, of what meets all functions of a take alike
	Own       float64 // of what meets each function by itself
	Burst     int     // samples that come together, where they do
	Far       float64 // how often a take is 30 % off
	Drag      float64 // how much of what meets a take meets the next one, too
}

// ShopFunction is a function with its samples in a take, on average.
type ShopFunction struct {
	Name string
	Mean float64
}

// Street is a shop of n functions from large to rare, the largest with so many
// samples.
func Street(n int, largest float64) Shop {
	var s Shop
	for i := range n {
		s.Functions = append(s.Functions, ShopFunction{fmt.Sprintf("fn%02d", i), largest / float64(i+1)})
	}
	return s
}

// With is the shop with one function's cost times a factor; "" means all.
func (s Shop) With(name string, factor float64) Shop {
	functions := append([]ShopFunction(nil), s.Functions...)
	for i := range functions {
		if name == "" || functions[i].Name == name {
			functions[i].Mean *= factor
		}
	}
	s.Functions = functions
	return s
}

// Season makes takes of shops one after the other, in the order in which they
// are asked for.
type Season struct {
	r      *rand.Rand
	before float64 // what met the take before
}

// NewSeason begins with a seed.
func NewSeason(seed uint64) *Season {
	s := &Season{r: rand.New(rand.NewPCG(seed, 23))}
	s.before = s.r.NormFloat64()
	return s
}

// Take makes the next take.
func (x *Season) Take(s Shop) *profile.Profile {
	r := x.r
	x.before = s.Drag*x.before + math.Sqrt(1-s.Drag*s.Drag)*r.NormFloat64()
	all := math.Exp(s.Common * x.before)
	if r.Float64() < s.Far {
		all *= 1.3
	}
	b := profile.NewBuilder()
	b.Measure("cpu", "ns", measure.Sum)
	th := b.Thread(b.Process(1), 1)
	burst := max(1, s.Burst)
	at := int64(0)
	for _, f := range s.Functions {
		n := poisson(r, f.Mean*all*math.Exp(s.Own*r.NormFloat64())/float64(burst)) * burst
		id := b.Function(profile.Function{Name: b.Intern(f.Name), Kind: profile.KindOwn})
		stack := b.Push(0, b.Frame(profile.Frame{Function: id}))
		for range n {
			at += 1e6
			b.Sample(at, th, stack, 1_000_000)
		}
	}
	return b.Profile()
}

func poisson(r *rand.Rand, mean float64) int {
	if mean > 50 {
		return max(0, int(math.Round(mean+math.Sqrt(mean)*r.NormFloat64())))
	}
	n, p := 0, math.Exp(-mean)
	for x := r.Float64(); x > p; x *= r.Float64() {
		n++
	}
	return n
}
