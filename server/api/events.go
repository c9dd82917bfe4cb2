package api

// EventsOut are events that a take recorded one by one.
type EventsOut struct {
	Kinds   []EventKindOut `json:"kinds"` // that the take has; none where nothing was recorded so
	Kind    string         `json:"kind"`  // of which the rest is
	Unit    string         `json:"unit"`  // of amounts; "count" where events have none
	All     int64          `json:"all"`   // rows in scope
	Events  int64          `json:"events"`
	Total   int64          `json:"total"` // of the amounts of all
	Median  int64          `json:"p50"`
	Ninety  int64          `json:"p90"`
	Almost  int64          `json:"p99"`
	Largest int64          `json:"max"`
	Sizes   []EventSizeOut `json:"sizes"`
	Over    []int64        `json:"over"` // rows by bin of time, of equal length
	ToNS    int64          `json:"to_ns"`
	// Column is what amounts are of, "" where they are the kind's own; Columns are what is known of rows
	// beside when and where they were, and By what the texts of each add up to.
	Column    string           `json:"column"`
	Columns   []EventColumnOut `json:"columns"`
	By        []EventGroupOut  `json:"by"`
	Functions []FunctionRef    `json:"functions"` // that rows speak of
	Rows      []EventRowOut    `json:"rows"`
}

// EventKindOut is a kind of event.
type EventKindOut struct {
	Name   string `json:"name"`
	Label  string `json:"label"`
	Unit   string `json:"unit"`   // of its own amounts; "count" where it has none
	Column string `json:"column"` // the measure that a scope bounds amounts by, "" where there are none
	Events int64  `json:"events"` // that the take counted; 0: not known
	Single int64  `json:"single"` // of them, those with a row of their own
	Lost   int64  `json:"lost"`
	Apart  bool   `json:"apart"` // what has no row of its own is missing, and not added to another one
	Short  string `json:"short"` // which came too fast to be kept, before "came": "were shorter than 1 ms and "
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

	Values []EventValueOut `json:"values"` // by column
}

// EventColumnOut is something that is known of events.
type EventColumnOut struct {
	Name string `json:"name"`
	Unit string `json:"unit"` // "ns", "bytes", "count", "text" or "address"
	Rows int64  `json:"rows"` // of the take that have it
}

// EventValueOut is what a row has in a column.
type EventValueOut struct {
	Has    bool   `json:"has"`
	Number int64  `json:"number"`
	Text   string `json:"text"` // of a text, and of an address
}

// EventGroupOut is what the rows of each text of a column add up to, the largest ones first.
type EventGroupOut struct {
	Column string         `json:"column"`
	Texts  []EventTextOut `json:"texts"`
	Others int            `json:"others"` // more texts, which are not named,
	Rows   int64          `json:"rows"`   // with so many rows,
	Total  int64          `json:"total"`  // and so much together
	None   int64          `json:"none"`   // rows without any
}

// EventTextOut is one text in a group.
type EventTextOut struct {
	Text  string `json:"text"`
	Rows  int64  `json:"rows"`
	Total int64  `json:"total"`
}
