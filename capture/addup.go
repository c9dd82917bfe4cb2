package capture

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"entelon/capture/pairing"
	"entelon/capture/rings"
	"entelon/core/measure"
	"entelon/linux/bpf"
	"entelon/linux/procfs"
)

// addsUp reports whether what is counted is added up in the kernel: wherever its programs
// may be loaded, for then nothing can be lost on the way here.
func (s *session) addsUp() bool {
	if s.other == nil || s.tallyErr != nil {
		return false
	}
	if !slices.ContainsFunc(s.measures.Chosen, func(m measure.Choice) bool { return m.Row().Way != measure.ByClock }) {
		return false
	}
	if !s.wide() && !procfs.SeesAll() { // the programs know processes by other numbers
		s.tallyErr = errNamespace
		return false
	}
	return true
}

// errNamespace says why events are not added up in a container of its own.
var errNamespace = errors.New("process IDs belong to a namespace here")

// addUp loads the programs that add up the events of a plan.
func (s *session) addUp(events []*rings.Event, stackBytes int) (err error) {
	if err := s.closeTally(); err != nil {
		return err
	}
	o := bpf.TallyOptions{Everyone: s.o.Settings.Machine, Calls: -1, Waits: -1, Wakers: -1, Requests: -1, StackBytes: stackBytes, Intervals: s.keepsIntervals()}
	if s.group != nil {
		if o.Group, o.Level, err = groupOf(int(s.group.Fd()), s.o.Settings.Group); err != nil {
			return err
		}
	}
	o.Descriptors = pairing.Descriptors
	for i, e := range events {
		switch e.Role {
		case rings.RoleDisk:
			o.Requests = i
		case rings.RoleEnter:
			o.Calls = i
		case rings.RoleSwitch:
			o.Waits = i
		case rings.RoleWake:
			o.Wakers = i
		case rings.RolePark:
			o.Routines = true
		case rings.RoleSpan:
			o.Spans = true
		}
	}
	if s.tally, err = bpf.NewTally(s.other, o); err != nil {
		return err
	}
	for i := range events {
		if err := s.addUpOne(events, i); err != nil {
			return err
		}
	}
	return s.tally.Watch()
}

// addUpOne loads the program of one event.
func (s *session) addUpOne(events []*rings.Event, i int) (err error) {
	e := events[i]
	switch {
	case e.Role == rings.RoleWritten:
		e.Samples, err = s.other.Samples()
	case e.Role == rings.RoleSpan:
		for _, points := range [][]bpf.SpanPoint{e.Spans.Begins, e.Spans.Ends} {
			for n := range points {
				points[n].Event = i
			}
		}
		if e.Spans.Pairs {
			err = s.tally.Pairs(e.Spans.Path, e.Spans.Begins, e.Spans.Ends)
		} else {
			err = s.tally.Spans(e.Spans.Path, e.Spans.Begins, e.Spans.Ends)
		}
	case e.Role == rings.RolePark:
		ready := -1
		if i+1 < len(events) && events[i+1].Role == rings.RoleReadied {
			ready = i + 1
		}
		err = s.tally.Routines(e.Routines.Path, e.Routines.Points, i, ready)
	case !e.Tallied || e.Attr == nil: // it has no event of its own
	case e.Role == rings.RoleCall:
		e.Program, err = s.tally.Call(i, e.Size, e.Allocator)
	case e.Attr.Type == unix.PERF_TYPE_TRACEPOINT:
		e.Program, err = s.tally.Tracepoint(i, e.Point.Length())
	default:
		e.Handler, err = s.tally.Event(i)
	}
	return err
}

// groupOf returns by which number the kernel knows a control group, and how deep it is.
func groupOf(fd int, path string) (id uint64, level uint32, err error) {
	var fs unix.Statfs_t
	if err := unix.Fstatfs(fd, &fs); err != nil {
		return 0, 0, err
	}
	if fs.Type != unix.CGROUP2_SUPER_MAGIC {
		return 0, 0, fmt.Errorf("control groups of version 1 have no ID")
	}
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return 0, 0, err
	}
	return st.Ino, uint32(strings.Count(path, "/")) + 1, nil
}

// adding is what the kernel's programs add up.
type adding struct {
	tally    *bpf.Tally // nil where nothing is added up in the kernel
	tallyErr error      // why it is not, where it could be
}

// closeTally removes the programs that add up.
func (s *adding) closeTally() error {
	if s.tally == nil {
		return nil
	}
	t := s.tally
	s.tally = nil
	return t.Close()
}
