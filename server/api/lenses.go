package api

// The answers to what the lenses and the scope line ask.

// ScopePart is one of the conditions that all have to hold.
type ScopePart struct {
	Text   string   `json:"text"`  // as an expression of its own
	Field  string   `json:"field"` // what it restricts; "" where that is several things
	Not    bool     `json:"not"`
	FromNS int64    `json:"from_ns"` // of a part of the time
	ToNS   int64    `json:"to_ns"`
	Texts  []string `json:"texts"` // what the field has to be one of
}

// ScopeOut is an expression as it is understood, or what is wrong with it.
type ScopeOut struct {
	Text       string      `json:"text"`
	Parts      []ScopePart `json:"parts"`
	Absent     []string    `json:"absent"`     // names that the take does not have, in sentences
	Error      string      `json:"error"`      // "" where it can be read
	At         int         `json:"at"`         // of the wrong character, from 0
	Correction string      `json:"correction"` // of the whole expression, "" for none
}

// ScopeProposal is a way to go on with an expression.
type ScopeProposal struct {
	Text    string `json:"text"`
	From    int    `json:"from"` // the characters that it replaces
	To      int    `json:"to"`
	Samples int64  `json:"samples"` // of a name
}

// CompleteOut proposes how an expression may go on.
type CompleteOut struct {
	Proposals []ScopeProposal `json:"proposals"`
}

// PathRow is one step of a path.
type PathRow struct {
	Function FunctionRef `json:"function"`
	Node     uint32      `json:"node"`
	Self     int64       `json:"self"`
	Total    int64       `json:"total"`
	Samples  int64       `json:"samples"`
	Calls    int64       `json:"calls"` // of the function by this path; of a path from the leaves, of its first function
	More     bool        `json:"more"`
}

// PathSteps are the steps that follow one, the costliest first.
type PathSteps struct {
	Rows        []PathRow `json:"rows"`
	Hidden      int       `json:"hidden"` // steps beyond those
	HiddenValue int64     `json:"hidden_value"`
}

// PathsOut are the steps that follow one of a path.
type PathsOut struct {
	Total       int64       `json:"total"`
	Samples     int64       `json:"samples"`
	Rows        []PathRow   `json:"rows"`
	Hidden      int         `json:"hidden"` // steps beyond those
	HiddenValue int64       `json:"hidden_value"`
	Heaviest    []uint32    `json:"heaviest,omitempty"` // the nodes of the heaviest path down to where it spreads out
	Steps       []PathSteps `json:"steps,omitempty"`    // that follow each of them
	Spread      uint32      `json:"spread"`             // the last of them
	Deeper      int         `json:"deeper"`             // steps of the heaviest path that are left out at its end
}

// KeptOut is how much of a take a scope keeps.
type KeptOut struct {
	Total     int64 `json:"total"`
	Samples   int64 `json:"samples"`
	OfTotal   int64 `json:"of_total"` // without the scope
	OfSamples int64 `json:"of_samples"`
}

// NeighbourOut is a function around another one.
type NeighbourOut struct {
	Function *FunctionRef `json:"function,omitempty"` // absent: several together
	Level    int          `json:"level"`              // -1: calls it, 1: is called by it
	Value    int64        `json:"value"`
	Samples  int64        `json:"samples"`
	Others   int          `json:"others"`
}

// LinkOut is a call, by the positions of both ends.
type LinkOut struct {
	From  int   `json:"from"`
	To    int   `json:"to"`
	Value int64 `json:"value"`
	Calls int64 `json:"calls"` // of one by the other, wherever they were made; 0 where they were not counted, too
}

// NeighboursOut is where a function's cost comes in and where it goes on.
type NeighboursOut struct {
	ScopeTotal int64          `json:"scope_total"`
	Total      int64          `json:"total"`
	Self       int64          `json:"self"`
	Nodes      []NeighbourOut `json:"nodes"` // the function itself first
	Links      []LinkOut      `json:"links"`
}

// GraphNode is a function of the call graph.
type GraphNode struct {
	Function FunctionRef `json:"function"`
	Self     int64       `json:"self"`
	Total    int64       `json:"total"`
}

// GraphOut is the call graph without its thin parts.
type GraphOut struct {
	Total           int64       `json:"total"`
	Nodes           []GraphNode `json:"nodes"`
	Links           []LinkOut   `json:"links"`
	HiddenFunctions int         `json:"hidden_functions"`
	HiddenLinks     int         `json:"hidden_links"`
	HiddenSelf      int64       `json:"hidden_self"`
}

// RemarkIn is a note on a take or on a function of its program.
type RemarkIn struct {
	Function string `json:"function"` // full name, "" for the take itself
	Text     string `json:"text"`     // Markdown
}

// RemarkOut is a note.
type RemarkOut struct {
	ID        int64  `json:"id"`
	Function  string `json:"function"`
	Short     string `json:"short"`
	Text      string `json:"text"`
	HTML      string `json:"html"` // made from the text, safe to show
	Who       string `json:"who"`
	Settled   bool   `json:"settled"` // it asks for nothing any more
	CreatedAt string `json:"created_at"`
	UpdatedAt string `json:"updated_at"`
}

// SettledIn says whether a note is settled.
type SettledIn struct {
	Settled bool `json:"settled"`
}

// RemarksOut are the notes on a take and on the functions of its program.
type RemarksOut struct {
	Notes []RemarkOut `json:"notes"`
}

// PinIn pins a function, or lets it go.
type PinIn struct {
	Function string `json:"function"` // full name
	On       bool   `json:"on"`
}

// PinsOut are the functions that stand on top of a program's lists.
type PinsOut struct {
	Functions []string `json:"functions"`
}

// ThreadCost is what a thread's samples in scope add up to.
type ThreadCost struct {
	TID     uint32 `json:"tid"`
	Name    string `json:"name"`
	Process string `json:"process"`
	Value   int64  `json:"value"`
	Samples int64  `json:"samples"`
}

// ThreadsOut is the cost by thread, the costliest first.
type ThreadsOut struct {
	Total   int64        `json:"total"`
	Threads []ThreadCost `json:"threads"`
}

// BuildsOut is a function's share in the newest take of each build, in scope.
type BuildsOut struct {
	Builds []BuildFigure `json:"builds"`
}

// SourceRule says where source is: paths that begin with Begins begin with
// Becomes there, which is in a folder that the server was given.
type SourceRule struct {
	Begins  string `json:"begins"`
	Becomes string `json:"becomes"`
}

// SourceRules are a program's rules, and the folders that the server reads
// source from.
type SourceRules struct {
	Rules   []SourceRule `json:"rules"`
	Folders []string     `json:"folders"`
}

// SourceRulesIn replaces a program's rules.
type SourceRulesIn struct {
	Rules []SourceRule `json:"rules"`
}

// SourceLine is a line of a file with its cost.
type SourceLine struct {
	Line    uint32    `json:"line"` // 0: unknown
	Self    int64     `json:"self"`
	Total   int64     `json:"total"`
	Samples int64     `json:"samples"`
	Times   int64     `json:"times"` // it was executed; 0 where that was not counted
	Calls   []EdgeOut `json:"calls"` // what it calls, the costliest first
}

// FunctionLine is where a function begins.
type FunctionLine struct {
	Line  uint32 `json:"line"`
	Name  string `json:"name"`
	Short string `json:"short"`
}

// LinesOut is the file of a function, line by line.
type LinesOut struct {
	Function   FunctionRef    `json:"function"`
	File       string         `json:"file"`      // as the take has it
	Found      string         `json:"found"`     // where its source is, "" if it was not found
	Delivered  bool           `json:"delivered"` // the source came with the take
	Missing    string         `json:"missing"`   // why not
	Begin      uint32         `json:"begin"`     // line where the function begins
	ScopeTotal int64          `json:"scope_total"`
	Counted    bool           `json:"counted"` // times executed and calls are
	Lines      []SourceLine   `json:"lines"`
	Source     []string       `json:"source"`
	Functions  []FunctionLine `json:"functions"` // of the take, in this file
}
