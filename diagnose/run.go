package diagnose

import (
	"fmt"
	"time"

	"entelon/core/profile"
)

// What is said of how a take ran, beyond its samples.
const (
	warnShort = 100 * time.Millisecond // of a command that ended by itself
	warnIdle  = 0.5                    // of one processor
	idleAfter = time.Second            // shorter takes say nothing of idling
	warnBusy  = 0.25                   // of the machine, by others
	warnOwn   = 0.02                   // of the processor time, by our own counting
	warnStole = 0.05                   // of the machine, by its host
	warnHeld  = 0.01                   // of the time, by the limit of a control group
)

// ofRun says what else there is to know: whether the command found its files, the
// program was built for speed, had something to do, and had the machine to itself.
func ofRun(f *profile.Facts, e *Evidence) {
	took := time.Duration(f.DurationNS)
	if e.Launched && f.EndedBy == "exit" {
		ofAbsentFiles(f, e)
	}
	if e.Hot > 0 {
		f.Warn("hot", fmt.Sprintf("The machine slowed %d of its processors down %d times because they were too hot.", e.Hot, e.HotTimes), "Take it again when the machine has cooled down; compare shares rather than seconds.")
	}
	if share := float64(e.Held) / float64(max(1, f.DurationNS)); share > warnHeld {
		f.Warn("held-back", fmt.Sprintf("It was throttled for %.2f s because its control group had used up its processor time.", e.Held.Seconds()), "Give the group a higher limit (cpu.max), or compare processor time rather than how long it took.")
	}
	if e.Unoptimised != "" {
		f.Warn("unoptimised", "This build is not optimised ("+e.Unoptimised+").", "Measure a build as it is used: with -O2, or without the flags for a debugger.")
	}
	switch {
	case e.Waiting && !e.Kernel:
		f.Warn("no-wake", "It is known how long threads waited, but not where or what for: only kernel stacks would tell.", "Collect as root.")
	case e.NoWake != nil:
		f.Warn("no-wake", "Waiting for a processor is counted as whatever was waited for before: "+e.NoWake.Error()+".", "Collect as root.")
	}
	if e.Settings.WorkFrom != "" && f.Work == 0 {
		f.Warn("no-work", fmt.Sprintf("No number in the program's output matches %s, so the units of work are not known.", e.Settings.WorkFrom), "Check what it prints, and change --work-from.")
	}
	if e.Launched && f.EndedBy == "exit" && took < warnShort {
		f.Warn("ended-at-once", fmt.Sprintf("The command ended after %.0f ms.", float64(took.Microseconds())/1000), "Make sure that it did what you want to measure, or give it more to do.")
	}
	if e.CPU && !e.Waiting && e.Processes > 0 && took >= idleAfter && float64(f.CPUNS) < warnIdle*float64(f.DurationNS)*(1-e.stolen()) {
		f.Warn("idle", fmt.Sprintf("It used %.2f of a processor over %.1f s: most of the time it waited.", float64(f.CPUNS)/float64(f.DurationNS), took.Seconds()), "Add --measure waiting to see for what.")
	}
	if took >= idleAfter {
		ofMachine(f, e)
	}
}

func ofAbsentFiles(f *profile.Facts, e *Evidence) {
	switch n := len(e.Absent); n {
	case 0:
	case 1:
		f.Warn("no-file", fmt.Sprintf("The directory %s does not hold %s, which the command names.", e.Settings.Dir, e.Absent[0]), "Make sure that it ran in the right directory; --dir chooses another.")
	default:
		f.Warn("no-file", fmt.Sprintf("The directory %s does not hold %s and %d more that the command names.", e.Settings.Dir, e.Absent[0], n-1), "Make sure that it ran in the right directory; --dir chooses another.")
	}
}

// stolen is the share of the machine's time that its host took away, 0 where that is
// not known. A program that is held up by it does not idle.
func (e *Evidence) stolen() float64 {
	before, after := e.Machine[0], e.Machine[1]
	if before.Total == 0 || after.Total <= before.Total || after.Stolen < before.Stolen {
		return 0
	}
	return float64(after.Stolen-before.Stolen) / float64(after.Total-before.Total)
}

// ofMachine says who else used the machine.
func ofMachine(f *profile.Facts, e *Evidence) {
	before, after := e.Machine[0], e.Machine[1]
	total, stolen := after.Total-before.Total, after.Stolen-before.Stolen
	if before.Total == 0 || after.Total == 0 || total <= 0 || e.TickNS <= 0 {
		return
	}
	if share := e.stolen(); share > warnStole {
		f.Warn("host", fmt.Sprintf("The host of this machine took %.0f %% of its time away.", 100*share), "Trust shares more than seconds, or take it again later.")
	}
	if e.Sampler != "" {
		f.Warn("sampled", fmt.Sprintf("Something else was sampling on this machine at the same time: %s.", e.Sampler), "Take it again when nothing else samples: each slows the other's programs down.")
	}
	busy := total - (after.Idle - before.Idle) - stolen
	own := (f.CPUNS + f.CollectorNS) / e.TickNS
	if share := float64(busy-own) / float64(total); e.Processes > 0 && share > warnBusy {
		f.Warn("busy", fmt.Sprintf("Other programs used %.0f %% of this machine meanwhile.", 100*share), "Take it again when nothing else runs: waiting for a processor makes it take longer.")
	}
}
