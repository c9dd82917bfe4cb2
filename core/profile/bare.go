package profile

// Bare is how a command ran without being sampled: right before the take, and where there
// are several pairs, alternating with runs that were sampled.
type Bare struct {
	DurationNS int64  `json:"duration_ns"` // of the last one
	CPUNS      int64  `json:"cpu_ns"`
	ExitCode   int    `json:"exit_code"`
	Pairs      []Pair `json:"pairs,omitempty"` // the sampled run of the last one is the take
}

// Pair is a run without sampling and one with it. Processor time is the command's own and
// that of the children that it waited for.
type Pair struct {
	BareNS       int64 `json:"bare_ns"`
	BareCPUNS    int64 `json:"bare_cpu_ns"`
	SampledNS    int64 `json:"sampled_ns"` // 0: it did not end by itself
	SampledCPUNS int64 `json:"sampled_cpu_ns"`
}
