package api

// LanesOut is a take over time, a lane for each thread.
type LanesOut struct {
	DurationNS int64          `json:"duration_ns"`
	FromNS     int64          `json:"from_ns"`  // of what rows show, since the take began
	ToNS       int64          `json:"to_ns"`    //
	Measured   bool           `json:"measured"` // waits were, so that it is known when a thread ran
	TickNS     int64          `json:"tick_ns"`  // for how long a sample of processor time stands; 0: there are none
	Thinned    int64          `json:"thinned"`  // short waits and system calls that came too fast to be kept
	Lost       int64          `json:"lost"`     // others for which there was no room
	States     []LaneStateOut `json:"states"`   // that lanes speak of by position
	Hidden     int            `json:"hidden"`   // lanes with nothing in scope
	Lanes      []LaneOut      `json:"lanes"`    // in scope; none where only rows are asked for
	First      int            `json:"first"`    // the lane of the first row
	Rows       []LaneRowOut   `json:"rows"`
	SpanNames  []string       `json:"span_names"` // that rows speak of
	Functions  []FunctionRef  `json:"functions"`  // that rows speak of
}

// LaneStateOut is a state.
type LaneStateOut struct {
	Name  string `json:"name"`
	Words string `json:"words"`
}

// LaneOut is a thread.
type LaneOut struct {
	ID      uint32  `json:"id"` // by which it is asked for
	Process string  `json:"process"`
	PID     uint32  `json:"pid"`
	Thread  string  `json:"thread"`
	TID     uint32  `json:"tid"`
	Words   string  `json:"words"`   // "goroutine 17, main.serve"
	Routine bool    `json:"routine"` // a goroutine
	MadeUp  bool    `json:"made_up"` // no thread: its number says nothing
	FromNS  int64   `json:"from_ns"` // when it was first there
	ToNS    int64   `json:"to_ns"`
	Spent   []int64 `json:"spent"` // nanoseconds in each state over the whole take
	Waits   int     `json:"waits"`
	Samples int     `json:"samples"`
	Levels  int     `json:"levels"` // of spans, which are drawn below each other
}

// LaneRowOut is what a lane shows of a stretch of time, as columns.
type LaneRowOut struct {
	// Each run has six numbers: its beginning, its end, its state, how many states are gathered in
	// it, the wait that it is (-1: none), and the position of Spent that says what is gathered (-1:
	// nothing is). Times are nanoseconds since the view begins.
	Runs []int64 `json:"runs"`
	// Spent has for each run in which several are gathered a state and its nanoseconds, and so on.
	Spent [][]int64 `json:"spent"`
	// Each bar has six numbers: beginning, end, depth, function, samples, and how many are gathered
	// in it.
	Bars []int64 `json:"bars"`
	// Each span has six numbers: beginning, end, level, position of its name among SpanNames, the interval
	// that it is (-1: several), and how many are gathered in it.
	Spans []int64 `json:"spans"`
	// Seen are the times of the samples that bars rest on, where there are few enough to be told.
	Seen []int64 `json:"seen"`
}

// LanePathOut is the critical path of a thread over a stretch of time: what its progress depended on.
type LanePathOut struct {
	FromNS int64 `json:"from_ns"`
	ToNS   int64 `json:"to_ns"`
	// Each step has five numbers: beginning and end since the take began, the thread's ID, its state,
	// and how many waits lie between it and the thread that is asked about.
	Steps     []int64        `json:"steps"`
	Cut       bool           `json:"cut"` // there are more steps than are told; Blame is of all
	States    []LaneStateOut `json:"states"`
	Blame     []LaneBlameOut `json:"blame"` // the steps added up, the most first
	Functions []FunctionRef  `json:"functions"`
}

// LaneBlameOut is what steps of one thread in one state at one place are together.
type LaneBlameOut struct {
	Lane     LaneOut `json:"lane"`
	State    int     `json:"state"`
	Function int     `json:"function"` // position among the functions; -1: not known
	NS       int64   `json:"ns"`
	Steps    int     `json:"steps"`
	Samples  int     `json:"samples"` // of what ran, on which the function rests
	Line     int     `json:"line"`    // of the function's file, that with most of it; 0: not known
}

// LaneAtOut is what a thread did at one time.
type LaneAtOut struct {
	FromNS     int64         `json:"from_ns"`
	ToNS       int64         `json:"to_ns"`
	State      string        `json:"state"`
	Words      string        `json:"words"`
	Interval   int           `json:"interval"`    // the wait; -1: none
	PreviousNS int64         `json:"previous_ns"` // when the state before began; -1: there is none
	NextNS     int64         `json:"next_ns"`     // when the state after begins; -1: there is none
	Samples    int           `json:"samples"`     // of processor time, while it ran
	Stack      []int32       `json:"stack"`       // positions among the functions, the innermost first
	By         *LaneOut      `json:"by"`          // the thread that ended the wait; null: that is not known, or an interrupt did
	Interrupt  bool          `json:"interrupt"`   // that ended it
	ByStack    []int32       `json:"by_stack"`
	Functions  []FunctionRef `json:"functions"`
}
