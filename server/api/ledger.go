package api

// LedgerBuild is a build in a program's ledger: a column.
type LedgerBuild struct {
	Name     string   `json:"name"`
	Takes    []string `json:"takes"` // keys, the oldest first
	LastAt   string   `json:"last_at"`
	Note     string   `json:"note"`           // of its last take that has one
	Lost     int64    `json:"lost,omitempty"` // events that are missing in its takes, whose totals are then partial
	Mean     float64  `json:"mean"`           // of the takes, as the scale has it
	Low      float64  `json:"low"`            // 95 % interval of the mean; the mean itself where there is one take
	High     float64  `json:"high"`
	Verdict  string   `json:"verdict"` // against the build before; "" for the first
	Change   float64  `json:"change"`  // to the build before, as a ratio; 0 for the first
	ChangeLo float64  `json:"change_low"`
	ChangeHi float64  `json:"change_high"`
	Mark     string   `json:"mark"` // regression, fixed (of one before), or ""
	// Since is the last build without an open regression, where one is open here, with
	// the change from it; "" where none is.
	Since       string  `json:"since"`
	SinceChange float64 `json:"since_change"`
	SinceLow    float64 `json:"since_low"`
	SinceHigh   float64 `json:"since_high"`
	// Steady is by how much the share of a function that did not change differs from that
	// in the build before, where shares are shown; 0 where that is not known.
	Steady float64 `json:"steady"`
}

// LedgerRow is a function over all builds; figures are as the scale has them.
type LedgerRow struct {
	Name   string    `json:"name"`
	Short  string    `json:"short"`
	Pinned bool      `json:"pinned"`
	Self   []float64 `json:"self"` // by build
	Total  []float64 `json:"total"`
}

// LedgerNote is a note that asks for something.
type LedgerNote struct {
	ID       int64  `json:"id"`
	Function string `json:"function"` // "" of a note on a take
	Short    string `json:"short"`
	Key      string `json:"key"` // of the take, "" of a note on a function
	Build    string `json:"build"`
	Text     string `json:"text"` // its first line
	Who      string `json:"who"`
	At       string `json:"at"`
}

// LedgerMeasure is a measure that takes of a program have.
type LedgerMeasure struct {
	Name  string `json:"name"`
	Label string `json:"label"`
	Takes int64  `json:"takes"`
}

// LedgerWorkloads are the workload whose takes stand beside each other, and what there is
// besides.
type LedgerWorkloads struct {
	ID        int64         `json:"id"`
	Workloads []WorkloadOut `json:"workloads"` // of the program, that one among them
	Count     int64         `json:"count"`     // of all, listed or not
	Others    int64         `json:"others"`    // takes of other workloads
}

// LedgerShift is a build from which on the program costs more or less for good: a step, or
// the middle of a slow drift.
type LedgerShift struct {
	Build    string  `json:"build"`
	Change   float64 `json:"change"` // to the builds before, as a ratio
	Low      float64 `json:"low"`    // 95 %
	High     float64 `json:"high"`
	P        float64 `json:"p"`        // of so large a step by chance
	Unmarked bool    `json:"unmarked"` // that build by itself is not called slower or faster
}

// LedgerOut is a program's home: its builds side by side, function by function.
type LedgerOut struct {
	Program  string          `json:"program"`
	Scale    string          `json:"scale"`
	Scales   []ScaleOut      `json:"scales"` // that all takes allow
	Words    string          `json:"words"`  // of the scale
	Unit     string          `json:"unit"`
	Measure  string          `json:"measure"`    // its name
	Label    string          `json:"label"`      // of the measure
	Plain    string          `json:"plain_unit"` // the measure\'s own unit
	Counted  bool            `json:"counted"`    // every event is in it
	Exact    bool            `json:"exact"`      // all takes are of exact runs
	Measures []LedgerMeasure `json:"measures"`   // that takes of the program have
	Without  int64           `json:"without"`    // takes that do not have the measure
	Workload LedgerWorkloads `json:"workload"`
	// NoYardstick says why takes of unequal length are shown as shares, "" where they are not.
	NoYardstick string        `json:"no_yardstick"`
	Shifts      []LedgerShift `json:"shifts"`
	Builds      []LedgerBuild `json:"builds"` // in the order in which they were first measured
	Rows        []LedgerRow   `json:"rows"`   // pinned ones first, then what changed most
	Hidden      int           `json:"hidden"` // functions that are left out
	Notes       []LedgerNote  `json:"notes"`  // that are not settled, the newest first
}
