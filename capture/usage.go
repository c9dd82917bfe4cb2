package capture

import (
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"entelon/core/profile"
	"entelon/linux/procfs"
	"entelon/resolve"
)

// usage follows the memory and the processor time of the processes of a take.
type usage struct {
	every  time.Duration
	next   time.Time
	series profile.Usage
	page   int64
}

const (
	firstEvery    = 100 * time.Millisecond
	mostPoints    = 600
	mostFollowed  = 64
	nanosecondsOf = int64(time.Second) / procfs.TicksASecond
)

func newUsage() *usage { return &usage{every: firstEvery, page: int64(os.Getpagesize())} }

// look adds a point if one is due. When there are many, every second one is
// dropped and they come half as often.
func (u *usage) look(now time.Time, began time.Time, ps *resolve.Processes) {
	if now.Before(u.next) || len(ps.Known) > mostFollowed {
		return
	}
	u.next = now.Add(u.every)
	var resident, cpu int64
	alive := 0
	for pid := range ps.Known {
		if b, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", pid)); err == nil {
			if f := strings.Fields(string(b)); len(f) > 1 {
				if n, err := strconv.ParseInt(f[1], 10, 64); err == nil {
					resident += n * u.page
					alive++
				}
			}
		}
		if b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid)); err == nil {
			cpu += procfs.Ticks(string(b)) * nanosecondsOf
		}
	}
	if alive == 0 {
		return
	}
	s := &u.series
	s.TimeNS = append(s.TimeNS, now.Sub(began).Nanoseconds())
	s.ResidentBytes = append(s.ResidentBytes, resident)
	s.CPUNS = append(s.CPUNS, cpu)
	s.MostResident = max(s.MostResident, resident)
	if len(s.TimeNS) < mostPoints {
		return
	}
	n := 0
	for i := 0; i < len(s.TimeNS); i += 2 {
		s.TimeNS[n], s.ResidentBytes[n], s.CPUNS[n] = s.TimeNS[i], s.ResidentBytes[i], s.CPUNS[i]
		n++
	}
	s.TimeNS, s.ResidentBytes, s.CPUNS = s.TimeNS[:n], s.ResidentBytes[:n], s.CPUNS[:n]
	u.every *= 2
}
