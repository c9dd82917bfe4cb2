package api

// OverTake is what a function costs in one take, as the scale has it.
type OverTake struct {
	Key   string  `json:"key"`
	At    string  `json:"at"`
	Self  float64 `json:"self"`
	Total float64 `json:"total"`
	Lost  int64   `json:"lost,omitempty"` // events that are missing in the take, which is then partial
}

// OverBuild is what a function costs in a build: the mean of its takes, with its
// 95 % interval, and how that differs from the build before.
type OverBuild struct {
	Name  string      `json:"name"`
	Takes []OverTake  `json:"takes"`
	Self  OverMeasure `json:"self"`
	Total OverMeasure `json:"total"`
}

// OverMeasure is one of a function's costs over the takes of a build.
type OverMeasure struct {
	Mean   float64     `json:"mean"`
	Low    float64     `json:"low"`
	High   float64     `json:"high"`
	Before EstimateOut `json:"before"` // the build before against this one; of the first all is 0
}

// OverOut is one function over all builds of a program.
type OverOut struct {
	Name     string          `json:"name"`
	Short    string          `json:"short"`
	Scale    string          `json:"scale"`
	Words    string          `json:"words"`
	Unit     string          `json:"unit"`
	Measure  string          `json:"measure"`
	Label    string          `json:"label"`
	Counted  bool            `json:"counted"`
	Plain    string          `json:"plain_unit"`
	Measures []LedgerMeasure `json:"measures"`
	Without  int64           `json:"without"`
	Workload LedgerWorkloads `json:"workload"`
	Builds   []OverBuild     `json:"builds"`
}
