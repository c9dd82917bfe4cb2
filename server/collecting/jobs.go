// Package collecting answers for takes that are being made, and for the collectors that make them. It
// has no state but the store's.
package collecting

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"entelon/core/profile"
	"entelon/server/api"
	"entelon/server/request"
	"entelon/store/jobs"
)

// JobRoutes answers for what collectors are asked for.
type JobRoutes struct{ *request.Server }

// Bounds of what is asked of collectors.
const (
	maxJobs      = 16               // takes at a time
	longestTake  = 24 * time.Hour   // of one take
	pollFor      = 15 * time.Second // that a collector waits for a job
	pollEvery    = 150 * time.Millisecond
	answerWithin = 8 * time.Second  // for a question to a collector
	silentAfter  = 90 * time.Second // a take of which nothing is heard is said to be silent, and another question ends
	closedAfter  = time.Hour        // a silent take is closed with what has come; it goes on if its collector comes back
)

func (s JobRoutes) jobOut(j *jobs.Job) api.JobOut {
	out := api.JobOut{
		ID: j.ID, State: j.State, Collector: j.Collector, Settings: Shown(j.Settings), Who: j.Who, CreatedAt: j.CreatedAt.UTC().Format(time.RFC3339),
		ElapsedNS: j.ElapsedNS, Samples: j.Samples, Lost: j.Lost, Size: j.Size, Take: j.TakeKey, Error: j.Error, Remedy: j.Remedy, AgainOf: j.AgainOf, Broken: j.Broken, Digest: j.Digest,
	}
	state, err := rowStateOf(j)
	if err != nil {
		out.Broken = strings.TrimPrefix(out.Broken+"; how far its row is: "+err.Error(), "; ")
	}
	out.Said, out.RowOver = state.Said, state.Over
	running := j.State == jobs.JobRunning || j.State == jobs.JobStopping
	out.Silent = running && j.HeardAt != nil && time.Since(*j.HeardAt) > silentAfter && time.Since(s.Began) > silentAfter
	return out
}

// Jobs answers GET /jobs.
func (s JobRoutes) Jobs(c *gin.Context) {
	list, err := s.Store.Jobs(c.Request.Context(), c.Query("running") == "true", 100)
	if err != nil {
		s.Fail(c, err)
		return
	}
	out := api.JobsOut{Jobs: []api.JobOut{}}
	for i := range list {
		out.Jobs = append(out.Jobs, s.jobOut(&list[i]))
	}
	c.JSON(http.StatusOK, out)
}

// Job answers GET /jobs/{id}.
func (s JobRoutes) Job(c *gin.Context) {
	j, err := s.Store.Job(c.Request.Context(), c.Param("id"))
	if err != nil {
		s.Fail(c, err)
		return
	}
	c.JSON(http.StatusOK, s.jobOut(j))
}

// AddJob has a take made. Commands are lists of arguments and never pass
// through a shell.
func (s JobRoutes) AddJob(c *gin.Context) {
	var in api.JobIn
	if err := s.Read(c, &in, "the take"); err != nil {
		s.Fail(c, err)
		return
	}
	set, on, err := s.ordered(c.Request.Context(), in.Again, in.Settings, in.Collector)
	if err != nil {
		s.Fail(c, err)
		return
	}
	if err := inRow(&set, in.Against, in.Repeat, in.Until); err != nil {
		s.Fail(c, request.Bad(err))
		return
	}
	if err := checkSettings(&set); err != nil {
		s.Fail(c, request.Bad(err))
		return
	}
	if set.Turns > 1 && len(set.Command) == 0 && set.ForNS == int64(longestTake) {
		s.Fail(c, request.Bad(errors.New("takes in a row are of a command, or each for a set time")))
		return
	}
	if err := s.MayKeepMore(c.Request.Context()); err != nil {
		s.Fail(c, err)
		return
	}
	name, err := s.collectorFor(c.Request.Context(), on)
	if err != nil {
		s.Fail(c, err)
		return
	}
	if n, err := s.Store.RunningJobs(c.Request.Context(), silentAfter); err != nil || n >= maxJobs {
		if err == nil {
			err = request.Busy(fmt.Errorf("%d takes are being made already", n))
		}
		s.Fail(c, err)
		return
	}
	what, detail := orderText(&set, name, in.Again)
	if err := request.SignInRoutes(s).Note(c, what, detail); err != nil {
		s.Fail(c, err)
		return
	}
	j := &jobs.Job{Kind: "take", Collector: name, Settings: set, Who: request.Who(c).Person.Name, AgainOf: in.Again}
	if err := s.Store.AddJob(c.Request.Context(), j); err != nil {
		s.Fail(c, err)
		return
	}
	c.JSON(http.StatusAccepted, s.jobOut(j))
}

// orderText is what the audit list says of a job.
func orderText(of *profile.Settings, collector, again string) (what string, detail map[string]string) {
	masked := Shown(*of)
	set := &masked
	detail = map[string]string{"collector": collector}
	add := func(name, text string) {
		if text != "" {
			detail[name] = request.Cut(text, maxSaid)
		}
	}
	add("again", again)
	switch {
	case len(set.PIDs) > 0:
		what = "attach"
		add("processes", strings.Trim(fmt.Sprint(set.PIDs), "[]"))
		add("command", strings.Join(set.Command, " "))
	case set.Machine:
		what = "sample a machine"
	case set.Group != "":
		what = "sample a control group"
		add("group", set.Group)
	default:
		what = "launch"
		add("command", strings.Join(set.Command, " "))
		add("against", strings.Join(set.Against, " "))
		add("user", set.User)
		add("folder", set.Dir)
		add("environment", strings.Join(set.EnvNames(), " "))
	}
	return what, detail
}

// collectorFor returns the collector of a name that is there, or the only one.
func (s JobRoutes) collectorFor(ctx context.Context, name string) (string, error) {
	list, err := s.Store.Collectors(ctx)
	if err != nil {
		return "", err
	}
	var here []string
	for _, x := range list {
		if time.Since(x.SeenAt) < request.HereWithin {
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
		return "", request.NotNow(errors.New("no collector is connected"))
	}
	return "", request.Bad(fmt.Errorf("the collector %q is not connected; choose from %s", name, strings.Join(here, ", ")))
}

// StopJob asks a collector to end a take. Of one that is silent, what has come is
// kept at once.
func (s JobRoutes) StopJob(c *gin.Context) {
	j, err := s.Store.StopJob(c.Request.Context(), c.Param("id"))
	if err == nil && s.jobOut(j).Silent {
		j, err = CollectorRoutes(s).deliver(c.Request.Context(), j, jobs.Ended{Failed: "its collector was silent when it was stopped", Remedy: "whatever it still has to send is added when it is back", Early: true})
	}
	if err == nil {
		err = request.SignInRoutes(s).Note(c, "stop", map[string]string{"program": j.Settings.Program, "job": j.ID})
	}
	if err != nil {
		s.Fail(c, err)
		return
	}
	c.JSON(http.StatusOK, s.jobOut(j))
}

// Processes asks a collector which processes run on its machine.
func (s JobRoutes) Processes(c *gin.Context) {
	var out api.ProcessesOut
	if !s.question(c, "processes", profile.Settings{}, &out) {
		return
	}
	if out.Processes == nil {
		out.Processes = []api.ProcessOut{}
	}
	c.JSON(http.StatusOK, out)
}

// Groups asks a collector which control groups there are on its machine.
func (s JobRoutes) Groups(c *gin.Context) {
	var out api.GroupsOut
	if !s.question(c, "groups", profile.Settings{}, &out) {
		return
	}
	if out.Groups == nil {
		out.Groups = []api.GroupOut{}
	}
	c.JSON(http.StatusOK, out)
}

// longestBegun bounds the text that measures are looked for by.
const longestBegun = 400

// Measurables asks a collector what can be measured on its machine.
func (s JobRoutes) Measurables(c *gin.Context) {
	about := profile.Settings{Measures: []string{c.Query("begun")}}
	if len(c.Query("begun")) > longestBegun {
		s.Fail(c, request.Bad(fmt.Errorf("a measure has at most %d characters", longestBegun)))
		return
	}
	if text := c.Query("pid"); text != "" {
		pid, err := strconv.Atoi(text)
		if err != nil || pid <= 0 {
			s.Fail(c, request.Bad(fmt.Errorf("%q is not a process ID", text)))
			return
		}
		about.PIDs = []int{pid}
	}
	var out api.MeasurablesOut
	if !s.question(c, "measures", about, &out) {
		return
	}
	if out.Measures == nil {
		out.Measures = []api.MeasurableOut{}
	}
	c.JSON(http.StatusOK, out)
}

// question asks a collector about its machine. Where there is no answer, the
// request is answered with why.
func (s JobRoutes) question(c *gin.Context, kind string, about profile.Settings, out any) bool {
	ctx, cancel := context.WithTimeout(c.Request.Context(), answerWithin)
	defer cancel()
	j := &jobs.Job{Kind: kind, Collector: c.Param("name"), Settings: about, Who: request.Who(c).Person.Name}
	if err := s.Store.AddJob(ctx, j); err != nil {
		s.Fail(c, err)
		return false
	}
	return s.answered(c, ctx, j.ID, c.Param("name"), out)
}
