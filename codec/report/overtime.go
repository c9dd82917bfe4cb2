package report

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"entelon/codec"
	"entelon/core/events"
	"entelon/core/lanes"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/spans"
)

// Bounds of what a report tells over time.
const (
	maxLanes     = 16
	maxSpanNames = 20
	maxEventRows = 12
	stripParts   = 300 // how finely a lane is drawn
)

// lane is what a thread did: how long it was in each state, and a strip over time.
type lane struct {
	Words, Process string
	Spent          []string // by the states of the table
	Strip          []piece
}

// piece is a part of a strip: from where to where of stripParts, and how much of it the thread ran, waited for a
// processor, and waited for what it needed to go on, from the bottom upwards in hundredths.
type piece struct {
	X, W                     float64
	Run, Ready, Needed       float64
	AtRun, AtReady, AtNeeded float64 // where these begin, from the top
}

// overTime is what threads did when.
type overTime struct {
	States []string
	Lanes  []lane
	More   int // lanes that are not among these
}

func lanesOf(v codec.View) overTime {
	if v.Take.Facts.Exact != nil || v.Take.Profile.Folded() {
		return overTime{}
	}
	x := lanes.New(v.Take)
	if !x.Measured {
		return overTime{}
	}
	p := v.Take.Profile
	shown := slices.DeleteFunc(x.InScope(v.Scope), func(at int) bool { return profile.MadeUp(p, p.Threads[x.Lanes[at].Thread]) })
	out := overTime{More: max(0, len(shown)-maxLanes)}
	shown = shown[:min(len(shown), maxLanes)]
	var states []lanes.State
	for s := lanes.Running; s < lanes.States; s++ {
		for _, at := range shown {
			if x.Lanes[at].Spent[s] > 0 {
				states, out.States = append(states, s), append(out.States, s.Words())
				break
			}
		}
	}
	for _, at := range shown {
		l := &x.Lanes[at]
		pr := p.Processes[p.Threads[l.Thread].Process]
		row := lane{Words: p.ThreadWords(l.Thread), Process: fmt.Sprintf("%s %d", p.Strings[pr.Name], pr.PID)}
		for _, s := range states {
			text := ""
			if l.Spent[s] > 0 {
				text = measure.Amount(l.Spent[s], measure.Nanoseconds)
			}
			row.Spent = append(row.Spent, text)
		}
		for _, r := range x.Row(at, 0, max(1, x.Duration), stripParts) {
			row.Strip = append(row.Strip, pieceOf(&r, x.Duration))
		}
		out.Lanes = append(out.Lanes, row)
	}
	return out
}

// idle are waits for something to do, which a strip leaves empty.
var idle = map[lanes.State]bool{lanes.Timer: true, lanes.Events: true, lanes.Input: true, lanes.Process: true}

func pieceOf(r *lanes.Run, duration int64) piece {
	spent := r.Spent
	if r.Count == 1 {
		spent[r.State] = r.To - r.From
	}
	all := float64(max(1, r.To-r.From))
	out := piece{X: stripParts * float64(r.From) / float64(max(1, duration)), W: stripParts * all / float64(max(1, duration))}
	for s, ns := range spent {
		share := 100 * float64(ns) / all
		switch s := lanes.State(s); {
		case s == lanes.Running:
			out.Run += share
		case s == lanes.Ready:
			out.Ready += share
		case s.Waits() && !idle[s]:
			out.Needed += share
		}
	}
	out.AtRun = 100 - out.Run
	out.AtReady = out.AtRun - out.Ready
	out.AtNeeded = out.AtReady - out.Needed
	return out
}

// spanRow is a name of spans.
type spanRow struct{ Name, Spans, Total, Median, Ninety, Almost, Slowest string }

func spansOf(v codec.View) (out []spanRow, more int) {
	p := v.Take.Profile
	x := spans.New(p)
	if !v.Scope.All() {
		x = x.In(v.Scope.Select(p.OfIntervals()))
	}
	ns := func(n int64) string { return measure.Amount(n, measure.Nanoseconds) }
	for i := range x.Names {
		if i == maxSpanNames {
			return out, len(x.Names) - i
		}
		n := &x.Names[i]
		out = append(out, spanRow{
			profile.Short(n.Name), measure.Amount(int64(len(n.Spans)), measure.Count), ns(n.Total), ns(n.Percentile(0.5)), ns(n.Percentile(0.9)), ns(n.Percentile(0.99)), ns(n.Percentile(1)),
		})
	}
	return out, 0
}

// kindOfEvent is one kind of event, with its largest or first rows.
type kindOfEvent struct {
	Label, Sum, Unit string
	Rows             []eventRow
}

type eventRow struct{ At, Amount, Thread, What, Where, About string }

func eventsOf(v codec.View) (out []kindOfEvent) {
	p := v.Take.Profile
	for _, k := range events.KindsOf(v.Take) {
		q := events.Question{Kind: k, Scope: v.Scope, By: events.ByAmount, Limit: maxEventRows, Columns: events.ColumnsOf(p, &k)}
		if k.Unit == measure.Count {
			q.By = events.ByTime
		}
		f := events.Find(p, q)
		if f.All == 0 {
			continue
		}
		kind := kindOfEvent{Label: k.Label, Sum: measure.Amount(f.All, measure.Count) + " rows"}
		if k.Unit != measure.Count {
			kind.Unit = map[measure.Unit]string{measure.Nanoseconds: "Duration", measure.Bytes: "Bytes"}[k.Unit]
			kind.Sum += fmt.Sprintf(", %s together; half are at most %s, 99 %% %s", measure.Amount(f.Total, k.Unit), measure.Amount(f.Median, k.Unit), measure.Amount(f.Almost, k.Unit))
		}
		for i := range f.Rows {
			kind.Rows = append(kind.Rows, rowOf(p, &q, &f.Rows[i]))
		}
		out = append(out, kind)
	}
	return out
}

func rowOf(p *profile.Profile, q *events.Question, r *events.Row) eventRow {
	out := eventRow{At: fmt.Sprintf("%.6f s", float64(r.Time)/1e9), Thread: p.ThreadWords(r.Thread), What: profile.MarkValue(p, r.What)}
	if q.Kind.Unit != measure.Count {
		out.Amount = measure.Amount(r.Amount, q.Kind.Unit)
	}
	if at, ok := events.Place(p, r.Stack); ok {
		f := p.Functions[p.Frames[at].Function]
		out.Where = profile.Short(p.FunctionName(p.Frames[at].Function))
		if f.File != 0 && p.Frames[at].Line > 0 {
			out.Where += fmt.Sprintf(" (%s:%d)", filepath.Base(p.Strings[f.File]), p.Frames[at].Line)
		}
	}
	out.About = strings.Join(q.About(r), ", ")
	return out
}
