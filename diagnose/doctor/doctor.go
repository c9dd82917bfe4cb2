// Package doctor says what a machine allows: which events, which kernel programs, whose
// stacks, which names; and what a sample costs here. It tries, on itself.
//
// Nothing here is shared between goroutines.
package doctor

// Check is one thing that a machine allows or not.
type Check struct {
	Name   string
	State  string // CheckGood, CheckPart or CheckBad
	Text   string // one sentence
	Remedy string // what would help, "" where nothing is missing
}

// The states of a check.
const (
	CheckGood = "good"
	CheckPart = "part" // it works, with something missing
	CheckBad  = "bad"
)
