package api

// EventsOut are events that a take recorded one by one.
type EventsOut struct {
	Kinds     []EventKindOut `json:"kinds"` // that the take has; none where nothing was recorded so
	Kind      string         `json:"kind"`  // of which the rest is
	Unit      string         `json:"unit"`  // of amounts; "count" where events have none
	All       int64          `json:"all"`   // rows in scope
	Events    int64          `json:"events"`
	Total     int64          `json:"total"` // of the amounts of all
	Median    int64          `json:"p50"`
	Ninety    int64          `json:"p90"`
	Almost    int64          `json:"p99"`
	Largest   int64          `json:"max"`
	Sizes     []EventSizeOut `json:"sizes"`
	Over      []int64        `json:"over"` // rows by bin of time, of equal length
	ToNS      int64          `json:"to_ns"`
	Functions []FunctionRef  `json:"functions"` // that rows speak of
	Rows      []EventRowOut  `json:"rows"`
}

// EventKindOut is a kind of event.
type EventKindOut struct {
	Name   string `json:"name"`
	Label  string `json:"label"`
	Column string `json:"column"` // the measure that a scope bounds amounts by, "" where there are none
	Events int64  `json:"events"` // that the take counted; 0: not known
	Single int64  `json:"single"` // of them, those with a row of their own
	Lost   int64  `json:"lost"`
	Apart  bool   `json:"apart"` // what has no row of its own is missing, and not added to another one
}

// EventSizeOut is how many rows have an amount from one bound to another, which is not in it.
type EventSizeOut struct {
	From int64 `json:"from"`
	To   int64 `json:"to"`
	Rows int64 `json:"rows"`
}

// EventRowOut is a row.
type EventRowOut struct {
	Sample  int     `json:"sample"`
	AtNS    int64   `json:"at_ns"` // since the take began
	Amount  int64   `json:"amount"`
	Events  int64   `json:"events"` // that it stands for; 0: not counted
	Process string  `json:"process"`
	PID     uint32  `json:"pid"`
	Thread  string  `json:"thread"`
	TID     uint32  `json:"tid"`
	What    int     `json:"what"`  // position among the functions
	Place   int     `json:"place"` // in the program's own code; -1: nowhere
	File    string  `json:"file"`
	Line    uint32  `json:"line"`
	Stack   []int32 `json:"stack"` // positions among the functions, the innermost first
	Deeper  int     `json:"deeper"`
}
