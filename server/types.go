package server

import (
	"time"

	"entelon/core/profile"
)

// The bodies of requests and answers. The OpenAPI description and the web's
// types are made from them.

// BuildOut is a build in a list.
type BuildOut struct {
	Name      string `json:"name"`
	BuildID   string `json:"build_id"`
	Revision  string `json:"revision"`
	Takes     int64  `json:"takes"`
	LastAt    string `json:"last_at"`
	LastTake  string `json:"last_take"`
	Keys      string `json:"keys"` // of its newest takes, 40 at most, with commas
	MedianCPU int64  `json:"median_cpu_ns"`
}

// ProgramOut is a program in a list.
type ProgramOut struct {
	Name   string     `json:"name"`
	Builds []BuildOut `json:"builds"` // in the order in which they were first measured
	Newest NewestOut  `json:"newest"`
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
	Broken        string    `json:"broken"` // what of it cannot be shown, "" for nothing
	Pinned        bool      `json:"pinned"` // it stays when old takes are removed
	Side          string    `json:"side"`   // "baseline" or "candidate" where two commands were interleaved
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

// FunctionRef is a function as it is shown.
type FunctionRef struct {
	ID     uint32 `json:"id"` // in this take only
	Name   string `json:"name"`
	Short  string `json:"short"`
	Module string `json:"module"` // path
	Area   string `json:"area"`   // package or module; decides the hue
	Kind   string `json:"kind"`   // whose code
	Runs   string `json:"runs"`   // native, interpreted, or made at run time
}

// ReadingPart is a piece of a sentence; Function is set where it names one.
type ReadingPart struct {
	Text     string       `json:"text"`
	Function *FunctionRef `json:"function,omitempty"`
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
}

// TakeDetail is all that is known of a take but its samples.
type TakeDetail struct {
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

// HotOut is the hot-function table in columns, the largest self cost first,
// with the reading of the same scope.
type HotOut struct {
	Total        int64         `json:"total"`
	Samples      int64         `json:"samples"`
	ID           []uint32      `json:"id"`        // of the functions, in this take and shape only
	Functions    []FunctionRef `json:"functions"` // empty if asked for bare
	Self         []int64       `json:"self"`
	SumTotal     []int64       `json:"sum_total"`
	SelfSamples  []int64       `json:"self_samples"`
	TotalSamples []int64       `json:"total_samples"`
	File         []string      `json:"file"` // where it is defined, "" if unknown; empty if asked for bare
	Line         []uint32      `json:"line"`
	Reading      []ReadingPart `json:"reading"`
	More         int           `json:"more"`      // functions that are left out, the cheapest
	MoreSelf     int64         `json:"more_self"` // what they cost together
}

// FunctionsOut is every function of a take in columns, by its number: what
// does not change with the scope. Text that is often the same stands once.
type FunctionsOut struct {
	Texts  []string `json:"texts"`
	Name   []string `json:"name"`
	Short  []string `json:"short"`  // "": as the name
	Module []uint32 `json:"module"` // this and what follows, but the line: index into Texts
	Area   []uint32 `json:"area"`
	Kind   []uint32 `json:"kind"`
	Runs   []uint32 `json:"runs"`
	File   []uint32 `json:"file"`
	Line   []uint32 `json:"line"`
	// TooMany: there are too many to be told at once, and these columns are empty.
	TooMany bool `json:"too_many"`
}

// empty has no functions, in columns that are there.
func (f FunctionsOut) empty() FunctionsOut {
	f.Texts, f.Name, f.Short = []string{}, []string{}, []string{}
	f.Module, f.Area, f.Kind, f.Runs, f.File, f.Line = []uint32{}, []uint32{}, []uint32{}, []uint32{}, []uint32{}, []uint32{}
	return f
}

// PathStep is an ancestor of the node that was dived into.
type PathStep struct {
	Node     uint32 `json:"node"`
	Function uint32 `json:"function"` // index into Functions
	Total    int64  `json:"total"`
}

// FlameOut is a laid-out flame graph in columns of equal length.
type FlameOut struct {
	Total     int64         `json:"total"` // of the whole scope
	Samples   int64         `json:"samples"`
	Root      uint32        `json:"root"`
	Path      []PathStep    `json:"path"`
	Functions []FunctionRef `json:"functions"` // those that occur
	Node      []uint32      `json:"node"`
	Function  []uint32      `json:"function"` // index into Functions
	Depth     []int32       `json:"depth"`
	X         []int64       `json:"x"`
	Width     []int64       `json:"width"`
	Self      []int64       `json:"self"`
	Count     []int64       `json:"count"`   // samples
	Hidden    []int32       `json:"hidden"`  // >0: a band of that many thin frames
	Inlined   []int32       `json:"inlined"` // 1: inlined into its parent
	Deep      []int32       `json:"deep"`    // 1: a band of frames that are left out for their depth, or for their number
	Above     int           `json:"above"`   // ancestors before the first of Path that are left out
}

// SearchOut is what a search in the flame graph found.
type SearchOut struct {
	Functions []uint32 `json:"functions"` // identifiers in this take
	Nodes     int64    `json:"nodes"`
	Value     int64    `json:"value"` // covered together, each sample once
	Samples   int64    `json:"samples"`
}

// EdgeOut is a caller or a callee; Function is absent at the stack's end.
type EdgeOut struct {
	Function *FunctionRef `json:"function,omitempty"`
	Value    int64        `json:"value"`
	Samples  int64        `json:"samples"`
}

// FoundOut is the part of a function's total whose frames were found in one way.
type FoundOut struct {
	Way   string `json:"way"`
	Value int64  `json:"value"`
}

// LineOut is the part of a function's total at one line; line 0 is unknown.
type LineOut struct {
	Line  uint32 `json:"line"`
	Value int64  `json:"value"`
}

// OriginOut says how a function's frames came to be; all values are parts of
// its total.
type OriginOut struct {
	Inlined int64      `json:"inlined"`
	Into    []EdgeOut  `json:"into"`
	Found   []FoundOut `json:"found"`
	Callers []FoundOut `json:"callers"`
	Lines   []LineOut  `json:"lines"` // the heaviest few
	CutOff  int64      `json:"cut_off"`
}

// BuildFigure is a function's share in one build, over the build's takes.
type BuildFigure struct {
	Build      string  `json:"build"`
	Takes      int64   `json:"takes"`
	SelfShare  float64 `json:"self_share"` // median
	TotalShare float64 `json:"total_share"`
}

// FunctionOut is the card of one function.
type FunctionOut struct {
	Function     FunctionRef   `json:"function"`
	Linkage      string        `json:"linkage"`
	File         string        `json:"file"`
	Line         uint32        `json:"line"`
	Self         int64         `json:"self"`
	Total        int64         `json:"total"`
	SelfSamples  int64         `json:"self_samples"`
	TotalSamples int64         `json:"total_samples"`
	ScopeTotal   int64         `json:"scope_total"`
	Counted      bool          `json:"counted"`  // no sampling error
	SelfLow      float64       `json:"self_low"` // 95 % interval of the share
	SelfHigh     float64       `json:"self_high"`
	TotalLow     float64       `json:"total_low"`
	TotalHigh    float64       `json:"total_high"`
	Callers      []EdgeOut     `json:"callers"`
	Callees      []EdgeOut     `json:"callees"`
	Builds       []BuildFigure `json:"builds"`
	Origin       OriginOut     `json:"origin"`
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

// MeOut is who is signed in.
type MeOut struct {
	Name     string `json:"name"`
	Role     string `json:"role"`     // look, work or collect
	Owner    bool   `json:"owner"`    // may manage people
	Password bool   `json:"password"` // has one
}

// EnterIn is a link for signing in once.
type EnterIn struct {
	Link string `json:"link"`
}

// SignInIn is a name with its password.
type SignInIn struct {
	Name     string `json:"name"`
	Password string `json:"password"`
}

// ChangeMeIn is what to change of oneself; what is empty stays.
type ChangeMeIn struct {
	Name     string `json:"name"`
	Password string `json:"password"`
	Before   string `json:"before"` // the password until now
	// EndTokens: with a new password all tokens end, too.
	EndTokens bool `json:"end_tokens"`
}

// TokenIn is a token to make.
type TokenIn struct {
	Name string `json:"name"`
	Role string `json:"role"`
}

// TokenOut is a token without its secret.
type TokenOut struct {
	ID        int64  `json:"id"`
	Name      string `json:"name"`
	Role      string `json:"role"`
	CreatedAt string `json:"created_at"`
	UsedAt    string `json:"used_at"` // "": never
}

// TokensOut are one's own tokens.
type TokensOut struct {
	Tokens []TokenOut `json:"tokens"`
}

// NewTokenOut is a new token, with its secret this once.
type NewTokenOut struct {
	Token  TokenOut `json:"token"`
	Secret string   `json:"secret"`
}

// PersonIn is a person to add.
type PersonIn struct {
	Name  string `json:"name"`
	Role  string `json:"role"`
	Owner bool   `json:"owner"`
}

// PersonChangeIn is what to change of a person; what is absent stays.
type PersonChangeIn struct {
	Role     *string `json:"role"`
	Owner    *bool   `json:"owner"`
	Disabled *bool   `json:"disabled"`
}

// PersonOut is a person.
type PersonOut struct {
	ID       int64  `json:"id"`
	Name     string `json:"name"`
	Role     string `json:"role"`
	Owner    bool   `json:"owner"`
	Disabled bool   `json:"disabled"`
	Password bool   `json:"password"` // has one
	SeenAt   string `json:"seen_at"`  // "": never
}

// PeopleOut is everybody.
type PeopleOut struct {
	People []PersonOut `json:"people"`
}

// PersonLinkOut is a person with a link to sign in by once.
type PersonLinkOut struct {
	Person PersonOut `json:"person"`
	Path   string    `json:"path"` // of the link on this server
	Hours  float64   `json:"hours"`
}

// EventOut is a line of the audit list.
type EventOut struct {
	ID     int64             `json:"id"`
	At     string            `json:"at"`
	Who    string            `json:"who"`
	Source string            `json:"source"`
	What   string            `json:"what"`
	Detail map[string]string `json:"detail"`
}

// AuditOut is the audit list, the newest first.
type AuditOut struct {
	Events []EventOut `json:"events"`
}

// JobIn is a take to make: with settings, or as another take was made. What a
// take says of itself is not an order: one that no job on this server's record
// made is made again only by settings that somebody has seen and sends along.
type JobIn struct {
	Collector string            `json:"collector"` // "": the only one
	Settings  *profile.Settings `json:"settings,omitempty"`
	Again     string            `json:"again"`  // the key of a take
	Repeat    int               `json:"repeat"` // make as many takes in a row; 0 is one
	// Against is the command of a baseline that is interleaved with the settings'
	// own: Repeat takes of each.
	Against []string `json:"against,omitempty"`
}

// JobOut is a take that is being made, or was.
type JobOut struct {
	ID        string           `json:"id"`
	State     string           `json:"state"` // waiting, running, stopping, done or failed
	Collector string           `json:"collector"`
	Settings  profile.Settings `json:"settings"`
	Who       string           `json:"who"`
	CreatedAt string           `json:"created_at"`
	ElapsedNS int64            `json:"elapsed_ns"`
	Samples   int64            `json:"samples"`
	Lost      int64            `json:"lost"`
	Size      int64            `json:"size"` // bytes that have come
	Take      string           `json:"take"` // its key, once it is kept
	Error     string           `json:"error"`
	Remedy    string           `json:"remedy"`
	Broken    string           `json:"broken"`   // what of it cannot be shown, "" for nothing
	Silent    bool             `json:"silent"`   // nothing was heard of its collector for a while
	AgainOf   string           `json:"again_of"` // the take whose settings these are, "" for none
	Digest    string           `json:"digest"`   // SHA-256 of the file that was kept, hexadecimal
}

// JobsOut are takes that are being made, or were, the newest first.
type JobsOut struct {
	Jobs []JobOut `json:"jobs"`
}

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

// MachineCheck is one thing that a machine allows or not.
type MachineCheck struct {
	Name   string `json:"name"`
	State  string `json:"state"` // good, part or bad
	Text   string `json:"text"`
	Remedy string `json:"remedy"`
}

// MachineReport is what a machine allows.
type MachineReport struct {
	Machine profile.Machine `json:"machine"`
	Checks  []MachineCheck  `json:"checks"`
	Allows  []string        `json:"allows"` // what its owner allows, in sentences
}

// ProcessOut is a process that runs.
type ProcessOut struct {
	PID     int      `json:"pid"`
	Name    string   `json:"name"`
	Command []string `json:"command"`
	Owner   string   `json:"owner"`
	Program string   `json:"program"` // path of its file
	Runtime string   `json:"runtime"` // go, python, node, java, or ""
	Threads int      `json:"threads"`
	AgeS    float64  `json:"age_s"`
	CPU     float64  `json:"cpu"` // processors that it uses now
}

// ProcessesOut are the processes of a machine.
type ProcessesOut struct {
	Processes []ProcessOut `json:"processes"`
}

// GroupOut is a control group in which something runs, such as a container.
type GroupOut struct {
	Path      string   `json:"path"` // below the system's folder of control groups
	Processes int      `json:"processes"`
	Programs  []string `json:"programs"` // some of their names
}

// GroupsOut are the control groups of a machine.
type GroupsOut struct {
	Groups []GroupOut `json:"groups"`
}
