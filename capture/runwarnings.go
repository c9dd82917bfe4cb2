package capture

import (
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"entelon/core/measure"
)

// What is said of how a take ran, beyond its samples.
const (
	warnShort = 100 * time.Millisecond // of a command that ended by itself
	warnIdle  = 0.5                    // of one processor
	idleAfter = time.Second            // shorter takes say nothing of idling
	warnBusy  = 0.25                   // of the machine, by others
	warnStole = 0.05                   // of the machine, by its host
)

// machineTime is the processor time of a whole machine, in ticks.
type machineTime struct{ total, idle, stolen int64 }

// machineTicks reads the first line of /proc/stat: user, nice, system, idle,
// iowait, irq, softirq, steal.
func machineTicks() (m machineTime, ok bool) {
	b, err := os.ReadFile("/proc/stat")
	if err != nil {
		return m, false
	}
	line, _, _ := strings.Cut(string(b), "\n")
	f := strings.Fields(line)
	if len(f) < 9 || f[0] != "cpu" {
		return m, false
	}
	for i, text := range f[1:9] {
		v, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return m, false
		}
		m.total += v
		switch i {
		case 3, 4:
			m.idle += v
		case 7:
			m.stolen += v
		}
	}
	return m, true
}

// warnRun says what else there is to know: whether the program was built for
// speed, had something to do, and had the machine to itself.
func (s *session) warnRun() {
	f := &s.facts
	took := time.Duration(f.DurationNS)
	s.warnFiles()
	s.warnSlowed(readSlowed("/", s.pids))
	if s.unoptimised != "" {
		f.Warn("unoptimised", "This build is not optimised ("+s.unoptimised+").", "Look at a build as it is used: with -O2, or without the flags for a debugger.")
	}
	if s.noWake != nil {
		f.Warn("no-wake", "Waiting for a processor is counted as what was waited for before: "+s.noWake.Error()+".", "Collect as root.")
	}
	if s.command != nil && f.EndedBy == "exit" && took < warnShort {
		f.Warn("ended-at-once", fmt.Sprintf("The command ended after %.0f ms.", float64(took.Microseconds())/1000), "Make sure that it did what you want to measure; give it more to do.")
	}
	cpu, waiting := s.columnOf(measure.CPU) >= 0, s.columnOf(measure.Waiting) >= 0
	if cpu && !waiting && len(s.pids) > 0 && took >= idleAfter && float64(f.CPUNS) < warnIdle*float64(f.DurationNS) {
		f.Warn("idle", fmt.Sprintf("It used %.2f of a processor over %.1f s: most of the time it waited.", float64(f.CPUNS)/float64(f.DurationNS), took.Seconds()), "Add --measure waiting to see for what.")
	}
	after, ok := machineTicks()
	total := after.total - s.before.total
	if !ok || s.before.total == 0 || total <= 0 || took < idleAfter {
		return
	}
	if share := float64(after.stolen-s.before.stolen) / float64(total); share > warnStole {
		f.Warn("host", fmt.Sprintf("The host of this machine took %.0f %% of its time away.", 100*share), "Trust shares more than seconds, or take it again later.")
	}
	busy := total - (after.idle - s.before.idle) - (after.stolen - s.before.stolen)
	own := (f.CPUNS + f.CollectorNS) / nanosecondsOf
	if share := float64(busy-own) / float64(total); len(s.pids) > 0 && share > warnBusy {
		f.Warn("busy", fmt.Sprintf("Other programs used %.0f %% of this machine meanwhile.", 100*share), "Take it again when nothing else runs; waiting for a processor makes it longer.")
	}
}
