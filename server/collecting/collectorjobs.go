package collecting

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"entelon/codec/take"
	"entelon/server/api"
	"entelon/server/request"
	"entelon/store/database"
	"entelon/store/jobs"
)

// NextJob gives a collector its next job, waiting for one for a while.
func (s CollectorRoutes) NextJob(c *gin.Context) {
	var in api.CollectorIn
	err := s.Read(c, &in, "the collector")
	if err == nil && len(in.Doing) > 1000 {
		err = request.Bad(errors.New("the collector: it works on more than 1000 jobs"))
	}
	ctx, name := c.Request.Context(), request.Who(c).Collector
	if err == nil {
		var report []byte
		if report, err = json.Marshal(in.Report); err == nil {
			err = s.Store.SeeCollector(ctx, name, report)
		}
	}
	if err != nil {
		s.Fail(c, err)
		return
	}
	s.endSilent(ctx)
	for deadline := time.Now().Add(pollFor); ; {
		j, err := s.Store.NextJob(ctx, name, in.Doing)
		if err != nil {
			s.Fail(c, err)
			return
		}
		if j != nil {
			next := &api.JobForCollector{ID: j.ID, Kind: j.Kind, Who: j.Who, Settings: j.Settings}
			if err := json.Unmarshal(j.Task, &next.Count); err != nil {
				s.Fail(c, fmt.Errorf("reading a job: %w", err))
				return
			}
			c.JSON(http.StatusOK, api.NextJobOut{Job: next})
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-s.Options.Closing:
			c.JSON(http.StatusOK, api.NextJobOut{})
			return
		case <-time.After(pollEvery):
		}
		if time.Now().After(deadline) {
			c.JSON(http.StatusOK, api.NextJobOut{})
			return
		}
	}
}

// endSilent ends jobs of which nothing was heard for long: takes with what has
// come of them. One that cannot be ended is no other job's trouble.
func (s CollectorRoutes) endSilent(ctx context.Context) {
	if time.Since(s.Began) < silentAfter {
		return // it was this server that was away
	}
	list, err := s.Store.Silent(ctx, closedAfter, silentAfter)
	if err != nil {
		s.Options.Log.Error("looking for jobs whose collector is silent", "error", err)
		return
	}
	for _, j := range list {
		e := jobs.Ended{Failed: "nothing was heard of its collector for a long time", Remedy: "see whether it still runs on " + j.Doer, Early: j.Kind == "take"}
		if _, err := s.deliver(ctx, &j, e); err != nil {
			s.Options.Log.Error("a job whose collector is silent could not be ended", "job", j.ID, "error", err)
		}
	}
}

// Grow takes what a growing take has gained.
func (s CollectorRoutes) Grow(c *gin.Context) {
	at, err1 := request.Number(c, "at", 0, 0, 1<<50)
	elapsed, err2 := request.Number(c, "elapsed_ns", 0, 0, 1<<62)
	samples, err3 := request.Number(c, "samples", 0, 0, 1<<62)
	lost, err4 := request.Number(c, "lost", 0, 0, 1<<62)
	if err := errors.Join(err1, err2, err3, err4); err != nil {
		s.Fail(c, err)
		return
	}
	b, err := request.ReadPiece(c, request.MaxBlock)
	if err != nil {
		s.Fail(c, err)
		return
	}
	if err := s.MayKeepMore(c.Request.Context()); err != nil {
		s.Fail(c, err)
		return
	}
	if at+int64(len(b)) > s.Options.MaxUpload {
		s.Fail(c, database.ErrTooLarge)
		return
	}
	j, err := s.Store.Grow(c.Request.Context(), c.Param("id"), request.Who(c).Collector, at, b, jobs.Progress{ElapsedNS: elapsed, Samples: samples, Lost: lost})
	switch {
	case errors.Is(err, jobs.ErrOffset), errors.Is(err, jobs.ErrJobOver):
		c.JSON(http.StatusOK, api.GrowOut{Size: j.Size, Over: errors.Is(err, jobs.ErrJobOver), Stop: j.State != jobs.JobRunning, Digest: j.Digest})
	case err != nil:
		s.Fail(c, err)
	default:
		c.JSON(http.StatusOK, api.GrowOut{Size: j.Size, Stop: j.State == jobs.JobStopping})
	}
}

// EndJob ends a job of the collector that asks: its take is kept as if it had
// been uploaded.
func (s CollectorRoutes) EndJob(c *gin.Context) {
	var in api.JobEndIn
	err := s.Read(c, &in, "the end")
	var j *jobs.Job
	if err == nil {
		j, err = s.Store.Job(c.Request.Context(), c.Param("id"))
	}
	if err == nil && j.Doer != request.Who(c).Collector {
		err = request.NotThere(errors.New("there is no such job of this collector"), "")
	}
	if err != nil {
		s.Fail(c, err)
		return
	}
	if j.State == jobs.JobDone || j.State == jobs.JobFailed {
		c.JSON(http.StatusOK, JobRoutes(s).jobOut(j))
		return
	}
	e := jobs.Ended{Failed: request.Cut(in.Error, maxSaid), Remedy: request.Cut(in.Remedy, maxSaid)}
	if j.Kind != "take" {
		var given any = in.Answer
		switch j.Kind {
		case "count":
			given = in.Counts
		case "groups":
			given = in.Groups
		case "measures":
			given = in.Measures
		}
		if e.Result, err = json.Marshal(given); err == nil {
			j, err = s.Store.EndJob(c.Request.Context(), j.ID, e)
		}
	} else if in.Size != j.Size {
		err = request.Against(fmt.Errorf("the take has %d bytes there and %d here", in.Size, j.Size), "send what is missing first")
	} else {
		j, err = s.deliver(c.Request.Context(), j, e)
	}
	if err != nil {
		s.Fail(c, err)
		return
	}
	c.JSON(http.StatusOK, JobRoutes(s).jobOut(j))
}

// digestOf is the SHA-256 of what has come of a take.
func (s CollectorRoutes) digestOf(ctx context.Context, id string) (string, error) {
	pieces := s.Store.GrownFile(ctx, id, 0)
	defer pieces.Close()
	h := sha256.New()
	if _, err := io.Copy(h, pieces); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// maxSaid bounds what a collector says of how a job ended, in bytes.
const maxSaid = 4 << 10

// deliver keeps what has come of a take, and ends its job. Why it ended early
// is said where nothing has come.
func (s CollectorRoutes) deliver(ctx context.Context, j *jobs.Job, e jobs.Ended) (*jobs.Job, error) {
	if j.Kind == "take" && j.Size > 0 {
		pieces := s.Store.GrownFile(ctx, j.ID, 0)
		defer pieces.Close()
		t, _, err := s.Store.AddInstead(ctx, pieces, "the take", s.Options.MaxUpload, j.TakeKey)
		var broken *take.Error
		switch {
		case errors.As(err, &broken):
			e.Failed = strings.TrimPrefix(e.Failed+"; "+err.Error(), "; ")
			if broken.Reason == take.NoSamples || broken.Reason == take.Empty { // there is nothing in it to be lost
				if e.Digest, err = s.digestOf(ctx, j.ID); err != nil {
					return nil, err
				}
			}
		case err != nil:
			return nil, err
		default:
			e.TakeKey, e.Digest = t.Key, t.Digest
		}
	}
	again := j.State == jobs.JobRunning && e.TakeKey != "" && !e.Early // one that was stopped ends the row
	if again && j.Settings.Until != "" {
		state, err := s.rowGoesOn(ctx, j, e.TakeKey)
		if err != nil {
			e.Failed, state.Over = err.Error(), true
		}
		if e.Row, err = json.Marshal(state); err != nil {
			return nil, err
		}
		again = again && !state.Over
	}
	set := j.Settings // what looks like a secret is masked in the row from now on
	j, err := s.Store.EndJob(ctx, j.ID, e)
	if err != nil || !again || !j.Fresh || j.Settings.Turn == 0 || j.Settings.Turn >= j.Settings.Turns {
		return j, err
	}
	next := &jobs.Job{Kind: "take", Collector: j.Doer, Settings: set, Who: j.Who, AgainOf: j.AgainOf, Task: e.Row}
	nextTurn(&next.Settings)
	return j, s.Store.AddJob(ctx, next)
}
