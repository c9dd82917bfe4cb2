package api

import "entelon/core/profile"

// CountIn is what to count exactly: a function in the program of a take, where
// that runs again or still.
type CountIn struct {
	Function string  `json:"function"`
	Take     string  `json:"take"`    // where
	Seconds  float64 `json:"seconds"` // at most
	Calls    int64   `json:"calls"`   // at most; 0: no bound
	// Settings and Collector say what runs, and where, if no job on this server's
	// record made the take.
	Settings  *profile.Settings `json:"settings,omitempty"`
	Collector string            `json:"collector"`
}

// CallerCount is how often one function called another.
type CallerCount struct {
	Name  string `json:"name"`
	Calls int64  `json:"calls"`
}

// FunctionCount is how often a function was called, and by whom.
type FunctionCount struct {
	Name    string        `json:"name"`
	Calls   int64         `json:"calls"`
	Callers []CallerCount `json:"callers"`
}

// CountOut are exact counts.
type CountOut struct {
	Functions  []FunctionCount   `json:"functions"`
	DurationNS int64             `json:"duration_ns"`
	CPUNS      int64             `json:"cpu_ns"`
	Slowdown   float64           `json:"slowdown"` // as a share of the program's processor time
	Bounded    bool              `json:"bounded"`  // the number of calls was reached
	Warnings   []profile.Warning `json:"warnings"`
}

// CountTask is a count as its collector gets it.
type CountTask struct {
	Function string `json:"function"`
	Calls    int64  `json:"calls"`
}
