package server

import (
	"fmt"
	"math"
	"net/http"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"entelon/core/compare"
	"entelon/core/profile"
	"entelon/store"
)

// LedgerBuild is a build in a program's ledger: a column.
type LedgerBuild struct {
	Name     string   `json:"name"`
	Takes    []string `json:"takes"` // keys, the oldest first
	LastAt   string   `json:"last_at"`
	Note     string   `json:"note"` // of its last take that has one
	Mean     float64  `json:"mean"` // of the takes, as the scale has it
	Low      float64  `json:"low"`  // 95 % interval of the mean; the mean itself where there is one take
	High     float64  `json:"high"`
	Verdict  string   `json:"verdict"` // against the build before; "" for the first
	Change   float64  `json:"change"`  // to the build before, as a ratio; 0 for the first
	ChangeLo float64  `json:"change_low"`
	ChangeHi float64  `json:"change_high"`
	Mark     string   `json:"mark"` // regression, mended (of one before), or ""
}

// LedgerRow is a function over all builds; figures are as the scale has them.
type LedgerRow struct {
	Name   string    `json:"name"`
	Short  string    `json:"short"`
	Pinned bool      `json:"pinned"`
	Self   []float64 `json:"self"` // by build
	Total  []float64 `json:"total"`
}

// LedgerNote is a note that asks for something.
type LedgerNote struct {
	ID       int64  `json:"id"`
	Function string `json:"function"` // "" of a note on a take
	Short    string `json:"short"`
	Key      string `json:"key"` // of the take, "" of a note on a function
	Build    string `json:"build"`
	Text     string `json:"text"` // its first line
	Who      string `json:"who"`
	At       string `json:"at"`
}

// LedgerOut is a program's home: its builds side by side, function by function.
type LedgerOut struct {
	Program string        `json:"program"`
	Scale   string        `json:"scale"`
	Scales  []ScaleOut    `json:"scales"` // that all takes allow
	Words   string        `json:"words"`  // of the scale
	Unit    string        `json:"unit"`
	Label   string        `json:"label"`  // of the measure
	Builds  []LedgerBuild `json:"builds"` // in the order in which they were first measured
	Rows    []LedgerRow   `json:"rows"`   // pinned ones first, then what changed most
	Hidden  int           `json:"hidden"` // functions that are left out
	Notes   []LedgerNote  `json:"notes"`  // that are not settled, the newest first
}

// mostLedgerRows bounds the functions of a ledger.
const mostLedgerRows = 500

func (s *Server) ledger(c *gin.Context) {
	ctx := c.Request.Context()
	program := c.Param("name")
	takes, err := s.store.LedgerTakes(ctx, program)
	if err != nil {
		s.fail(c, err)
		return
	}
	pins, err := s.store.Pins(ctx, program)
	if err != nil {
		s.fail(c, err)
		return
	}
	notes, err := s.store.OpenNotes(ctx, program)
	if err != nil {
		s.fail(c, err)
		return
	}
	scales := allowedScales(takes)
	scale, takes, by, err := ledgerScale(takes, c.Query("scale"))
	if err != nil {
		s.fail(c, badRequest{err})
		return
	}
	out := LedgerOut{Program: program, Scale: string(scale), Scales: scales, Words: scale.Words(), Label: "CPU time", Unit: scale.Unit("ns"), Builds: []LedgerBuild{}, Rows: []LedgerRow{}, Notes: []LedgerNote{}}
	for _, n := range notes {
		first, _, _ := strings.Cut(strings.TrimSpace(n.Text), "\n")
		out.Notes = append(out.Notes, LedgerNote{n.ID, n.Function, profile.Short(n.Function), n.Key, n.Build, first, n.Who, n.UpdatedAt.UTC().Format(time.RFC3339)})
	}
	index := out.columns(takes, by, scale)
	var names []string
	for _, p := range pins {
		names = append(names, p.Function)
	}
	figures, err := s.store.LedgerFigures(ctx, takes, by, names)
	if err != nil {
		s.fail(c, err)
		return
	}
	out.rows(figures, index, names)
	c.JSON(http.StatusOK, out)
}

// ledgerScale is what a program's takes are divided by: as is asked for, or as
// suits them. Takes without any cost are left out.
func ledgerScale(takes []store.LedgerTake, text string) (scale compare.Scale, out []store.LedgerTake, by []float64, err error) {
	scale = compare.ByTotal
	if known := settingsOf(takes); len(known) > 0 {
		scale = compare.Fitting(known...)
	}
	if text != "" {
		if scale, err = compare.ParseScale(text); err != nil {
			return "", nil, nil, err
		}
	}
	out = slices.DeleteFunc(takes, func(t store.LedgerTake) bool { return t.Total <= 0 })
	for i := range out {
		d, err := divisorOf(&out[i], scale)
		if err != nil {
			return "", nil, nil, err
		}
		by = append(by, d)
	}
	return scale, out, by, nil
}

func settingsOf(takes []store.LedgerTake) []*profile.Take {
	var out []*profile.Take
	for i := range takes {
		out = append(out, &profile.Take{Settings: takes[i].Settings, Facts: takes[i].Facts})
	}
	return out
}

// allowedScales are those by which all takes can be counted.
func allowedScales(takes []store.LedgerTake) []ScaleOut {
	out := []ScaleOut{}
	for _, x := range compare.Scales {
		all := true
		for i := range takes {
			if takes[i].Total > 0 {
				_, err := divisorOf(&takes[i], x.Scale)
				all = all && err == nil
			}
		}
		if all {
			out = append(out, ScaleOut{string(x.Scale), x.Text})
		}
	}
	return out
}

// divisorOf is what a take's figures are divided by.
func divisorOf(t *store.LedgerTake, scale compare.Scale) (float64, error) {
	var d float64
	switch scale {
	case compare.ByTotal:
		d = float64(t.Total)
	case compare.BySecond:
		d = float64(t.DurationNS) / 1e9
	case compare.ByCPU:
		d = float64(t.CPUNS) / 1e9
	case compare.ByWork:
		d = t.Facts.Work
	default:
		d = 1
	}
	if d <= 0 {
		return 0, fmt.Errorf("a take of build %s cannot be counted %s", t.Build.Name, scale.Words())
	}
	return d, nil
}

// columns makes the builds and returns their positions.
func (o *LedgerOut) columns(takes []store.LedgerTake, by []float64, scale compare.Scale) map[int64]int {
	index := map[int64]int{}
	var groups []compare.Group
	for i := range takes {
		t := &takes[i]
		k, ok := index[t.BuildID]
		if !ok {
			k = len(o.Builds)
			index[t.BuildID] = k
			o.Builds = append(o.Builds, LedgerBuild{Name: t.Build.Name})
			groups = append(groups, compare.Group{})
		}
		b := &o.Builds[k]
		b.Takes = append(b.Takes, t.Key)
		b.LastAt = t.StartedAt.UTC().Format("2006-01-02T15:04:05Z")
		if t.Note != "" {
			b.Note = t.Note
		}
		v := float64(t.Total) / by[i]
		if scale == compare.ByTotal {
			v = float64(t.Total)
		}
		groups[k].Add(v, t.Samples, t.StartedAt)
	}
	open := false // a regression that is not mended yet
	for k := range o.Builds {
		b := &o.Builds[k]
		b.Mean, b.Low, b.High = compare.Mean(groups[k].Value)
		if k == 0 || scale == compare.ByTotal {
			continue
		}
		e := compare.Totals(&groups[k-1], &groups[k], false)
		b.Verdict, b.Change, b.ChangeLo, b.ChangeHi = string(e.Verdict), e.Ratio, e.RatioLow, e.RatioHigh
		switch {
		case e.Verdict == compare.Slower && e.Ratio-1 >= compare.DefaultWorth:
			b.Mark, open = "regression", true
		case e.Verdict == compare.Faster && open:
			b.Mark = "mended"
			// What is left of it may be mended by a later build.
			open = b.Mean > (1+compare.DefaultWorth)*o.sound(k)
		}
	}
	return index
}

// sound is the mean of the last build before k that had no open regression: the
// cheapest of those before.
func (o *LedgerOut) sound(k int) float64 {
	least := math.Inf(1)
	for _, b := range o.Builds[:k] {
		least = math.Min(least, b.Mean)
	}
	return least
}

// rows makes the functions: pinned ones first, then what changed most from one
// build to the next.
func (o *LedgerOut) rows(figures []store.LedgerFigure, index map[int64]int, pins []string) {
	at := map[int64]int{}
	for _, f := range figures {
		k, ok := at[f.FunctionID]
		if !ok {
			k = len(o.Rows)
			at[f.FunctionID] = k
			o.Rows = append(o.Rows, LedgerRow{Name: f.Name, Short: profile.Short(f.Name), Pinned: slices.Contains(pins, f.Name), Self: make([]float64, len(o.Builds)), Total: make([]float64, len(o.Builds))})
		}
		o.Rows[k].Self[index[f.BuildID]], o.Rows[k].Total[index[f.BuildID]] = f.Self, f.Total
	}
	change := func(r *LedgerRow) float64 {
		most := 0.0
		for i := 1; i < len(r.Self); i++ {
			most = math.Max(most, math.Abs(r.Self[i]-r.Self[i-1]))
		}
		return most
	}
	sort.SliceStable(o.Rows, func(i, j int) bool {
		a, b := &o.Rows[i], &o.Rows[j]
		if a.Pinned != b.Pinned {
			return a.Pinned
		}
		if x, y := change(a), change(b); x != y {
			return x > y
		}
		return a.Name < b.Name
	})
	if len(o.Rows) > mostLedgerRows {
		o.Hidden = len(o.Rows) - mostLedgerRows
		o.Rows = o.Rows[:mostLedgerRows]
	}
}
