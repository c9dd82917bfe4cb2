package capture

// Check is one thing that a machine allows or not.
type Check struct {
	Name   string
	State  string // CheckGood, CheckPart or CheckBad
	Text   string // one sentence
	Remedy string // what would help, "" where nothing is missing
}

// The states of a check.
const (
	CheckGood = "good"
	CheckPart = "part" // it works, with something missing
	CheckBad  = "bad"
)
