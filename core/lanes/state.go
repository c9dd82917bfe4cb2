package lanes

import "entelon/core/profile"

// State is what a thread does at a time.
type State uint8

// The states. A thread that is not there has none.
const (
	NotThere State = iota
	Unknown        // it is there, and the take did not measure whether it runs
	Running
	Ready // it could run, and waits for a processor
	Lock
	Disk
	Network
	Timer
	Events
	Input
	Process
	Memory
	Other // it waits for something else, or since before the take began
	States
)

var stateRows = [States]struct {
	name, words string
	mark        profile.Mark
}{
	NotThere: {"", "", profile.NoMark},
	Unknown:  {"unknown", "not measured", profile.NoMark},
	Running:  {"running", "runs", profile.NoMark},
	Ready:    {"ready", "", profile.WaitProcessor},
	Lock:     {"lock", "", profile.WaitLock},
	Disk:     {"disk", "", profile.WaitDisk},
	Network:  {"network", "", profile.WaitNetwork},
	Timer:    {"timer", "", profile.WaitSleep},
	Events:   {"events", "", profile.WaitEvents},
	Input:    {"input", "", profile.WaitInput},
	Process:  {"process", "", profile.WaitProcess},
	Memory:   {"memory", "", profile.WaitMemory},
	Other:    {"other", "", profile.WaitUnknown},
}

// String returns the name as the API uses it.
func (s State) String() string {
	if s < States {
		return stateRows[s].name
	}
	return ""
}

// Words is how the state is shown: "waits for a lock".
func (s State) Words() string {
	if s >= States {
		return ""
	}
	if w := stateRows[s].words; w != "" {
		return w
	}
	return stateRows[s].mark.Words()
}

// Waits reports whether a thread in the state cannot go on.
func (s State) Waits() bool { return s >= Lock && s < States }

// stateOfMark is the state of a thread that waits, by what its stack says that it waits for.
var stateOfMark = func() map[profile.Mark]State {
	out := map[profile.Mark]State{}
	for s, row := range stateRows {
		if row.mark != profile.NoMark {
			out[row.mark] = State(s)
		}
	}
	return out
}()
