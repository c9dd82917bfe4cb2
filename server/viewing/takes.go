// Package viewing answers for programs, takes and what is in them: every lens, sources, notes, pins,
// workloads. A handler owns what it makes; takes are opened by package request.
package viewing

import (
	"errors"
	"fmt"
	"io"
	"math"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/samplingcost"
	"entelon/server/api"
	"entelon/server/collecting"
	"entelon/server/request"
	"entelon/store"
	"entelon/store/database"
)

// TakeRoutes answers for takes as a whole, in and out.
type TakeRoutes struct{ *request.Server }

// TakeOut is a take as it is told.
func TakeOut(t *store.Take) api.TakeOut {
	command := t.Settings.Command
	if command == nil {
		command = []string{}
	}
	name := ""
	if t.Workload != nil {
		name = t.Workload.Name
	}
	out := api.TakeOut{
		Workload: name, WorkloadID: t.InWorkload(),
		Key: t.Key, Program: t.Program.Name, Build: t.Build.Name, BuildID: t.Facts.BuildID,
		Broken: t.Broken, Pinned: t.Pinned, StartedAt: shownTime(t.StartedAt), AddedAt: t.AddedAt, DurationNS: t.DurationNS, CPUNS: t.CPUNS, Samples: t.Samples, Lost: t.Lost,
		RateHz: t.RateHz, CompleteShare: t.CompleteShare, Warnings: t.Warnings, Note: t.Note, Size: t.Size, Command: command, Host: t.Machine.Host,
		Series: t.Settings.Series, Turn: t.Settings.Turn, Turns: t.Settings.Turns, Side: t.Settings.Side, Exact: t.Facts.Exact != nil,
	}
	if x := t.Facts.Exact; x != nil && len(x.Totals) > 0 {
		out.Instructions = x.Totals[0]
	}
	return out
}

// shownTime is a time as JSON can tell it.
func shownTime(t time.Time) time.Time {
	if y := t.Year(); y < 1 || y > 9999 {
		return time.Time{}
	}
	return t
}

func takesOut(rows []store.Take) []api.TakeOut {
	out := make([]api.TakeOut, len(rows))
	for i := range rows {
		out[i] = TakeOut(&rows[i])
	}
	return out
}

// About answers GET /about.
func (s TakeRoutes) About(c *gin.Context) {
	c.JSON(http.StatusOK, api.AboutOut{Version: s.Options.Version, MaxUpload: s.Options.MaxUpload})
}

// Programs answers GET /programs.
func (s TakeRoutes) Programs(c *gin.Context) {
	rows, err := s.Store.Programs(c.Request.Context())
	if err != nil {
		s.Fail(c, err)
		return
	}
	out := api.ProgramsOut{Programs: []api.ProgramOut{}}
	for _, p := range rows {
		x := api.ProgramOut{Name: p.Name, Builds: []api.BuildOut{}, Chief: WorkloadOut(p.Chief)}
		for _, b := range p.Builds {
			x.Builds = append(x.Builds, api.BuildOut{Name: b.Name, BuildID: b.Identity, Revision: b.Revision, Takes: b.Takes, Others: b.Others, LastAt: b.LastAt, LastTake: b.LastKey, Keys: b.Keys, MedianCPU: b.CPUNS, Instructions: b.Instructions})
		}
		n := api.NewestOut{Name: []string{}, Short: []string{}, SelfShare: []float64{}, TotalShare: []float64{}}
		for _, h := range p.Hot {
			n.Take, n.Build = h.Key, h.Build
			c, _ := measure.Named(h.Measure)
			n.Label = c.Label
			n.Name, n.Short = append(n.Name, h.Name), append(n.Short, profile.Short(h.Name))
			n.SelfShare, n.TotalShare = append(n.SelfShare, h.SelfShare), append(n.TotalShare, h.TotalShare)
		}
		x.Newest = n
		out.Programs = append(out.Programs, x)
	}
	c.JSON(http.StatusOK, out)
}

// Takes answers GET /takes.
func (s TakeRoutes) Takes(c *gin.Context) {
	q := store.TakeQuery{Search: c.Query("search"), Program: c.Query("program"), Series: c.Query("series"), Sort: c.Query("sort"), Descending: c.Query("descending") == "true"}
	if q.Sort != "" && !store.Sortable(q.Sort) {
		s.Fail(c, request.Bad(fmt.Errorf("takes cannot be sorted by %q", q.Sort)))
		return
	}
	var err error
	if q.Workload, err = request.Number(c, "workload", 0, 0, math.MaxInt64); err != nil {
		s.Fail(c, err)
		return
	}
	limit, err := request.Number(c, "limit", 200, 1, 1000)
	if err != nil {
		s.Fail(c, err)
		return
	}
	offset, err := request.Number(c, "offset", 0, 0, 1<<40)
	if err != nil {
		s.Fail(c, err)
		return
	}
	q.Limit, q.Offset = int(limit), int(offset)
	rows, n, err := s.Store.Takes(c.Request.Context(), q)
	if err != nil {
		s.Fail(c, err)
		return
	}
	c.JSON(http.StatusOK, api.TakesOut{Takes: takesOut(rows), Count: n})
}

// AddTake answers POST /takes.
func (s TakeRoutes) AddTake(c *gin.Context) {
	name := request.Cut(c.Query("name"), 200)
	if name == "" {
		name = "the upload"
	}
	if err := s.MayKeepMore(c.Request.Context()); err != nil {
		s.Fail(c, err)
		return
	}
	defer s.Used.Look()
	body := http.MaxBytesReader(c.Writer, c.Request.Body, s.Options.MaxUpload)
	t, fresh, err := s.Store.Add(c.Request.Context(), body, name, s.Options.MaxUpload)
	if err != nil {
		s.Metrics.Uploads.WithLabelValues("refused").Inc()
		s.Fail(c, err)
		return
	}
	status := http.StatusCreated
	if !fresh {
		status = http.StatusOK
		s.Metrics.Uploads.WithLabelValues("known").Inc()
	} else {
		s.Metrics.Uploads.WithLabelValues("kept").Inc()
	}
	c.JSON(status, api.AddedOut{Take: TakeOut(t), Fresh: fresh})
}

// Take answers GET /takes/{key}.
func (s TakeRoutes) Take(c *gin.Context) {
	row, err := s.Store.Take(c.Request.Context(), c.Param("key"))
	if err != nil {
		s.Fail(c, err)
		return
	}
	if row.Outline == nil {
		o, err := s.Load(c, row, s.Keep.Get)
		if err == nil {
			err = s.Store.KeepOutline(c.Request.Context(), row, o.Take.Profile.Outline())
		}
		if err != nil {
			s.Fail(c, err)
			return
		}
	}
	siblings, _, err := s.Store.Takes(c.Request.Context(), store.TakeQuery{Program: row.Program.Name, Descending: true, Limit: 100})
	if err != nil {
		s.Fail(c, err)
		return
	}
	d := api.TakeDetail{
		Take: TakeOut(row), Settings: collecting.Shown(row.Settings), Machine: row.Machine, Facts: row.Facts,
		FirstNS: row.Outline.FirstNS, LastNS: row.Outline.LastNS, Siblings: takesOut(siblings),
		Measures: []api.MeasureOut{}, Threads: []api.ThreadOut{},
	}
	switch j, err := s.Store.JobOfTake(c.Request.Context(), row.Key); {
	case err == nil:
		d.OnRecord, d.Collector = true, j.Doer
	case !errors.Is(err, database.ErrNotFound):
		s.Fail(c, err)
		return
	}
	if row.Facts.Bare != nil {
		d.Bare = samplingcost.Words(row.Facts.Bare)
	}
	if d.Facts.Warnings == nil {
		d.Facts.Warnings = []profile.Warning{}
	}
	d.Warnings = d.Facts.Warnings
	for _, x := range siblings {
		if x.BuildID == row.BuildID {
			d.BuildTake++
		}
	}
	of := profile.Take{Settings: row.Settings, Facts: row.Facts}
	for i, x := range row.Outline.Measures {
		how, _ := of.CountingOf(i)
		d.Measures = append(d.Measures, api.MeasureOut{Name: x.Name, Label: x.Label, Unit: x.Unit, Counted: x.Counted, Total: x.Total, Lost: how.Lost})
	}
	for i, x := range row.Outline.Threads {
		if x.Goroutine {
			continue // which Lanes has
		}
		d.Threads = append(d.Threads, api.ThreadOut{ID: uint32(i), PID: x.PID, TID: x.TID, Name: x.Name, Process: x.Process, Samples: x.Samples})
	}
	c.JSON(http.StatusOK, d)
}

// SetNote answers PATCH /takes/{key}.
func (s TakeRoutes) SetNote(c *gin.Context) {
	var in api.NoteIn
	if err := s.Read(c, &in, "the note"); err != nil {
		s.Fail(c, err)
		return
	}
	if in.Note != nil && len(*in.Note) > 16<<10 {
		s.Fail(c, request.Bad(fmt.Errorf("the note is longer than 16 kB")))
		return
	}
	var err error
	if in.Note != nil {
		err = s.Store.SetNote(c.Request.Context(), c.Param("key"), *in.Note)
	}
	if err == nil && in.Pinned != nil {
		err = s.Store.SetPinned(c.Request.Context(), c.Param("key"), *in.Pinned)
	}
	if err != nil {
		s.Fail(c, err)
		return
	}
	row, err := s.Store.Take(c.Request.Context(), c.Param("key"))
	if err != nil {
		s.Fail(c, err)
		return
	}
	c.JSON(http.StatusOK, TakeOut(row))
}

// RemoveTake answers DELETE /takes/{key}.
func (s TakeRoutes) RemoveTake(c *gin.Context) {
	if err := s.Store.Remove(c.Request.Context(), c.Param("key")); err != nil {
		s.Fail(c, err)
		return
	}
	s.Used.Look()
	s.Keep.Forget(func(key string) bool { return strings.HasPrefix(key, request.KeyCompare) })
	c.Status(http.StatusNoContent)
}

// File answers GET /takes/{key}/file.
func (s TakeRoutes) File(c *gin.Context) {
	row, err := s.Store.Take(c.Request.Context(), c.Param("key"))
	if err != nil {
		s.Fail(c, err)
		return
	}
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=%q", row.Program.Name+"-"+row.Build.Name+"-"+row.Key+".take"))
	c.Header("Content-Length", strconv.FormatInt(row.Size, 10))
	c.Header("Content-Type", "application/octet-stream")
	c.Status(http.StatusOK)
	if _, err := io.Copy(request.Moving(c.Writer), s.Store.File(c.Request.Context(), row)); err != nil {
		// The answer has begun; its length tells the client that it is not whole.
		s.Options.Log.Error("sending a take's file", "take", row.Key, "error", err)
	}
}
