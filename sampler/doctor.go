package sampler

import "entelon/core/profile"

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

// Examine looks at what this machine and this user's rights allow. It changes
// nothing.
func Examine() []Check { return examine() }

// Machine returns the facts of this machine.
func Machine() profile.Machine { return machineFacts() }

// Group is a control group in which something runs, such as a container.
type Group struct {
	Path      string // below the system's folder of control groups
	Processes int
	Programs  []string // some of their names
}

// Groups lists the control groups in which something runs, by path.
func Groups() ([]Group, error) { return runningGroups() }

// RunningProcess is a process that could be attached to.
type RunningProcess struct {
	PID     int
	Name    string
	Command []string
	Owner   string
	Program string // path of its file, "" where that may not be read
	Runtime string // "go", "python", "node", "java" or ""
	Threads int
	AgeS    float64
	CPU     float64 // processors that it uses now
}

// Processes lists what runs on this machine, the busiest first. It looks twice,
// a moment apart, to see who is busy.
func Processes() ([]RunningProcess, error) { return runningProcesses() }
