package api

import (
	"time"

	"entelon/core/profile"
)

// BuildOut is a build in a list.
type BuildOut struct {
	Name      string `json:"name"`
	BuildID   string `json:"build_id"`
	Revision  string `json:"revision"`
	Takes     int64  `json:"takes"`  // of the program's chief workload
	Others    int64  `json:"others"` // takes of other workloads
	LastAt    string `json:"last_at"`
	LastTake  string `json:"last_take"`
	Keys      string `json:"keys"`          // of its newest takes of the chief workload, 40 at most, with commas
	MedianCPU int64  `json:"median_cpu_ns"` // of those; 0 where there is none
	// Instructions is the median where those are of exact runs, which have no CPU time.
	Instructions int64 `json:"median_instructions"`
}

// ProgramOut is a program in a list.
type ProgramOut struct {
	Name   string      `json:"name"`
	Builds []BuildOut  `json:"builds"` // in the order in which they were first measured
	Newest NewestOut   `json:"newest"`
	Chief  WorkloadOut `json:"chief"` // the workload of which takes stand beside each other
}

// NewestOut is a program's newest take with its hottest functions.
type NewestOut struct {
	Take       string    `json:"take"`
	Build      string    `json:"build"`
	Label      string    `json:"label"` // of the measure that the take shows first
	Name       []string  `json:"name"`  // columns, the hottest first
	Short      []string  `json:"short"`
	SelfShare  []float64 `json:"self_share"`
	TotalShare []float64 `json:"total_share"`
}

// ProgramsOut lists programs.
type ProgramsOut struct {
	Programs []ProgramOut `json:"programs"`
}

// TakeOut is a take in a list.
type TakeOut struct {
	Key           string    `json:"key"`
	Program       string    `json:"program"`
	Build         string    `json:"build"`
	BuildID       string    `json:"build_id"`
	StartedAt     time.Time `json:"started_at"`
	AddedAt       time.Time `json:"added_at"`
	DurationNS    int64     `json:"duration_ns"`
	CPUNS         int64     `json:"cpu_ns"`
	Samples       int64     `json:"samples"`
	Lost          int64     `json:"lost"`
	RateHz        int       `json:"rate_hz"`
	CompleteShare float64   `json:"complete_share"`
	Warnings      int       `json:"warnings"`
	Note          string    `json:"note"`
	Size          int64     `json:"size"`
	Command       []string  `json:"command"`
	Host          string    `json:"host"`
	Series        string    `json:"series"` // of takes in a row, "" for one alone
	Turn          int       `json:"turn"`
	Turns         int       `json:"turns"`
	Broken        string    `json:"broken"`   // what of it cannot be shown, "" for nothing
	Pinned        bool      `json:"pinned"`   // it stays when old takes are removed
	Side          string    `json:"side"`     // "baseline" or "candidate" where two commands were interleaved
	Workload      string    `json:"workload"` // its name
	WorkloadID    int64     `json:"workload_id"`
	Exact         bool      `json:"exact"`        // everything was counted in an exact run; there are no samples
	Instructions  int64     `json:"instructions"` // that were counted in an exact run
}

// TakesOut lists takes; Count is how many there are beyond the page.
type TakesOut struct {
	Takes []TakeOut `json:"takes"`
	Count int64     `json:"count"`
}

// AddedOut answers an upload.
type AddedOut struct {
	Take  TakeOut `json:"take"`
	Fresh bool    `json:"fresh"` // false where the same file was there already
}

// NoteIn replaces a take's note, or says whether it stays when old takes are
// removed. What is absent stays as it is.
type NoteIn struct {
	Note   *string `json:"note,omitempty"`
	Pinned *bool   `json:"pinned,omitempty"`
}

// ThreadOut is a thread of a take.
type ThreadOut struct {
	ID      uint32 `json:"id"`
	PID     uint32 `json:"pid"`
	TID     uint32 `json:"tid"`
	Name    string `json:"name"`
	Process string `json:"process"`
	Samples int64  `json:"samples"`
}

// MeasureOut is one thing that a take adds up.
type MeasureOut struct {
	Name    string `json:"name"`
	Label   string `json:"label"`
	Unit    string `json:"unit"`    // ns, bytes or count
	Counted bool   `json:"counted"` // every event is in it: no sampling error
	Total   int64  `json:"total"`
	Lost    int64  `json:"lost,omitempty"` // events that are missing in it, which is then partial
}

// TakeDetail is all that is known of a take but its samples.
type TakeDetail struct {
	Bare      string            `json:"bare,omitempty"` // what is known of the cost of sampling, in words
	Take      TakeOut           `json:"take"`
	Settings  profile.Settings  `json:"settings"`
	Machine   profile.Machine   `json:"machine"`
	Facts     profile.Facts     `json:"facts"`
	Threads   []ThreadOut       `json:"threads"`
	Measures  []MeasureOut      `json:"measures"` // the one that is shown first is the first
	FirstNS   int64             `json:"first_ns"` // time of the first sample
	LastNS    int64             `json:"last_ns"`
	Siblings  []TakeOut         `json:"siblings"` // the program's other takes, the newest first
	Warnings  []profile.Warning `json:"warnings"`
	BuildTake int               `json:"build_takes"` // takes of the same build, this one included
	// OnRecord: a job of this server made it, on this collector, so that it can be
	// made again without asking.
	OnRecord  bool   `json:"on_record"`
	Collector string `json:"collector"`
}

// TimesOut counts samples over time, by what the processor was doing.
type TimesOut struct {
	FromNS  int64   `json:"from_ns"`
	ToNS    int64   `json:"to_ns"`
	User    []int64 `json:"user"`   // samples; of a level what it was, in its unit
	Kernel  []int64 `json:"kernel"` // samples in the kernel; none of a level
	Level   bool    `json:"level"`
	Highest int64   `json:"highest"` // of user and kernel together
}

// AboutOut tells what this server is.
type AboutOut struct {
	Version   string `json:"version"`
	MaxUpload int64  `json:"max_upload"`
}
