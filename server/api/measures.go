package api

// MeasureKindOut is a measure that a take can have.
type MeasureKindOut struct {
	Word  string `json:"word"`  // that chooses it
	Title string `json:"title"` // for a chooser
	Form  string `json:"form"`  // how it is written, with what it is of
	Plain bool   `json:"plain"` // it can be chosen by its word alone
	Means string `json:"means"`
	Note  string `json:"note"` // what is counted and what that costs
}

// MeasuresOut lists the measures.
type MeasuresOut struct {
	Measures []MeasureKindOut `json:"measures"`
}
