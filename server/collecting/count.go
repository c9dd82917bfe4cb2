package collecting

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"entelon/server/api"
	"entelon/server/request"
	"entelon/store/jobs"
)

// Bounds of a count from the page.
const (
	longestCount = 60 * time.Second
	countSlack   = 15 * time.Second // for finding the function and its callers' names
)

// Count counts the calls of a function in the program of a take: in the process
// that was attached to, or in the command, started again.
func (s JobRoutes) Count(c *gin.Context) {
	var in api.CountIn
	if err := s.Read(c, &in, "the count"); err != nil {
		s.Fail(c, err)
		return
	}
	if in.Function == "" || len(in.Function) > 10_000 || in.Seconds <= 0 || in.Seconds > longestCount.Seconds() || in.Calls < 0 {
		s.Fail(c, request.Bad(fmt.Errorf("name a function, and a time of up to %.0f s", longestCount.Seconds())))
		return
	}
	set, on, err := s.ordered(c.Request.Context(), in.Take, in.Settings, in.Collector)
	if err != nil {
		s.Fail(c, err)
		return
	}
	set.ForNS, set.Measures = int64(in.Seconds*1e9), nil
	if err := checkSettings(&set); err != nil {
		s.Fail(c, request.Bad(err))
		return
	}
	name, err := s.collectorFor(c.Request.Context(), on)
	if err == nil {
		_, detail := orderText(&set, name, in.Take)
		detail["function"], detail["program"] = request.Cut(in.Function, maxSaid), set.Program
		err = request.SignInRoutes(s).Note(c, "count", detail)
	}
	if err != nil {
		s.Fail(c, err)
		return
	}
	ctx, cancel := context.WithTimeout(c.Request.Context(), time.Duration(set.ForNS)+countSlack)
	defer cancel()
	task, err := json.Marshal(api.CountTask{Function: in.Function, Calls: in.Calls})
	if err != nil {
		s.Fail(c, err)
		return
	}
	j := &jobs.Job{Kind: "count", Collector: name, Settings: set, Who: request.Who(c).Person.Name, Task: task}
	if err := s.Store.AddJob(ctx, j); err != nil {
		s.Fail(c, err)
		return
	}
	var out api.CountOut
	if s.answered(c, ctx, j.ID, name, &out) {
		c.JSON(http.StatusOK, out)
	}
}

// answered waits for the answer to a question to a collector. Where there is
// none, the request is answered with why.
func (s JobRoutes) answered(c *gin.Context, ctx context.Context, id, collector string, out any) bool {
	for {
		j, err := s.Store.Job(ctx, id)
		switch {
		case err != nil && ctx.Err() == nil:
			s.Fail(c, err)
			return false
		case err == nil && j.State == jobs.JobFailed:
			body := api.ErrorBody{Error: j.Error, Remedy: j.Remedy}
			c.AbortWithStatusJSON(http.StatusConflict, body)
			return false
		case err == nil && j.State == jobs.JobDone:
			if err := json.Unmarshal(j.Result, out); err != nil {
				s.Fail(c, fmt.Errorf("the collector's answer: %w", err))
				return false
			}
			return true
		}
		select {
		case <-ctx.Done():
			_, _ = s.Store.StopJob(context.WithoutCancel(ctx), id) // if it fails, its collector answers for nobody
			s.Fail(c, request.NotNow(errors.New("the collector "+collector+" does not answer")))
			return false
		case <-time.After(pollEvery):
		}
	}
}
