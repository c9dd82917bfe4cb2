package disturbance

import (
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"entelon/core/profile"
	"entelon/linux/procfs"
	"entelon/resolve"
)

// Usage follows the memory and the processor time of the processes of a take.
type Usage struct {
	every  time.Duration
	next   time.Time
	Series profile.Usage
	page   int64
	files  map[uint32]*os.File // /proc/PID/stat of each, open from one look to the next
	line   []byte
}

const (
	firstEvery    = 100 * time.Millisecond
	maxPoints     = 600
	maxFollowed   = 64
	NanosecondsOf = int64(time.Second) / procfs.TicksASecond
)

// NewUsage follows no process yet.
func NewUsage() *Usage {
	return &Usage{every: firstEvery, page: int64(os.Getpagesize()), files: map[uint32]*os.File{}, line: make([]byte, 1024)}
}

// Look adds a point if one is due. When there are many, every second one is
// dropped and they come half as often.
func (u *Usage) Look(now time.Time, began time.Time, ps *resolve.Processes) {
	if now.Before(u.next) || len(ps.Known) > maxFollowed {
		return
	}
	u.next = now.Add(u.every)
	var resident, cpu int64
	alive := 0
	for pid := range ps.Known {
		if ticks, pages, ok := u.of(pid); ok {
			resident += pages * u.page
			cpu += ticks * NanosecondsOf
			alive++
		}
	}
	for pid, f := range u.files {
		if ps.Known[pid] == nil {
			_ = f.Close() // it was only read
			delete(u.files, pid)
		}
	}
	if alive == 0 {
		return
	}
	s := &u.Series
	s.TimeNS = append(s.TimeNS, now.Sub(began).Nanoseconds())
	s.ResidentBytes = append(s.ResidentBytes, resident)
	s.CPUNS = append(s.CPUNS, cpu)
	s.MaxResident = max(s.MaxResident, resident)
	if len(s.TimeNS) < maxPoints {
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

// of is what a process has used, and how much memory it has now. Its file is read again
// and again: opening it costs more than reading it.
func (u *Usage) of(pid uint32) (ticks, pages int64, ok bool) {
	f := u.files[pid]
	if f == nil {
		var err error
		if f, err = os.Open(fmt.Sprintf("/proc/%d/stat", pid)); err != nil {
			return 0, 0, false // it has ended
		}
		u.files[pid] = f
	}
	n, err := f.ReadAt(u.line, 0)
	if err != nil && !errors.Is(err, io.EOF) {
		_ = f.Close() // it was only read
		delete(u.files, pid)
		return 0, 0, false
	}
	return procfs.Usage(string(u.line[:n]))
}

// Close lets go of the files.
func (u *Usage) Close() error {
	var errs []error
	for _, f := range u.files {
		errs = append(errs, f.Close())
	}
	clear(u.files)
	return errors.Join(errs...)
}
