// Package measure is the one home of what Entelon adds up. Its table says of every
// measure how it is chosen, what it means, how it is counted, what counting it
// costs, and which columns of values it gives a take; flags, help, completion, the
// API, the web interface and docs/measures.md are made from it.
package measure

import "strings"

// Unit is what the values of a column are given in.
type Unit = string

// The units. Values are whole numbers of them.
const (
	Nanoseconds Unit = "ns"
	Bytes       Unit = "bytes"
	Count       Unit = "count"
)

// Combine says how values of a column are put together over time.
type Combine uint8

// Values of a Sum are added over time; those of a Level hold at one time, and are
// added only to others of the same time. The order is part of the take file format.
const (
	Sum Combine = iota
	Level
)

// TimeIs says what the time of a sample is of what the sample stands for.
type TimeIs uint8

// What a time is. The order is part of the take file format.
const (
	Moment    TimeIs = iota // all of it happened then
	Beginning               // it began then
	End                     // it ended then
	timesEnd
)

// Valid reports whether t is one of these.
func (t TimeIs) Valid() bool { return t < timesEnd }

// Reduction is how the values of a level become one figure for a stretch of time.
type Reduction string

// The reductions. A snapshot is all samples of a level that have the same time.
const (
	Last  Reduction = "last"  // the last snapshot of the stretch
	First Reduction = "first" // the first one
	Peak  Reduction = "peak"  // the one with the highest total, the first of several
	Mean  Reduction = "mean"  // the mean of all snapshots
)

// Reductions are all of them, the usual one first.
var Reductions = []Reduction{Last, First, Peak, Mean}

// Words says what a figure of a level is: "at the end".
func (r Reduction) Words() string {
	switch r {
	case First:
		return "at the beginning"
	case Peak:
		return "at its peak"
	case Mean:
		return "on average over time"
	}
	return "at the end"
}

// Column is one column of values that a measure has in a take.
type Column struct {
	Name    string // as it is kept and chosen: "cpu", "allocated:score_alloc"
	Label   string // "CPU time", "allocated bytes by score_alloc"
	Unit    Unit
	Combine Combine
	Counted bool // every event is in it, so that it has no sampling error
	Time    TimeIs
	Kind    string // the word of the measure that it is of, "" where the table has none
	Of      string // what that is of, "" for nothing
	Beside  bool   // it stands beside lines, and says nothing when it is added up
}

// ColumnRow is a column in the table.
type ColumnRow struct {
	Column
	LabelOf string // the label where the measure is of something, which follows it; "": "LABEL by"
}

// with returns the column of a measure of something; "" is nothing.
func (c ColumnRow) with(of string) Column {
	out := c.Column
	if of != "" {
		out.Name += ":" + of
		if c.LabelOf != "" {
			out.Label = c.LabelOf + " " + of
		} else {
			out.Label += " by " + of
		}
	}
	return out
}

// Cycles is the column that processor time has besides its own where the
// processor's counter of cycles triggers the samples.
var Cycles = ColumnRow{Column: Column{Name: "cycles", Label: "processor cycles", Unit: Count, Time: End, Kind: CPU}}.Column

// Instructions and ExactCalls are the columns of an exact run, in which every instruction and
// every call is counted. What it does to memory, and what models of caches and of the prediction of
// branches say, it has where that is asked for. Executions is how often the instruction at a frame's address was
// executed.
var (
	Instructions = Column{Name: "instructions", Label: "instructions", Unit: Count, Counted: true}
	ExactCalls   = Column{Name: "calls", Label: "calls", Unit: Count, Counted: true}
	Loads        = Column{Name: "loads", Label: "loads", Unit: Count, Counted: true}
	Stores       = Column{Name: "stores", Label: "stores", Unit: Count, Counted: true}
	LoadedBytes  = Column{Name: "loaded", Label: "bytes loaded", Unit: Bytes, Counted: true}
	StoredBytes  = Column{Name: "stored", Label: "bytes stored", Unit: Bytes, Counted: true}
	MissedFirst  = Column{Name: "misses-1", Label: "first-level cache misses (model)", Unit: Count, Counted: true}
	MissedSecond = Column{Name: "misses-2", Label: "second-level cache misses (model)", Unit: Count, Counted: true}
	Mispredicted = Column{Name: "mispredicted", Label: "mispredicted branches (model)", Unit: Count, Counted: true}
	Executions   = Column{Name: "executions", Label: "times executed", Unit: Count, Counted: true, Beside: true}
)

// Kept returns how a column that a take or the database has is spoken of: the label is
// the table's, and says of a level which of its values over time is meant where nothing
// else is asked for; the rest is what was kept.
func Kept(name string, unit Unit, combine Combine) Column {
	c, _ := Named(name)
	c.Unit, c.Combine = unit, combine
	if combine == Level {
		c.Label += " " + Last.Words()
	}
	return c
}

// Named returns what the table says of a column by its name. ok is unset where it
// says nothing, as of a column from elsewhere: its label is its name then.
func Named(name string) (c Column, ok bool) {
	stem, of, _ := strings.Cut(name, ":")
	for _, k := range Kinds {
		for _, row := range k.Columns {
			if row.Name == stem && k.takes(of) {
				c := row.with(of)
				c.Kind, c.Of = k.Word, of
				return c, true
			}
		}
	}
	for _, c := range []Column{Cycles, Instructions, ExactCalls, Executions, Loads, Stores, LoadedBytes, StoredBytes, MissedFirst, MissedSecond, Mispredicted} {
		if name == c.Name {
			return c, true
		}
	}
	return Column{Name: name, Label: name, Unit: Count}, false
}
