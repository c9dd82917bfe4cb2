package profile

import (
	"encoding/json"
	"strings"
	"time"
)

// Take is one bounded collection: a profile with what has to be known to
// trust it and to collect it again.
type Take struct {
	Settings Settings
	Machine  Machine
	Facts    Facts
	Profile  *Profile
	Sources  []Source // delivered with it, where that was asked for; by path
	Whole    bool     // false where the file ends without its closing block
}

// Source is a file of the program's source, as it was when the take was made.
type Source struct {
	Path string `json:"path"` // as the program's lines name it
	Text string `json:"text"`
}

// Settings are what the user chose, enough to collect once more.
type Settings struct {
	Program string   `json:"program"`
	Build   string   `json:"build"`
	Command []string `json:"command"`        // the argument list; empty where a process was attached to
	PID     int      `json:"pid,omitempty"`  // of the first process that was attached to
	PIDs    []int    `json:"pids,omitempty"` // of all of them, where there were several
	// Children: "yes" and "no" say whether children that run already are sampled, too; ""
	// leaves it to who does the work.
	Children string `json:"children,omitempty"`
	// Machine: everything that ran on the machine; Group: everything in this
	// control group, as a path below the system's folder for them.
	Machine bool   `json:"whole_machine,omitempty"`
	Group   string `json:"control_group,omitempty"`
	// User is who a launched command ran as, "" for the collector's own user.
	User string `json:"user,omitempty"`
	// Measures are what was added up, each as it is chosen; none is "cpu" alone.
	Measures []string `json:"measures,omitempty"`
	// Keep is the scope expression of the samples that were kept, "" for all.
	Keep   string   `json:"keep,omitempty"`
	Dir    string   `json:"dir"`
	Env    []string `json:"env"` // only what was given for this take, as KEY=VALUE, or KEY where the value is not kept
	RateHz int      `json:"rate_hz"`
	ForNS  int64    `json:"for_ns"` // 0: until the program ends or the user stops it
	Note   string   `json:"note"`
	// Workload is what the program was made to do, where that was given a name.
	Workload string `json:"workload,omitempty"`
	// Masked is how many arguments and variables have something masked in them that
	// looked like a secret; KeepSecrets has them be kept as they are.
	Masked      int    `json:"masked,omitempty"`
	KeepSecrets bool   `json:"keep_secrets,omitempty"`
	Event       string `json:"event"`  // what triggers a sample, "cpu-clock"
	Unwind      string `json:"unwind"` // "tables" or "frame pointers"
	// StackBytes is how much of the stack was copied with each sample, 0 where
	// nothing was.
	StackBytes int `json:"stack_bytes,omitempty"`
	// CutShare is the share of cut-off stacks from which on the take warns.
	CutShare float64 `json:"cut_share,omitempty"`
	// Budget is the slowdown that was accepted, as a share; the rate follows from
	// it. 0: the rate was chosen.
	Budget float64 `json:"budget,omitempty"`
	// BareFirst: the command was run once without sampling before.
	BareFirst bool `json:"bare_first,omitempty"`
	// BarePairs is in how many pairs of runs, with and without sampling; 0 is one.
	BarePairs int `json:"bare_pairs,omitempty"`
	// WithSource: the take brings the source files of the program's own functions.
	WithSource bool `json:"with_source,omitempty"`
	// Work is how many units of work the program does, 0 if that was not said;
	// WorkFrom is the expression that finds it in the program's output.
	Work     float64 `json:"work,omitempty"`
	WorkFrom string  `json:"work_from,omitempty"`
	// Series names takes that were made in a row; this is number Turn of Turns.
	Series string `json:"series,omitempty"`
	Turn   int    `json:"turn,omitempty"`
	Turns  int    `json:"turns,omitempty"`
	// Until says when enough of them were made, "" where all of them were to be.
	Until string `json:"until,omitempty"`
	// Side is "baseline" or "candidate" where the takes of two commands are made in
	// turns; Against is then the command of the other side.
	Side    string   `json:"side,omitempty"`
	Against []string `json:"against,omitempty"`
	// Exact: the command was run in the emulator, and what it did was counted; Once: a
	// single time, so that what varies by itself is not known.
	Exact bool `json:"exact,omitempty"`
	Once  bool `json:"once,omitempty"`
	// Inside: of an exact run, only what calls of this function do counts, after so many of
	// its calls, and so many of them; 0 is all that follow.
	Inside string `json:"inside,omitempty"`
	After  int64  `json:"after,omitempty"`
	Calls  int64  `json:"calls,omitempty"`
	// Memory: an exact run counts loads and stores, too; Caches are the two of a model of them,
	// with a model of the prediction of branches: SIZE/WAYS/LINE, twice. None where it is empty.
	Memory bool     `json:"memory,omitempty"`
	Caches []string `json:"caches,omitempty"`
	// AsIs: nothing was added to the command for the runtime that it starts.
	AsIs bool `json:"as_is,omitempty"`
}

// The sides of takes that are interleaved.
const (
	Baseline  = "baseline"
	Candidate = "candidate"
)

// Machine are facts of the machine at collection time.
type Machine struct {
	Host       string    `json:"host"`
	OS         string    `json:"os"`
	Kernel     string    `json:"kernel"`
	Processor  string    `json:"processor"`
	Processors int       `json:"processors"`
	MemoryB    int64     `json:"memory_bytes"`
	Entelon    string    `json:"entelon"`
	StartedAt  time.Time `json:"started_at"`
}

// Warning is one thing about the measurement that its reader must know, with
// its remedy. Both are one sentence.
type Warning struct {
	Code   string `json:"code"`
	Text   string `json:"text"`
	Remedy string `json:"remedy"`
}

// Facts are what is known when the take has ended.
type Facts struct {
	BuildID    string `json:"build_id"`
	Revision   string `json:"revision"`
	Executable string `json:"executable"`
	DurationNS int64  `json:"duration_ns"`
	// OriginUnixNS is when the take's time 0 was, in nanoseconds since 1970; 0: that is not known.
	OriginUnixNS int64  `json:"origin_unix_ns,omitempty"`
	CPUNS        int64  `json:"cpu_ns"` // the kernel's own count for the sampled threads
	Samples      int64  `json:"samples"`
	Lost         int64  `json:"lost"`
	LeftOut      int64  `json:"left_out,omitempty"` // samples that were not to be kept
	Throttled    int64  `json:"throttled"`
	UserStacks   int64  `json:"user_stacks"`
	Complete     int64  `json:"complete_stacks"`
	CutOff       []Cut  `json:"cut_off,omitempty"`            // why stacks are cut off, the most frequent reason first
	Interpreted  int64  `json:"interpreted_stacks,omitempty"` // user stacks with functions of an interpreter
	Labelled     int64  `json:"labelled,omitempty"`           // samples to which the program gave labels
	Unlabelled   int64  `json:"labels_unread,omitempty"`      // more such samples, whose labels could not be read, or not all of them
	Torn         int64  `json:"torn_stacks,omitempty"`        // those whose interpreter's frames contradicted each other
	RuntimeSet   string `json:"runtime_set,omitempty"`        // what was set for a launched command's runtime, in words
	// ByProcessors: the clocks of the processors triggered the samples, so that no thread
	// was too short to be seen.
	ByProcessors bool       `json:"by_processors,omitempty"`
	Unnamed      int64      `json:"unnamed_samples"` // samples whose innermost frame has no name
	CollectorNS  int64      `json:"collector_cpu_ns"`
	ExitCode     *int       `json:"exit_code,omitempty"`
	EndSignal    string     `json:"end_signal,omitempty"` // that ended the command, such as SIGSEGV; its exit code is then 128 and its number
	EndedBy      string     `json:"ended_by"`             // "exit", "time", "user"
	Counters     []Counter  `json:"counters,omitempty"`
	Counted      []Counting `json:"counted,omitempty"`     // of measures whose events are counted
	OwnNS        int64      `json:"own_cpu_ns,omitempty"`  // of the processor time, what counting took in the program's threads
	NotCounted   []string   `json:"not_counted,omitempty"` // what this machine cannot count
	Usage        *Usage     `json:"usage,omitempty"`
	Bare         *Bare      `json:"bare,omitempty"`
	Exact        *Exact     `json:"exact,omitempty"` // of an exact run
	Work         float64    `json:"work,omitempty"`  // units of work that the program did; 0: not said
	Warnings     []Warning  `json:"warnings"`
}

// Exact is what is known of an exact run: one in the emulator, in which every instruction and
// every call is counted.
type Exact struct {
	Runs      int      `json:"runs"`      // how often it was run; the take has the first run
	Processes int      `json:"processes"` // of the first run
	Totals    []int64  `json:"totals"`    // instructions of each run
	Varied    []Varied `json:"varied"`    // what differed between the runs by itself, the most first
	Varying   int      `json:"varying"`   // how many functions that is; Varied has the first of them
	VariedBy  [2]int64 `json:"varied_by"` // instructions and calls by which all of them together differed
	Rest      [2]int64 `json:"rest"`      // the most by which one that Varied does not have did
	Merged    int64    `json:"merged"`    // calls whose context had no room and stand without their callers
	Uncounted int64    `json:"uncounted"` // blocks of instructions that had no room
	Unmatched int64    `json:"unmatched"` // returns to where nothing called from
	Killed    int      `json:"killed"`    // processes that were ended half-way; what they had done is counted
	Left      int      `json:"left"`      // processes that went on with a program that is not counted
}

// Varied is a function whose counts differed between runs.
type Varied struct {
	Function     string   `json:"function"`
	Instructions [2]int64 `json:"instructions"` // of its own, least and most
	Calls        [2]int64 `json:"calls"`
}

// MaxVaried is how many functions that vary are named.
const MaxVaried = 200

// Counter is what was counted for a whole take.
type Counter struct {
	Name      string `json:"name"`
	Value     int64  `json:"value"`
	Estimated bool   `json:"estimated,omitempty"` // the processor counted it for a part of the time only
}

// Usage is what the processes of a take used over time, in columns.
type Usage struct {
	TimeNS        []int64 `json:"time_ns"` // since the take began
	ResidentBytes []int64 `json:"resident_bytes"`
	CPUNS         []int64 `json:"cpu_ns"` // since the processes began
	MaxResident   int64   `json:"most_resident_bytes"`
}

// CompleteShare is the share of the stacks with a user part that ended at the
// program's entry or a thread's start; 1 where there were none.
func (f Facts) CompleteShare() float64 {
	if f.UserStacks == 0 {
		return 1
	}
	return float64(f.Complete) / float64(f.UserStacks)
}

// Warn adds a warning.
func (f *Facts) Warn(code, text, remedy string) {
	f.Warnings = append(f.Warnings, Warning{code, text, remedy})
}

// Launched reports whether a command is started to be sampled; what ran already is attached to.
func (s *Settings) Launched() bool {
	return len(s.Command) > 0 && len(s.PIDs) == 0 && s.PID == 0 && !s.Machine && s.Group == ""
}

// EnvNames are the names of the variables that were given, without their values.
func (s Settings) EnvNames() []string {
	out := make([]string, len(s.Env))
	for i, kv := range s.Env {
		out[i], _, _ = strings.Cut(kv, "=")
	}
	return out
}

// MarshalJSON keeps lists lists, never null.
func (s Settings) MarshalJSON() ([]byte, error) {
	type plain Settings
	if s.Command == nil {
		s.Command = []string{}
	}
	if s.Env == nil {
		s.Env = []string{}
	}
	return json.Marshal(plain(s))
}

// Trigger says what triggered the samples of processor time.
func (t *Take) Trigger() string {
	if t.Facts.ByProcessors {
		return t.Settings.Event + " of each processor"
	}
	return t.Settings.Event
}

// The events that can trigger a sample of processor time, as they stand in the settings of
// a take.
const (
	EventClock       = "cpu-clock"
	EventThreadClock = "thread-clock" // each thread's own clock
	EventCycles      = "cycles"
)
