package api

import "time"

// WorkloadOut is what a program was made to do in some of its takes.
type WorkloadOut struct {
	ID     int64     `json:"id"`
	Name   string    `json:"name"`
	Words  string    `json:"words"` // what it was called before anybody named it
	Named  bool      `json:"named"` // by hand, or with the take
	Takes  int64     `json:"takes"`
	Builds int64     `json:"builds"`
	LastAt time.Time `json:"last_at"` // of its newest take
	Merged []string  `json:"merged"`  // names of those that were merged into it
}

// WorkloadsOut are a program's workloads, those first whose takes can be held against each
// other.
type WorkloadsOut struct {
	Workloads []WorkloadOut       `json:"workloads"`
	Count     int64               `json:"count"` // of all, listed or not
	Changes   []WorkloadChangeOut `json:"changes"`
}

// WorkloadChangeOut is what somebody did to a program's workloads; the newest one can be
// undone.
type WorkloadChangeOut struct {
	Who  string    `json:"who"`
	What string    `json:"what"`
	At   time.Time `json:"at"`
}

// WorkloadNameIn names a workload.
type WorkloadNameIn struct {
	Name string `json:"name"`
}

// WorkloadsMergeIn puts the takes of workloads into another one.
type WorkloadsMergeIn struct {
	From []int64 `json:"from"`
	Into int64   `json:"into"`
}

// TakesMoveIn puts takes into another workload of their program: into one that there is, or
// into one of a name where Into is 0.
type TakesMoveIn struct {
	Takes []string `json:"takes"` // keys
	Into  int64    `json:"into"`
	Name  string   `json:"name"`
}
