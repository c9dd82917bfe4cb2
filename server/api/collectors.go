package api

import "entelon/core/profile"

// The bodies of what collectors say and are told, and of what is told of them.

// CollectorOut is a collector and its machine.
type CollectorOut struct {
	Name       string        `json:"name"`
	Here       bool          `json:"here"`     // it was heard of just now
	Enrolled   bool          `json:"enrolled"` // it has a key
	EnrolledAt string        `json:"enrolled_at"`
	EnrolledBy string        `json:"enrolled_by"`
	SeenAt     string        `json:"seen_at"` // "" for never
	Report     MachineReport `json:"report"`
}

// CollectorsOut are all collectors.
type CollectorsOut struct {
	Collectors []CollectorOut `json:"collectors"`
}

// CollectorIn is what a collector says when it asks for a job.
type CollectorIn struct {
	Report MachineReport `json:"report"`
	Doing  []string      `json:"doing"` // the jobs that it works on; one that it was given and does not know got lost on the way
}

// CollectorNameIn names a collector.
type CollectorNameIn struct {
	Name string `json:"name"`
}

// CollectorLinkOut is a link by which one collector can enrol, once.
type CollectorLinkOut struct {
	Name  string  `json:"name"`
	Path  string  `json:"path"`
	Hours float64 `json:"hours"` // for which it is good
}

// EnrolIn enrols a collector by a link.
type EnrolIn struct {
	Link      string `json:"link"`
	PublicKey string `json:"public_key"` // Ed25519, in base64
}

// ChallengeOut is what a collector signs to begin a session.
type ChallengeOut struct {
	Challenge string `json:"challenge"`
}

// CollectorSessionIn answers a challenge.
type CollectorSessionIn struct {
	Name      string `json:"name"`
	Challenge string `json:"challenge"`
	Signature string `json:"signature"` // of the server's address, the name and the challenge, in base64
}

// CollectorSessionOut is a session of a collector.
type CollectorSessionOut struct {
	Secret  string  `json:"secret"`
	Seconds float64 `json:"seconds"` // for which it is good
	Renew   bool    `json:"renew"`   // the key is old; make another one
}

// CollectorKeyIn replaces a collector's key.
type CollectorKeyIn struct {
	PublicKey string `json:"public_key"`
	Signature string `json:"signature"` // of the name and the new key, with the old one
}

// JobForCollector is a job as its collector gets it.
type JobForCollector struct {
	ID       string           `json:"id"`
	Kind     string           `json:"kind"`
	Who      string           `json:"who"` // the person who asked
	Settings profile.Settings `json:"settings"`
	Count    *CountTask       `json:"count,omitempty"`
}

// NextJobOut is a collector's next job, if there is one.
type NextJobOut struct {
	Job *JobForCollector `json:"job,omitempty"`
}

// GrowOut says how much of a growing take has come, and whether it shall end.
type GrowOut struct {
	Size int64 `json:"size"`
	Stop bool  `json:"stop"`
	Over bool  `json:"over"` // the job has ended already
	// Digest is, where it has ended, of the file that was kept, "" for none.
	Digest string `json:"digest"`
}

// JobEndIn is how a job ended. Size and Digest are of the file that its collector
// has of it; it is deleted there only when the answer has the same.
type JobEndIn struct {
	Size   int64         `json:"size"`
	Digest string        `json:"digest"` // SHA-256, hexadecimal
	Error  string        `json:"error"`
	Remedy string        `json:"remedy"`
	Answer *ProcessesOut `json:"answer"` // to a question
	Groups *GroupsOut    `json:"groups"`
	Counts *CountOut     `json:"counts"`
	// Measures answers what can be measured.
	Measures *MeasurablesOut `json:"measures"`
}

// MachineCheck is one thing that a machine allows or not.
type MachineCheck struct {
	Name   string `json:"name"`
	State  string `json:"state"` // good, part or bad
	Text   string `json:"text"`
	Remedy string `json:"remedy"`
}

// MachineReport is what a machine allows.
type MachineReport struct {
	Machine profile.Machine `json:"machine"`
	Checks  []MachineCheck  `json:"checks"`
	Allows  []string        `json:"allows"` // what its owner allows, in sentences
}

// ProcessOut is a process that runs.
type ProcessOut struct {
	PID     int      `json:"pid"`
	Name    string   `json:"name"`
	Command []string `json:"command"`
	Owner   string   `json:"owner"`
	Program string   `json:"program"` // path of its file
	Runtime string   `json:"runtime"` // go, python, node, java, or ""
	Threads int      `json:"threads"`
	AgeS    float64  `json:"age_s"`
	CPU     float64  `json:"cpu"`    // processors that it uses now
	Parent  int      `json:"parent"` // number of the process that started it
	UsedS   float64  `json:"used_s"` // processor time since it began
}

// ProcessesOut are the processes of a machine.
type ProcessesOut struct {
	Processes []ProcessOut `json:"processes"`
}

// MeasurableOut is something that can be measured on a machine.
type MeasurableOut struct {
	Name  string `json:"name"` // as settings have it
	Unit  string `json:"unit"`
	Means string `json:"means"`
	Cost  string `json:"cost"`
	Not   string `json:"not,omitempty"` // why not there
}

// MeasurablesOut are some things that can be measured on a machine.
type MeasurablesOut struct {
	Measures []MeasurableOut `json:"measures"`
	Left     int             `json:"left"` // how many more there are
}

// GroupOut is a control group in which something runs, such as a container.
type GroupOut struct {
	Path      string   `json:"path"` // below the system's folder of control groups
	Processes int      `json:"processes"`
	Programs  []string `json:"programs"` // some of their names
}

// GroupsOut are the control groups of a machine.
type GroupsOut struct {
	Groups []GroupOut `json:"groups"`
}
