package collecting

import (
	"context"
	"errors"
	"fmt"
	"math"
	"strings"
	"time"
	"unicode/utf8"

	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/scope"
	"entelon/core/workload"
	"entelon/server/request"
	"entelon/store/database"
)

// ordered returns what shall be collected, and where. What a take says of itself
// is not an order: anybody who may send takes can write it. A take is made again
// as a job on this server's record made it, or by settings that somebody has seen
// and sends along.
func (s JobRoutes) ordered(ctx context.Context, again string, given *profile.Settings, collector string) (set profile.Settings, on string, err error) {
	if again == "" || given != nil {
		if given == nil {
			return set, "", request.Bad(errors.New("nothing to sample; give a command, a process, a control group or the machine"))
		}
		return *given, collector, nil
	}
	if _, err := s.Store.Take(ctx, again); err != nil {
		return set, "", err
	}
	j, err := s.Store.JobOfTake(ctx, again)
	if errors.Is(err, database.ErrNotFound) {
		return set, "", request.Against(errors.New("no job of this server made this take, so its settings were not checked by anybody here"), "look at its command, user and folder, and send them along")
	} else if err != nil {
		return set, "", err
	}
	if set = j.Settings; set.Masked > 0 {
		return set, "", request.Against(fmt.Errorf("%d of its arguments and variables looked like secrets and were not kept", set.Masked), "make it anew on New take, and give them there")
	}
	if collector == "" {
		collector = j.Doer
	}
	if collector != j.Doer {
		set.Event = "" // another machine may count cycles, or not
	}
	return set, collector, nil
}

// Shown are settings as they are told to who looks: of the environment only the
// names, since values may be secrets, and without what looks like one in the command.
func Shown(set profile.Settings) profile.Settings {
	set.Env = set.EnvNames()
	workload.MaskSettings(&set)
	return set
}

// checkSettings refuses what a collector could not do.
func checkSettings(set *profile.Settings) error {
	if set.PID != 0 && len(set.PIDs) == 0 {
		set.PIDs = []int{set.PID}
	}
	// A take keeps the command of a process that was attached to, too.
	attached := len(set.PIDs) > 0
	set.Workload = workload.Name(set.Workload)
	switch {
	case !attached && !set.Machine && set.Group == "" && len(set.Command) == 0:
		return errors.New("nothing to sample; give a command, a process, a control group or the machine")
	case set.Exact && (attached || set.Machine || set.Group != ""):
		return errors.New("an exact run starts a command itself; give a command")
	case !set.Exact && (set.Memory || len(set.Caches) > 0) || len(set.Caches) > 2:
		return errors.New("accesses to memory and models of two caches are for exact runs")
	case !set.Exact && (set.Inside != "" || set.After != 0 || set.Calls != 0):
		return errors.New("counting only inside a function is for exact runs")
	case set.After < 0 || set.Calls < 0 || set.Inside == "" && (set.After != 0 || set.Calls != 0):
		return errors.New("which calls count is said of a function, and a number of calls is not negative")
	case set.Exact && (set.BareFirst || set.Keep != "" || set.WorkFrom != "" || len(set.Against) > 0):
		return errors.New("an exact run counts everything; leave out runs without sampling, samples to keep, reading its output, and a second command")
	case set.RateHz < 1 || set.RateHz > 50_000:
		return fmt.Errorf("a rate of %d; give a number from 1 to 50000", set.RateHz)
	case set.Budget < 0 || set.Budget > 1 || set.Work < 0 || math.IsNaN(set.Work) || math.IsInf(set.Work, 0):
		return errors.New("a budget is a share from 0 to 1, and work a number that is not negative")
	case set.Children != "" && set.Children != "yes" && set.Children != "no":
		return fmt.Errorf("children %q: choose yes or no, or leave it open", set.Children)
	case set.BarePairs < 0 || set.BarePairs > 20:
		return fmt.Errorf("%d pairs of runs with and without sampling: choose up to 20", set.BarePairs)
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
	if _, err := measure.ParseAll(set.Measures); err != nil {
		return err
	}
	if set.ForNS == 0 {
		set.ForNS = int64(longestTake)
	}
	for name, text := range map[string]string{"program": set.Program, "build": set.Build} {
		if err := profile.CheckName(text); err != nil {
			return fmt.Errorf("the %s: %w", name, err)
		}
	}
	for _, kv := range set.Env {
		if name, _, ok := strings.Cut(kv, "="); !ok || name == "" {
			return fmt.Errorf("the environment: write %q as NAME=VALUE", request.Cut(kv, 100))
		}
	}
	bytes := 0
	for _, list := range [][]string{set.Command, set.Against, set.Env, set.Caches, {set.Dir, set.User, set.Group, set.Program, set.Build, set.Note, set.Keep, set.WorkFrom, set.Until, set.Inside}} {
		for _, text := range list {
			if strings.ContainsRune(text, 0) || !utf8.ValidString(text) {
				return errors.New("a text with a zero character cannot be passed on")
			}
			bytes += len(text)
		}
	}
	if bytes > maxSettings {
		return fmt.Errorf("the command and what belongs to it have more than %d MB", maxSettings>>20)
	}
	return nil
}

// maxSettings bounds the texts of a job together, in bytes. Linux takes 2 MB of
// arguments and environment by default.
const maxSettings = 3 << 20
