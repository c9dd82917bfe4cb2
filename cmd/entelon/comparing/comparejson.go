package comparing

import (
	"entelon/codec/verdict"
	"entelon/core/measure"
	"entelon/core/reading"
	"entelon/core/statistics"
)

// JSON is a comparison as --format json prints it.
type JSON struct {
	Outcome   string        `json:"outcome"`
	Findings  []findingOut  `json:"findings"`
	Reading   string        `json:"reading"`
	Baseline  sideOut       `json:"baseline"`
	Candidate sideOut       `json:"candidate"`
	Measure   string        `json:"measure"`
	Unit      string        `json:"unit"` // of every figure below
	Scale     string        `json:"scale"`
	Scope     string        `json:"scope"`
	Whole     estimateOut   `json:"whole"`
	Without   *withoutOut   `json:"without,omitempty"`
	Suspects  []suspectOut  `json:"suspects"`
	Matches   []matchOut    `json:"matches"`
	Remarks   []string      `json:"remarks"`
	Functions []FunctionRow `json:"functions"`
}

// withoutOut is the whole without the takes that are far off the others of their side.
type withoutOut struct {
	Takes []string    `json:"takes"`
	Whole estimateOut `json:"whole"`
}

type sideOut struct {
	Program string    `json:"program"`
	Build   string    `json:"build"`
	BuildID string    `json:"build_id"`
	Takes   []takeRow `json:"takes"`
}

type takeRow struct {
	File       string  `json:"file"`
	Total      int64   `json:"total"`
	Samples    int64   `json:"samples"`
	DurationNS int64   `json:"duration_ns"`
	CPUNS      int64   `json:"cpu_ns"`
	Work       float64 `json:"work"`
}

type estimateOut struct {
	Baseline   float64 `json:"baseline"`
	Candidate  float64 `json:"candidate"`
	Difference float64 `json:"difference"`
	Low        float64 `json:"low"` // 95 % interval of the difference
	High       float64 `json:"high"`
	Ratio      float64 `json:"ratio"` // 0: the baseline has none
	RatioLow   float64 `json:"ratio_low"`
	RatioHigh  float64 `json:"ratio_high"`
	P          float64 `json:"p"`
	Seen       float64 `json:"smallest_change_seen"` // as a share of the baseline
	Need       int     `json:"takes_needed"`         // a side; 0 where these do
	Verdict    string  `json:"verdict"`
}

type findingOut struct {
	Function string  `json:"function"` // "" for the whole
	Outcome  string  `json:"outcome"`
	Allowed  float64 `json:"allowed"`
	Text     string  `json:"text"`
	Note     string  `json:"note,omitempty"`
}

type suspectOut struct {
	Function string      `json:"function"`
	Path     []string    `json:"path"`
	Why      string      `json:"why"`
	Via      string      `json:"via"` // a function that says more of why; "" for none
	Share    float64     `json:"share"`
	Estimate estimateOut `json:"estimate"`
	Counts   []callsOut  `json:"counts"`
	ByCalls  float64     `json:"by_calls,omitempty"` // of the difference, what is of the number of calls
	ByEach   float64     `json:"by_each,omitempty"`  // and what of the cost of one
}

// callsOut is how often a function was called at a suspect, as the scale has it.
type callsOut struct {
	Function  string  `json:"function"`
	Baseline  float64 `json:"baseline"`
	Candidate float64 `json:"candidate"`
}

type matchOut struct {
	Baseline  string `json:"baseline"`
	Candidate string `json:"candidate"`
	Reason    string `json:"reason"`
}

// FunctionRow is one function of it.
type FunctionRow struct {
	Name   string      `json:"name"`
	Module string      `json:"module"`
	Self   estimateOut `json:"self"`
	Total  estimateOut `json:"total"`
	State  string      `json:"state"`
	Was    string      `json:"was,omitempty"`   // its name in the baseline, if another
	Calls  []float64   `json:"calls,omitempty"` // of the baseline and the candidate, of exact takes
}

func estimateJSON(e statistics.Estimate) estimateOut {
	return estimateOut{Baseline: e.Baseline, Candidate: e.Candidate, Difference: e.Difference, Low: e.Low, High: e.High, Ratio: e.Ratio, RatioLow: e.RatioLow, RatioHigh: e.RatioHigh, P: e.P, Seen: e.Seen, Need: e.Need, Verdict: string(e.Verdict)}
}

func compareResult(a, b *measured, words measure.Column, v verdict.View) JSON {
	one := func(m *measured) sideOut {
		t := m.takes[0]
		out := sideOut{t.Settings.Program, t.Settings.Build, t.Facts.BuildID, []takeRow{}}
		for i := range m.takes {
			r := &m.runs[i]
			out.Takes = append(out.Takes, takeRow{m.files[i], r.Total(), r.Samples(), r.DurationNS, r.CPUNS, r.Work})
		}
		return out
	}
	r := v.Result
	out := JSON{
		Outcome: string(v.Outcome), Findings: []findingOut{}, Baseline: one(a), Candidate: one(b), Measure: words.Name, Unit: r.Scale.Unit(words.Unit),
		Scale: string(r.Scale), Scope: v.Scope, Whole: estimateJSON(r.Whole), Suspects: []suspectOut{}, Matches: []matchOut{}, Remarks: []string{}, Functions: []FunctionRow{},
	}
	for _, p := range reading.Comparison(r, v.Suspects, v.Sides) {
		out.Reading += p.Text
	}
	for i := range v.Findings {
		f := &v.Findings[i]
		out.Findings = append(out.Findings, findingOut{f.Name, string(f.Outcome), f.Limit, f.Text(r, v.Sides.Measure), f.Note})
	}
	for _, s := range v.Suspects {
		x := suspectOut{Function: r.Name(s.Function()), Path: []string{}, Why: string(s.Why), Share: s.Share, Estimate: estimateJSON(s.Estimate), Counts: []callsOut{}, ByCalls: s.Split[0], ByEach: s.Split[1]}
		if s.Via >= 0 {
			x.Via = r.Name(s.Via)
		}
		for _, f := range s.Path {
			x.Path = append(x.Path, r.Name(f))
		}
		for _, n := range s.Counts {
			x.Counts = append(x.Counts, callsOut{r.Name(n.Function), n.Calls[0], n.Calls[1]})
		}
		out.Suspects = append(out.Suspects, x)
	}
	for _, m := range r.Matches {
		out.Matches = append(out.Matches, matchOut{m.Baseline, m.Candidate, m.Reason})
	}
	for _, m := range r.Remarks {
		out.Remarks = append(out.Remarks, m.Text+" "+m.Remedy)
	}
	for _, row := range r.Rows {
		x := FunctionRow{Name: row.Name, Module: row.Module, Self: estimateJSON(row.Self), Total: estimateJSON(row.Total), State: string(row.State)}
		if r.CallsCounted {
			x.Calls = row.Calls[:]
		}
		if row.Match != nil {
			x.Was = row.Match.Baseline
		}
		out.Functions = append(out.Functions, x)
	}
	return out
}
