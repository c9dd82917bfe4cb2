package api

import "entelon/core/profile"

// EstimateOut is what two groups of takes say about one cost, in the
// comparison's unit.
type EstimateOut struct {
	Baseline   float64 `json:"baseline"` // means of the takes
	Candidate  float64 `json:"candidate"`
	Difference float64 `json:"difference"`
	Low        float64 `json:"low"` // 95 % interval of the difference
	High       float64 `json:"high"`
	Ratio      float64 `json:"ratio"` // 0: the baseline has none
	RatioLow   float64 `json:"ratio_low"`
	RatioHigh  float64 `json:"ratio_high"`
	Seen       float64 `json:"seen"` // smallest change that would have been seen, as a share of the baseline
	Need       int     `json:"need"` // takes a side that would tell; 0 where these do
	Verdict    string  `json:"verdict"`
}

// CompareRow is one function on both sides.
type CompareRow struct {
	Number       int32       `json:"number"` // in this comparison
	Name         string      `json:"name"`   // full, as the candidate has it where it does
	Short        string      `json:"short"`
	Module       string      `json:"module"`
	Area         string      `json:"area"`
	Kind         string      `json:"kind"`
	Self         EstimateOut `json:"self"`
	Total        EstimateOut `json:"total"`
	SelfSamples  []int64     `json:"self_samples"` // of the baseline and the candidate
	TotalSamples []int64     `json:"total_samples"`
	State        string      `json:"state"`   // same, changed, new or gone
	Certain      bool        `json:"certain"` // a difference is significant
	Was          string      `json:"was"`     // full name in the baseline, if another
	Because      string      `json:"because"` // why the two are taken for one
	ByHand       bool        `json:"by_hand"` // somebody said so
	Calls        []float64   `json:"calls"`   // of the baseline and the candidate, where calls_counted; else empty
}

// SuspectOut is a place that explains part of the difference.
type SuspectOut struct {
	Path     []int32     `json:"path"` // numbers of functions, from the outermost on
	Why      string      `json:"why"`
	Share    float64     `json:"share"`
	Via      int32       `json:"via"`    // the function that is new or gone, where it is done differently; of callees the one that most of it is in; else -1
	Places   int         `json:"places"` // on how many paths
	Enters   float64     `json:"enters"` // candidate to baseline of all below the path, 0 if new
	Estimate EstimateOut `json:"estimate"`
	Counts   []CallsOut  `json:"counts"`   // calls there that were counted
	ByCalls  float64     `json:"by_calls"` // of the difference, what is of the number of calls; both 0 where they were not counted
	ByEach   float64     `json:"by_each"`  // and what of the cost of one
}

// CallsOut is how often a function was called at a suspect, as the scale has it.
type CallsOut struct {
	Function  int32   `json:"function"` // its number
	Itself    bool    `json:"itself"`   // it is the suspect; else it is called below
	Baseline  float64 `json:"baseline"`
	Candidate float64 `json:"candidate"`
}

// SaidOut is a piece of a sentence; Name is set where it names a function.
type SaidOut struct {
	Text string `json:"text"`
	Name string `json:"name"`
}

// CompareSide is one side of a comparison.
type CompareSide struct {
	Name  string        `json:"name"` // in the reading
	Takes []CompareTake `json:"takes"`
	Total float64       `json:"total"` // mean of the takes, in the measure's unit
}

// CompareTake is a take of a side with its cost in scope.
type CompareTake struct {
	Take    TakeOut `json:"take"`
	Total   int64   `json:"total"`
	Samples int64   `json:"samples"`
}

// ScaleOut is something to compare by.
type ScaleOut struct {
	Name string `json:"name"`
	Text string `json:"text"`
}

// CompareOut is a comparison of two groups of takes.
type CompareOut struct {
	Warnings     []profile.Warning `json:"warnings"`
	Measures     []MeasureOut      `json:"measures"` // that all takes have
	Measure      MeasureOut        `json:"measure"`  // Total is the candidate's first take's
	Scales       []ScaleOut        `json:"scales"`   // that all takes allow
	Scale        string            `json:"scale"`
	Unit         string            `json:"unit"`
	Single       bool              `json:"single"`        // one take a side: how much takes differ is not known
	CallsCounted bool              `json:"calls_counted"` // by all takes, so that rows have theirs
	Baseline     CompareSide       `json:"baseline"`
	Candidate    CompareSide       `json:"candidate"`
	Whole        EstimateOut       `json:"whole"`
	Reading      []SaidOut         `json:"reading"`
	Suspects     []SuspectOut      `json:"suspects"`
	Rows         []CompareRow      `json:"rows"`   // the largest difference of self cost first
	Hidden       int               `json:"hidden"` // functions that are left out: small, and not significant
	// Steady is by how much the share of what did not change differs from side to side;
	// 1 where figures are no shares.
	Steady    float64       `json:"steady"`
	Yardstick *YardstickOut `json:"yardstick,omitempty"`
	Without   *WithoutOut   `json:"without,omitempty"`
}

// WithoutOut is what a comparison comes to without the takes that are far off the others of
// their side.
type WithoutOut struct {
	Takes []string    `json:"takes"` // keys
	Whole EstimateOut `json:"whole"`
}

// YardstickOut is what both sides are measured by where the scale is "unchanged".
type YardstickOut struct {
	Functions []int32   `json:"functions"` // numbers in the comparison, the costliest first, 200 at most
	Count     int       `json:"count"`     // of all of them
	Share     []float64 `json:"share"`     // of each side's cost
	Factor    float64   `json:"factor"`    // the candidate's work to the baseline's
	Low       float64   `json:"low"`       // 95 %
	High      float64   `json:"high"`
}

// MirrorOut is the flame graphs of both sides in columns of equal length, in one
// order and on one scale, the means of the takes. A frame stands at X on both
// sides, and Slot is the room that it has there: the larger side of it and of
// all that is on top of it.
type MirrorOut struct {
	Width     float64   `json:"width"`    // of the root's slot; a frame's value is on the same scale
	Depth     []int32   `json:"depth"`    // 0 for the root
	Function  []int32   `json:"function"` // number in the comparison, -1 for the root
	X         []float64 `json:"x"`
	Slot      []float64 `json:"slot"`
	Baseline  []float64 `json:"baseline"`
	Candidate []float64 `json:"candidate"`
	Parent    []int32   `json:"parent"` // position, -1 for the root
	Left      int       `json:"left"`   // frames that are left out at the bottom, since there are too many
}

// MatchIn says of two names that they are one function ("together"), that they are
// not ("apart"), or that the comparison decides ("").
type MatchIn struct {
	Baseline  string `json:"baseline"` // full names
	Candidate string `json:"candidate"`
	How       string `json:"how"`
}

// MatchOut is what somebody said of two names.
type MatchOut struct {
	Baseline  string `json:"baseline"`
	Candidate string `json:"candidate"`
	How       string `json:"how"`
	Who       string `json:"who"`
}

// MatchesOut are all that was said of a program's names.
type MatchesOut struct {
	Matches []MatchOut `json:"matches"`
}

// SourceSide is where the lines of a side are from.
type SourceSide struct {
	Name      string  `json:"name"` // of the function, "" where the side does not have it
	File      string  `json:"file"` // as the takes have it
	Found     string  `json:"found"`
	Delivered bool    `json:"delivered"` // the source came with a take
	Missing   string  `json:"missing"`   // why there is no source
	Begin     uint32  `json:"begin"`
	Self      float64 `json:"self"` // at lines that are unknown
	Total     float64 `json:"total"`
}

// CompareLines are the lines of a function's file on both sides, in columns of
// equal length. A line of 0 is one that the side does not have.
type CompareLines struct {
	Sides   []SourceSide `json:"sides"`   // baseline, candidate
	ByText  bool         `json:"by_text"` // lines stand beside each other by what they say
	Line    [][]uint32   `json:"line"`    // by side
	Text    [][]string   `json:"text"`
	Self    [][]float64  `json:"self"` // means of the takes, in the comparison's unit
	Total   [][]float64  `json:"total"`
	Largest float64      `json:"largest"` // total of a line on a side
}
