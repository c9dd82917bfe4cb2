package profile

// Outline is what there is to say of a profile without its samples.
type Outline struct {
	FirstNS  int64           `json:"first_ns"` // the times of the first and of the last sample
	LastNS   int64           `json:"last_ns"`
	Measures []MeasureTotal  `json:"measures"`
	Threads  []ThreadSamples `json:"threads"`
}

// MeasureTotal is a measure with the sum over all samples, in its unit.
type MeasureTotal struct {
	Name    string `json:"name"`
	Label   string `json:"label"`
	Unit    string `json:"unit"`
	Counted bool   `json:"counted"`
	Total   int64  `json:"total"`
}

// ThreadSamples is a thread with the number of its samples.
type ThreadSamples struct {
	PID     uint32 `json:"pid"`
	TID     uint32 `json:"tid"`
	Name    string `json:"name"`
	Process string `json:"process"`
	Samples int64  `json:"samples"`
	// Goroutine: it is one, and TID its number.
	Goroutine bool `json:"goroutine,omitempty"`
}

// Outline takes one pass over the samples.
func (p *Profile) Outline() Outline {
	o := Outline{Measures: []MeasureTotal{}, Threads: make([]ThreadSamples, len(p.Threads))}
	o.FirstNS, o.LastNS = p.Span()
	for i := range p.Measures {
		w := p.Words(i)
		if w.Beside {
			continue
		}
		o.Measures = append(o.Measures, MeasureTotal{w.Name, w.Label, w.Unit, w.Counted, p.Total(i)})
	}
	for i, t := range p.Threads {
		pr := p.Processes[t.Process]
		o.Threads[i] = ThreadSamples{PID: pr.PID, TID: t.TID, Name: p.Strings[t.Name], Process: p.Strings[pr.Name], Goroutine: t.Goroutine}
	}
	for _, t := range p.Samples.Thread {
		o.Threads[t].Samples++
	}
	return o
}
