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
	Channel // of a goroutine, until another one sends or receives
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

// stateMarks are the marks of waits that the states stand for.
var stateMarks = [States]profile.Mark{
	Ready: profile.WaitProcessor, Lock: profile.WaitLock, Channel: profile.WaitChannel, Disk: profile.WaitDisk, Network: profile.WaitNetwork, Timer: profile.WaitSleep, Events: profile.WaitEvents,
	Input: profile.WaitInput, Process: profile.WaitProcess, Memory: profile.WaitMemory, Other: profile.WaitUnknown,
}

// String returns the name as scopes and the API use it.
func (s State) String() string {
	switch {
	case s == NotThere || s >= States:
		return ""
	case s == Unknown:
		return "unknown"
	}
	return stateMarks[s].State()
}

// Words is how the state is shown: "waits for a lock".
func (s State) Words() string {
	switch {
	case s == Unknown:
		return "not measured"
	case s == Running:
		return "runs"
	case s >= States:
		return ""
	}
	return stateMarks[s].Words()
}

// Waits reports whether a thread in the state cannot go on.
func (s State) Waits() bool { return s >= Lock && s < States }

// stateOfMark is the state of a thread that waits, by what its stack says that it waits for.
var stateOfMark = func() map[profile.Mark]State {
	out := map[profile.Mark]State{}
	for s := Ready; s < States; s++ {
		out[stateMarks[s]] = s
	}
	return out
}()
