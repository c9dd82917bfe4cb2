package server

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"entelon/codec/take"
	"entelon/core/profile"
	"entelon/core/scope"
	"entelon/sampler"
	"entelon/store"
)

// Bounds of what is asked of collectors.
const (
	mostJobs     = 16               // takes at a time
	longestTake  = 24 * time.Hour   // of one take
	pollFor      = 15 * time.Second // that a collector waits for a job
	pollEvery    = 150 * time.Millisecond
	answerWithin = 8 * time.Second  // for a question to a collector
	hereWithin   = 30 * time.Second // a collector that was heard of is there
	silentAfter  = 90 * time.Second // a take of which nothing is heard is ended
	mostBlock    = 64 << 20         // bytes of one piece of a growing take
)

// jobPrefix begins the key by which a take that is being made is looked at.
const jobPrefix = "job-"

func jobOut(j *store.Job) JobOut {
	out := JobOut{
		ID: j.ID, State: j.State, Collector: j.Doer, Settings: j.Settings, Who: j.Who, CreatedAt: j.CreatedAt.UTC().Format(time.RFC3339),
		ElapsedNS: j.ElapsedNS, Samples: j.Samples, Lost: j.Lost, Size: j.Size, Take: j.TakeKey, Error: j.Error, Remedy: j.Remedy,
	}
	return out
}

func (s *Server) jobs(c *gin.Context) {
	list, err := s.store.Jobs(c.Request.Context(), c.Query("running") == "true", 100)
	if err != nil {
		s.fail(c, err)
		return
	}
	out := JobsOut{Jobs: []JobOut{}}
	for i := range list {
		out.Jobs = append(out.Jobs, jobOut(&list[i]))
	}
	c.JSON(http.StatusOK, out)
}

func (s *Server) job(c *gin.Context) {
	j, err := s.store.Job(c.Request.Context(), c.Param("id"))
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, jobOut(j))
}

// addJob has a take made. Commands are lists of arguments and never pass
// through a shell.
func (s *Server) addJob(c *gin.Context) {
	var in JobIn
	if err := c.ShouldBindJSON(&in); err != nil {
		s.fail(c, badRequest{fmt.Errorf("the take: %w", err)})
		return
	}
	set := in.Settings
	if in.Again != "" {
		row, err := s.store.Take(c.Request.Context(), in.Again)
		if err != nil {
			s.fail(c, err)
			return
		}
		set = row.Settings
		if in.Collector == "" {
			in.Collector = row.Machine.Host
		}
		if in.Collector != row.Machine.Host {
			set.Event = "" // another machine may count cycles, or not
		}
	}
	if err := inRow(&set, in.Against, in.Repeat); err != nil {
		s.fail(c, badRequest{err})
		return
	}
	if err := checkSettings(&set); err != nil {
		s.fail(c, badRequest{err})
		return
	}
	if set.Turns > 1 && len(set.Command) == 0 && set.ForNS == int64(longestTake) {
		s.fail(c, badRequest{errors.New("takes in a row are of a command, or each for a set time")})
		return
	}
	if err := s.room(c.Request.Context()); err != nil {
		s.fail(c, err)
		return
	}
	name, err := s.collectorFor(c.Request.Context(), in.Collector)
	if err != nil {
		s.fail(c, err)
		return
	}
	if n, err := s.store.RunningJobs(c.Request.Context()); err != nil || n >= mostJobs {
		if err == nil {
			err = tooMany{fmt.Errorf("%d takes are being made already", n)}
		}
		s.fail(c, err)
		return
	}
	what, detail := "attach", map[string]string{"collector": name, "processes": strings.Trim(fmt.Sprint(set.PIDs), "[]"), "command": strings.Join(set.Command, " ")}
	switch {
	case len(set.Command) > 0 && len(set.PIDs) == 0:
		what, detail = "launch", map[string]string{"collector": name, "command": strings.Join(set.Command, " "), "user": set.User}
		if set.Against != nil {
			detail["against"] = strings.Join(set.Against, " ")
		}
	case set.Machine:
		what, detail = "sample a machine", map[string]string{"collector": name}
	case set.Group != "":
		what, detail = "sample a control group", map[string]string{"collector": name, "group": set.Group}
	}
	if err := s.note(c, what, detail); err != nil {
		s.fail(c, err)
		return
	}
	j := &store.Job{Kind: "take", Collector: name, Settings: set, Who: who(c).person.Name}
	if err := s.store.AddJob(c.Request.Context(), j); err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusAccepted, jobOut(j))
}

// tooMany is a refusal because of what is going on already.
type tooMany struct{ error }

// checkSettings refuses what a collector could not do.
func checkSettings(set *profile.Settings) error {
	if set.PID != 0 && len(set.PIDs) == 0 {
		set.PIDs = []int{set.PID}
	}
	// A take keeps the command of a process that was attached to, too.
	attached := len(set.PIDs) > 0
	switch {
	case !attached && !set.Machine && set.Group == "" && len(set.Command) == 0:
		return errors.New("nothing to sample; give a command, a process, a control group or the machine")
	case set.RateHz < 1 || set.RateHz > 50_000:
		return fmt.Errorf("a rate of %d; give a number from 1 to 50000", set.RateHz)
	case set.Budget < 0 || set.Budget > 1 || set.Work < 0 || math.IsNaN(set.Work) || math.IsInf(set.Work, 0):
		return errors.New("a budget is a share from 0 to 1, and work a number that is not negative")
	case (set.BareFirst || set.WorkFrom != "") && (len(set.Command) == 0 || attached):
		return errors.New("to run it without sampling first, or to read its output, give a command")
	case set.ForNS < 0 || time.Duration(set.ForNS) > longestTake:
		return fmt.Errorf("a take lasts at most %v", longestTake)
	case len(set.Command) > 10_000 || len(set.Against) > 10_000 || len(set.Env) > 10_000 || len(set.Measures) > 20 || len(set.PIDs) > 1000:
		return errors.New("the lists are too long")
	}
	if _, err := scope.Parse(set.Keep); err != nil {
		return fmt.Errorf("the samples to keep: %w", err)
	}
	if _, err := sampler.ParseMeasures(set.Measures); err != nil {
		return err
	}
	if set.ForNS == 0 {
		set.ForNS = int64(longestTake)
	}
	for _, list := range [][]string{set.Command, set.Against, set.Env, {set.Dir, set.User, set.Group, set.Program, set.Build, set.Note, set.Keep, set.WorkFrom}} {
		for _, text := range list {
			if strings.ContainsRune(text, 0) {
				return errors.New("a text with a zero character cannot be handed on")
			}
		}
	}
	return nil
}

// collectorFor returns the collector of a name that is there, or the only one.
func (s *Server) collectorFor(ctx context.Context, name string) (string, error) {
	list, err := s.store.Collectors(ctx)
	if err != nil {
		return "", err
	}
	var here []string
	for _, x := range list {
		if time.Since(x.SeenAt) < hereWithin {
			if x.Name == name {
				return name, nil
			}
			here = append(here, x.Name)
		}
	}
	if len(here) == 1 {
		return here[0], nil
	}
	if len(here) == 0 {
		return "", unavailable{errors.New("no collector is there")}
	}
	return "", badRequest{fmt.Errorf("the collector %q is not there; choose from %s", name, strings.Join(here, ", "))}
}

// unavailable is something that is missing for now.
type unavailable struct{ error }

func (s *Server) stopJob(c *gin.Context) {
	j, err := s.store.StopJob(c.Request.Context(), c.Param("id"))
	if err == nil {
		err = s.note(c, "stop", map[string]string{"program": j.Settings.Program, "job": j.ID})
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, jobOut(j))
}

func (s *Server) collectors(c *gin.Context) {
	list, err := s.store.Collectors(c.Request.Context())
	if err != nil {
		s.fail(c, err)
		return
	}
	out := CollectorsOut{Collectors: []CollectorOut{}}
	for _, x := range list {
		report := MachineReport{Checks: []MachineCheck{}}
		if err := json.Unmarshal(x.Report, &report); err != nil {
			s.o.Log.Error("the report of a collector cannot be read", "collector", x.Name, "error", err)
		}
		if report.Checks == nil {
			report.Checks = []MachineCheck{}
		}
		out.Collectors = append(out.Collectors, CollectorOut{Name: x.Name, Here: time.Since(x.SeenAt) < hereWithin, SeenAt: x.SeenAt.UTC().Format(time.RFC3339), Report: report})
	}
	c.JSON(http.StatusOK, out)
}

// processes asks a collector which processes run on its machine.
func (s *Server) processes(c *gin.Context) {
	var out ProcessesOut
	if !s.question(c, "processes", &out) {
		return
	}
	if out.Processes == nil {
		out.Processes = []ProcessOut{}
	}
	c.JSON(http.StatusOK, out)
}

// groups asks a collector which control groups there are on its machine.
func (s *Server) groups(c *gin.Context) {
	var out GroupsOut
	if !s.question(c, "groups", &out) {
		return
	}
	if out.Groups == nil {
		out.Groups = []GroupOut{}
	}
	c.JSON(http.StatusOK, out)
}

// question asks a collector about its machine. Where there is no answer, the
// request is answered with why.
func (s *Server) question(c *gin.Context, kind string, out any) bool {
	ctx, cancel := context.WithTimeout(c.Request.Context(), answerWithin)
	defer cancel()
	j := &store.Job{Kind: kind, Collector: c.Param("name"), Who: who(c).person.Name}
	if err := s.store.AddJob(ctx, j); err != nil {
		s.fail(c, err)
		return false
	}
	return s.answered(c, ctx, j.ID, c.Param("name"), out)
}

// nextJob gives a collector its next job, waiting for one for a while, and
// tells which of its jobs shall end.
func (s *Server) nextJob(c *gin.Context) {
	var in CollectorIn
	if err := c.ShouldBindJSON(&in); err != nil || in.Name == "" || len(in.Name) > 200 {
		s.fail(c, badRequest{fmt.Errorf("the collector: %w", errors.Join(err, errors.New("it has no name")))})
		return
	}
	ctx := c.Request.Context()
	report, err := json.Marshal(in.Report)
	if err == nil {
		err = s.store.SeeCollector(ctx, in.Name, report)
	}
	if err == nil {
		err = s.endSilent(ctx)
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	for deadline := time.Now().Add(pollFor); ; {
		j, err := s.store.NextJob(ctx, in.Name)
		if err != nil {
			s.fail(c, err)
			return
		}
		if j != nil {
			next := &JobForCollector{ID: j.ID, Kind: j.Kind, Settings: j.Settings}
			if err := json.Unmarshal(j.Task, &next.Count); err != nil {
				s.fail(c, fmt.Errorf("reading a job: %w", err))
				return
			}
			c.JSON(http.StatusOK, NextJobOut{Job: next})
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-s.o.Closing:
			c.JSON(http.StatusOK, NextJobOut{})
			return
		case <-time.After(pollEvery):
		}
		if time.Now().After(deadline) {
			c.JSON(http.StatusOK, NextJobOut{})
			return
		}
	}
}

// endSilent ends takes whose collector is gone, with what has come of them.
func (s *Server) endSilent(ctx context.Context) error {
	list, err := s.store.Silent(ctx, silentAfter)
	if err != nil {
		return err
	}
	for _, j := range list {
		if _, err := s.deliver(ctx, &j, "the collector has gone", "see whether it still runs on "+j.Doer); err != nil {
			return err
		}
	}
	return nil
}

// grow takes what a growing take has gained.
func (s *Server) grow(c *gin.Context) {
	at, err1 := number(c, "at", 0, 0, 1<<50)
	elapsed, err2 := number(c, "elapsed_ns", 0, 0, 1<<62)
	samples, err3 := number(c, "samples", 0, 0, 1<<62)
	lost, err4 := number(c, "lost", 0, 0, 1<<62)
	if err := errors.Join(err1, err2, err3, err4); err != nil {
		s.fail(c, err)
		return
	}
	b, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, mostBlock))
	if err != nil {
		s.fail(c, err)
		return
	}
	if err := s.room(c.Request.Context()); err != nil {
		s.fail(c, err)
		return
	}
	if at+int64(len(b)) > s.o.MaxUpload {
		s.fail(c, store.ErrTooLarge)
		return
	}
	j, err := s.store.Grow(c.Request.Context(), c.Param("id"), at, b, store.Progress{ElapsedNS: elapsed, Samples: samples, Lost: lost})
	switch {
	case errors.Is(err, store.ErrOffset), errors.Is(err, store.ErrJobOver):
		c.JSON(http.StatusOK, GrowOut{Size: j.Size, Over: errors.Is(err, store.ErrJobOver), Stop: j.State != store.JobRunning})
	case err != nil:
		s.fail(c, err)
	default:
		c.JSON(http.StatusOK, GrowOut{Size: j.Size, Stop: j.State == store.JobStopping})
	}
}

// endJob ends a job: its take is kept as if it had been uploaded.
func (s *Server) endJob(c *gin.Context) {
	var in JobEndIn
	if err := c.ShouldBindJSON(&in); err != nil {
		s.fail(c, badRequest{fmt.Errorf("the end: %w", err)})
		return
	}
	j, err := s.store.Job(c.Request.Context(), c.Param("id"))
	if err != nil {
		s.fail(c, err)
		return
	}
	if j.State == store.JobDone || j.State == store.JobFailed {
		c.JSON(http.StatusOK, jobOut(j))
		return
	}
	if j.Kind != "take" {
		var answer json.RawMessage
		var given any = in.Answer
		switch j.Kind {
		case "count":
			given = in.Counts
		case "groups":
			given = in.Groups
		}
		if answer, err = json.Marshal(given); err == nil {
			j, err = s.store.EndJob(c.Request.Context(), j.ID, "", answer, in.Error, in.Remedy)
		}
	} else {
		j, err = s.deliver(c.Request.Context(), j, in.Error, in.Remedy)
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, jobOut(j))
}

// deliver keeps what has come of a take, and ends its job. Why it ended early
// is said where nothing has come.
func (s *Server) deliver(ctx context.Context, j *store.Job, why, remedy string) (*store.Job, error) {
	key := ""
	if j.Size > 0 {
		t, _, err := s.store.Add(ctx, s.store.GrownFile(ctx, j.ID), "the take", s.o.MaxUpload)
		var broken *take.Error
		switch {
		case errors.As(err, &broken):
			why = strings.TrimPrefix(why+"; "+err.Error(), "; ")
		case err != nil:
			return nil, err
		default:
			key = t.Key
		}
	}
	again := j.State == store.JobRunning && key != "" // one that was stopped ends the row
	j, err := s.store.EndJob(ctx, j.ID, key, nil, why, remedy)
	if err != nil || !again || !j.Fresh || j.Settings.Turn == 0 || j.Settings.Turn >= j.Settings.Turns {
		return j, err
	}
	next := &store.Job{Kind: "take", Collector: j.Doer, Settings: j.Settings, Who: j.Who}
	nextTurn(&next.Settings)
	return j, s.store.AddJob(ctx, next)
}

// openGrowing reads a take that is being made, as far as it has come.
func (s *Server) openGrowing(c *gin.Context, id string) (*opened, *store.Take, error) {
	j, err := s.store.Job(c.Request.Context(), id)
	if err != nil {
		return nil, nil, err
	}
	row := &store.Take{Program: store.Program{Name: j.Settings.Program}, Build: store.Build{Name: j.Settings.Build}, Key: jobPrefix + id, DurationNS: max(1, j.ElapsedNS), Settings: j.Settings}
	if j.State == store.JobDone || j.State == store.JobFailed {
		return s.open(c, j.TakeKey)
	}
	if j.Size == 0 {
		return nil, nil, unavailable{errors.New("nothing has come of it yet")}
	}
	o, err := s.cache.get(c.Request.Context(), fmt.Sprintf("%s%s-%d", jobPrefix, id, j.Size), toRead, func() (*opened, error) {
		r := bufio.NewReaderSize(s.store.GrownFile(context.WithoutCancel(c.Request.Context()), id), piecewise)
		t, err := take.Read(r, "the growing take", take.Options{Salvage: true})
		if err != nil {
			return nil, err
		}
		return newOpened(t), nil
	})
	return o, row, err
}
