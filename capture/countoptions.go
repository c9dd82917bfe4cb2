package capture

import (
	"entelon/core/profile"
)

// CountOptions say which calls to count, and of whom.
type CountOptions struct {
	Options            // whom, for how long; rate and measures are not used
	Functions []string // names as people write them; * stands for anything
	Calls     int64    // stop after this many, all functions together; 0: no bound
}

// Counts are exact numbers of calls.
type Counts struct {
	Functions  []FunctionCalls
	Calls      int64
	DurationNS int64
	CPUNS      int64   // of the program
	HitNS      float64 // what one count costs the program, measured on this machine
	Slowdown   float64 // by which the program was slower, as a share of its processor time
	Bounded    bool    // it ended because the number of calls was reached
	Warnings   []profile.Warning
	ExitCode   *int // of a launched command that ended
	// Wait and Signal are as in Result.
	Wait   func() int
	Signal func(sig int)
}

// FunctionCalls is how often a function was called, and by whom.
type FunctionCalls struct {
	Name    string
	Calls   int64
	Callers []CallerCalls // the most frequent first
}

// CallerCalls is how often one function called another.
type CallerCalls struct {
	Name  string
	Calls int64
}
