package match

import (
	"time"

	"entelon/core/calltree"
)

// Run is one take of a side, with the cost that is compared.
type Run struct {
	Name       string    // of the take, for remarks
	ID         string    // of the take, for who compares
	StartedAt  time.Time // zero where that is not known
	Workload   string    // by name, "" where that is not known
	Conditions []Condition
	Pairs      int // made at most, where they were made until a difference was decided; 0 else
	Tree       *calltree.Tree
	Cost       *calltree.Cost
	Functions  []calltree.FunctionCost
	DurationNS int64
	CPUNS      int64
	Lost       int64   // events that are missing: the run's cost is then partial
	Work       float64 // units of the program's work, 0 where nobody said it
	Calls      []Calls // that the take counted, in the scope of Cost
	Varies     *Varies // of an exact run, else nil
}

// Varies is by how much the figures of an exact run differ from run to run by themselves, in
// the measure's unit.
type Varies struct {
	Whole float64            // of anything at most
	Self  map[string]float64 // of functions themselves, by name
	Other float64            // of other functions
	Once  bool               // it was run once, so that nothing is known of it
}

// Condition is something under which a run was made, by name.
type Condition struct{ Name, Value string }

// Calls are the calls of one function that a take counted, each with its stack.
type Calls struct {
	Measure string // by name
	Cost    *calltree.Cost
	Every   bool // those of all functions, as in an exact run; else those of one
}

// Total is the run's cost, in the measure's unit.
func (r *Run) Total() int64 { return r.Cost.Total(0) }

// Samples is how many samples that rests on.
func (r *Run) Samples() int64 { return r.Cost.TotalSamples(0) }

// SideNames are what the sides of a comparison are called, the first one first.
var SideNames = [2]string{"baseline", "candidate"}
