package api

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
	Calls        []int64       `json:"calls"` // exact; empty where calls were not counted
	File         []string      `json:"file"`  // where it is defined, "" if unknown; empty if asked for bare
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
func (f FunctionsOut) Empty() FunctionsOut {
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
	Calls     []int64       `json:"calls"`   // of the frame's function by those above it; empty where calls were not counted
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
	Calls    int64        `json:"calls"` // exact; 0 where they were not counted, too
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
	CallsCounted bool          `json:"calls_counted"` // Calls is exact, and so are those of callers and callees
	Calls        int64         `json:"calls"`
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
