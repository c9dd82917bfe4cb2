package api

// SpansOut is the spans of a take, by name, with more of one of them. Times are nanoseconds since the
// take began.
type SpansOut struct {
	DurationNS int64         `json:"duration_ns"`
	Known      bool          `json:"known"` // what their threads did is, so that it can be told what they were slow for
	Names      []SpanNameOut `json:"names"`
	Thinned    int64         `json:"thinned"` // short calls that came too fast to be kept one by one
	Lost       int64         `json:"lost"`    // others for which there was no room
	More       int           `json:"more"`    // names that are left out, those that took least
	Name       string        `json:"name"`    // that more is told of; "" where there are no spans
	// Percentiles are durations that so many in a thousand do not exceed, in pairs.
	Percentiles []int64 `json:"percentiles"`
	// Buckets are from, to, count of the histogram of durations, by three.
	Buckets []int64 `json:"buckets"`
	// Dots are spans as begin, duration, thread, 1 where it has no end, by four: all, or the slowest and some of the others.
	Dots []int64 `json:"dots"`
	All  int     `json:"all"` // spans of the name
	// Rate is how many ended in each of equal parts of the take.
	Rate       []int           `json:"rate"`
	RateFromNS int64           `json:"rate_from_ns"` // of those parts, since the take began
	RateToNS   int64           `json:"rate_to_ns"`
	Threads    []SpanThreadOut `json:"threads"` // of the dots
}

// SpanNameOut is all spans of one name.
type SpanNameOut struct {
	Name      string `json:"name"`
	Short     string `json:"short"`
	Spans     int    `json:"spans"`
	Open      int    `json:"open"` // of them, those without an end
	TotalNS   int64  `json:"total_ns"`
	MedianNS  int64  `json:"median_ns"`
	P99NS     int64  `json:"p99_ns"`
	SlowestNS int64  `json:"slowest_ns"`
}

// SpanThreadOut is a thread, or a goroutine.
type SpanThreadOut struct {
	ID    uint32 `json:"id"`
	Words string `json:"words"`
}

// SpanContrastOut is what slow spans do that others of their name do not. Times are nanoseconds a span.
type SpanContrastOut struct {
	Slow      int               `json:"slow"`   // spans
	Others    int               `json:"others"` // that they were compared with
	All       int               `json:"all"`    // others that there are
	SlowNS    float64           `json:"slow_ns"`
	OthersNS  float64           `json:"others_ns"`
	States    []LaneStateOut    `json:"states"`
	Rows      []SpanContrastRow `json:"rows"`
	Functions []FunctionRef     `json:"functions"`
}

// SpanContrastRow is one thing that spans do, or wait for.
type SpanContrastRow struct {
	Who         string  `json:"who"` // that held them up; "": they themselves
	State       int     `json:"state"`
	Function    int     `json:"function"` // position among the functions; -1: not known
	Line        int     `json:"line"`     // 0: not known
	SlowNS      float64 `json:"slow_ns"`
	OthersNS    float64 `json:"others_ns"`
	LowNS       float64 `json:"low_ns"` // of the difference, 95 %; 0, as is the next, where it cannot be told
	HighNS      float64 `json:"high_ns"`
	Significant bool    `json:"significant"`
}

// SpanBlameOut is what spans were slow for: their critical paths, added up.
type SpanBlameOut struct {
	Spans     int            `json:"spans"`
	TotalNS   int64          `json:"total_ns"` // which all rows add up to
	States    []LaneStateOut `json:"states"`
	Blame     []LaneBlameOut `json:"blame"`
	Functions []FunctionRef  `json:"functions"`
	// Flame has the same by stack: below who it was, the span itself or who held it up.
	Flame FlameOut `json:"flame"`
}
