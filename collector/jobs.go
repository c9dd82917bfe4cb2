package collector

import (
	"context"
	"fmt"
	"io"
	"strings"
	"syscall"

	"entelon/capture"
	"entelon/capture/launch"
	"entelon/capture/pairing"
	"entelon/capture/told"
	"entelon/codec/takefile"
	"entelon/core/profile"
	"entelon/core/workload"
	"entelon/diagnose/doctor"
	"entelon/linux/cgroup"
	"entelon/linux/procfs"
	"entelon/receive"
	"entelon/server/api"
)

func (w *Collector) do(ctx context.Context, j *api.JobForCollector) {
	if !jobID.MatchString(j.ID) {
		w.log.Error("the server sent a job whose number is not one", "job", j.ID)
		return
	}
	end := api.JobEndIn{}
	switch j.Kind {
	case "take":
		w.take(ctx, j)
		return
	case "processes":
		list, err := procfs.List()
		for i := range list {
			list[i].Command, _ = workload.Mask(list[i].Command)
		}
		if err != nil {
			end.Error = said(err)
		}
		end.Answer = &api.ProcessesOut{Processes: []api.ProcessOut{}}
		for _, p := range list {
			if !w.allow.MayAttach(p.Owner) {
				continue
			}
			end.Answer.Processes = append(end.Answer.Processes, api.ProcessOut(p))
		}
	case "groups":
		list, err := cgroup.List()
		if err != nil {
			end.Error = said(err)
		}
		end.Groups = &api.GroupsOut{Groups: []api.GroupOut{}}
		for _, g := range list {
			end.Groups.Groups = append(end.Groups.Groups, api.GroupOut(g))
		}
	case "measures":
		list, err := w.measures(j)
		if err != nil {
			end.Error = said(err)
		}
		end.Measures = list
	case "count":
		end.Counts, end.Error, end.Remedy = w.count(ctx, j)
	default:
		end.Error = "this collector does not know how to do that; it is older than the server"
	}
	if err := w.server.post(ctx, "collector/jobs/"+j.ID+"/end", end, nil); err != nil {
		w.log.Warn("an answer was not delivered", "job", j.ID, "error", err)
	}
}

// count counts the calls of a function.
func (w *Collector) count(ctx context.Context, j *api.JobForCollector) (out *api.CountOut, failed, remedy string) {
	if j.Count == nil {
		return nil, "no function is named", ""
	}
	set, err := w.allowed(j)
	if err != nil {
		return nil, said(err), ""
	}
	res, err := capture.Count(ctx, capture.CountOptions{
		Options: capture.Options{Settings: set, Finder: w.finder, Tied: true, Clean: true}, Functions: []string{j.Count.Function}, Calls: j.Count.Calls,
	})
	if err != nil {
		return nil, strings.ReplaceAll(err.Error(), "\n", "; "), capture.Remedy(err)
	}
	if len(set.Command) > 0 {
		res.Signal(int(syscall.SIGTERM)) // it was started to be counted
		go res.Wait()
	}
	return countedFor(res), "", ""
}

// countedFor is what was counted, as the server is told.
func countedFor(res *capture.Counts) *api.CountOut {
	out := &api.CountOut{
		Functions: []api.FunctionCount{}, DurationNS: res.DurationNS, CPUNS: res.CPUNS, Slowdown: res.Slowdown, Bounded: res.Bounded,
		Warnings: append([]profile.Warning{}, res.Warnings...),
	}
	for _, f := range res.Functions {
		n := api.FunctionCount{Name: f.Name, Calls: f.Calls, Callers: []api.CallerCount{}}
		for _, c := range f.Callers {
			n.Callers = append(n.Callers, api.CallerCount(c))
		}
		out.Functions = append(out.Functions, n)
	}
	return out
}

// said makes a single clear line of an error, with what to do where known.
func said(err error) string {
	line := strings.ReplaceAll(err.Error(), "\n", "; ")
	if remedy := capture.Remedy(err); remedy != "" {
		return line + "; " + remedy
	}
	return line
}

// allowed returns the settings of a job as this machine allows it: with the user
// that it runs as, and of a running process nothing that could launch another.
func (w *Collector) allowed(j *api.JobForCollector) (profile.Settings, error) {
	set := j.Settings
	if set.PID != 0 && len(set.PIDs) == 0 {
		set.PIDs = []int{set.PID}
	}
	if len(set.PIDs) > 0 {
		notice, err := capture.WithChildren(&set)
		if err != nil {
			return set, err
		}
		if notice != "" {
			w.log.Info(notice, "job", j.ID)
		}
	}
	if len(set.PIDs) > 0 || set.Machine || set.Group != "" {
		set.PID, set.Command, set.Dir, set.User, set.Env = 0, nil, "", "", nil
	}
	find := func(set profile.Settings) (string, error) {
		return launch.Find(capture.Options{Settings: set, Clean: true}.Launching())
	}
	return w.allow.Check(set, j.Who, find, procfs.Owner)
}

// collect does what comes before a take, and then makes it.
func (w *Collector) collect(ctx context.Context, set profile.Settings, progress func(capture.Progress), sink pairing.Sink) (*capture.Result, error) {
	if set.Budget > 0 {
		if err := doctor.ChooseRate(ctx, &set, func(text string) { w.log.Info(text) }); err != nil {
			return nil, fmt.Errorf("choosing the rate: %w", err)
		}
	}
	work, err := launch.NewWorkReader(io.Discard, set.WorkFrom)
	if err != nil {
		return nil, err
	}
	o := capture.Options{Settings: set, Progress: progress, Finder: w.finder, Tied: true, Clean: true, Work: func() float64 { return set.Work }}
	if w.Spans != nil {
		o.Given = append(o.Given, receive.Endpoint+"=http://"+w.Spans.Address())
		began := w.Spans.Begin()
		o.Told = func(ended bool) told.Received {
			wait := receive.Batch
			if ended {
				wait = receive.OnWay
			}
			got, warnings := w.Spans.Since(began, wait)
			return told.Received{Spans: got.Spans, Warnings: warnings, Others: true}
		}
	}
	if set.WorkFrom != "" {
		o.Stdout, o.Work = work, work.Work
	}
	if set.BareFirst && len(set.Command) > 0 {
		bare := o
		bare.Stderr = io.Discard
		if o.Bare, err = capture.BareFirst(ctx, bare); err != nil {
			return nil, err
		}
	}
	return capture.Collect(ctx, o, sink)
}

// take makes a take into a file of the spool, which is sent as it grows.
func (w *Collector) take(ctx context.Context, j *api.JobForCollector) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	w.keepEnding(j.ID, ending{Error: "the collector ended while it made this take"})
	sink := &takefile.File{Path: w.spoolPath(j.ID, takeEnd), NamesOnly: true}
	g := &growth{w: w, id: j.ID, path: sink.Path, whole: sink.Good.Load, stop: stop, ended: make(chan struct{})}
	g.done.Add(1)
	go g.send()
	set, err := w.allowed(j)
	var res *capture.Result
	var broke error // the take's file, while it was written
	switch {
	case err != nil:
	case set.Exact:
		broke, err = exactly(ctx, set, w.finder, g.progress, sink)
	default:
		if res, err = w.collect(ctx, set, g.progress, sink); err == nil {
			broke = res.SinkErr
		}
	}
	why, remedy := "", ""
	if err != nil {
		why, remedy = strings.ReplaceAll(err.Error(), "\n", "; "), capture.Remedy(err)
		if err := sink.Discard(); err != nil {
			w.log.Warn("a take that was not made left something behind", "error", err)
		}
	} else if err := sink.Close(broke); err != nil {
		why = said(err)
	}
	if res != nil && err == nil && len(set.Command) > 0 {
		// The command was asked for, to be sampled; it ends with the take, and
		// not only when the server has that.
		res.Signal(int(syscall.SIGTERM))
		go res.Wait()
	}
	close(g.ended)
	e := ending{why, remedy}
	w.keepEnding(j.ID, e)
	g.finish(e)
}
