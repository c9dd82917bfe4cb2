package scope

import (
	"slices"
	"testing"

	"entelon/core/measure"
	"entelon/core/profile"
)

// shop is a profile of two threads, 10 and 11, with a sample each in every 10 ns of 500. Thread 10 has
// system calls from 100 to 150 (read of a file, 4096 bytes), from 200 to 210 (write to a peer that failed),
// and a request to a disk from 120 to 300, within which a smaller one goes on from 130 to 140; a page fault
// at 400. Thread 11 waits from 0 to 90, ended by thread 10, and from 300 to 350, ended by an interrupt.
func shop(t *testing.T) *profile.Profile {
	t.Helper()
	b := profile.NewBuilder()
	for _, name := range []string{"cpu", "disk", "faults"} {
		m, err := measure.Parse(name)
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range m.Columns() {
			b.Column(c)
		}
	}
	process := b.Process(1)
	press, clerk := b.Thread(process, 10), b.Thread(process, 11)
	b.NameThread(press, "press")
	for at := range int64(50) {
		b.Sample(at*10, press, 0, 1, 0, 0, 0)
		b.Sample(at*10, clerk, 0, 1, 0, 0, 0)
	}
	call := func(name string) profile.StackID {
		return b.Push(0, b.Mark(profile.SystemCall, profile.SystemCallKey(name)))
	}
	disk, _ := profile.EventsOf(1)
	fault, _ := profile.EventsOf(3)
	b.Interval(profile.Interval{Start: 100, Duration: 50, Thread: press, Kind: profile.IntervalCall, Stack: call("read")})
	b.AttributeOf(profile.AttributeMoved, profile.AttributeBytes, 4096)
	b.AttributeOf(profile.AttributeFile, profile.AttributeText, int64(b.Intern("/srv/plates/7.plate")))
	b.Interval(profile.Interval{Start: 200, Duration: 10, Thread: press, Kind: profile.IntervalCall, Stack: call("write")})
	b.AttributeOf(profile.AttributeError, profile.AttributeText, int64(b.Intern("EPIPE")))
	b.Interval(profile.Interval{Start: 120, Duration: 180, Thread: press, Kind: disk, Stack: b.Push(0, b.Mark(profile.DiskWrite, profile.DiskWrite.Key()))})
	b.AttributeOf(profile.AttributeMoved, profile.AttributeBytes, 2<<20)
	b.Interval(profile.Interval{Start: 130, Duration: 10, Thread: press, Kind: disk, Stack: b.Push(0, b.Mark(profile.DiskRead, profile.DiskRead.Key()))})
	b.AttributeOf(profile.AttributeMoved, profile.AttributeBytes, 512)
	b.Interval(profile.Interval{Start: 400, Thread: press, Kind: fault})
	b.AttributeOf(profile.AttributeMemory, profile.AttributeAddress, 0x1000)
	b.Interval(profile.Interval{Start: 0, Duration: 90, Thread: clerk, Kind: profile.IntervalWait, Ended: true, By: press})
	b.Interval(profile.Interval{Start: 300, Duration: 50, Thread: clerk, Kind: profile.IntervalWait, Ended: true, By: profile.NoThread})
	return b.Profile()
}

func TestInEvents(t *testing.T) {
	p := shop(t)
	for text, want := range map[string]struct {
		samples int
		rows    []int // of the intervals as rows of their own
	}{
		"in events where kind is disk and bytes > 1 MB":                           {19, []int{1, 2}},
		"in events where kind is disk and bytes over 1 MiB and thread is press":   {19, []int{1, 2}},
		"in events where (bytes over 1 MiB or error is EPIPE) and cpu over 0 ns":  {19, nil},
		"in events where file is *.plate":                                         {6, []int{0, 2, 3}},
		"in events where name is read and kind is syscalls":                       {6, []int{0, 2, 3}},
		"in events where error matches \"^E\"":                                    {2, []int{1}},
		"in events where kind is faults":                                          {1, []int{4}},
		"in events where address at least 4096":                                   {1, []int{4}},
		"in events where kind is disk and not bytes < 1000":                       {19, []int{1, 2}},
		"in events where kind is disk and duration at most 10 ns":                 {2, []int{3}},
		"not in events where kind is disk":                                        {81, []int{0, 4, 5, 6}},
		"in events where kind is waiting":                                         {16, []int{5, 6}},
		"woken by thread press":                                                   {9, []int{5}},
		"woken by thread 10, clerk":                                               {9, []int{5}},
		"woken by thread clerk":                                                   {0, nil},
		"in events where (kind is disk) and pages over 5":                         {0, nil}, // a measure that the take does not have
		"in events where none over 5":                                             {0, nil},
		"in events where kind is disk or in events where kind is faults and idle": {19, []int{1, 2, 3}},
	} {
		sc, err := Parse(text)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		again, err := Parse(sc.String())
		if err != nil || again.String() != sc.String() {
			t.Errorf("%s becomes %s, and that %s, %v", text, sc, again, err)
		}
		n := 0
		for _, is := range again.Select(p) {
			if is {
				n++
			}
		}
		each := 0
		sc.Sieve(p, false).Each(p, func(int) { each++ })
		if each != n {
			t.Errorf("%s, taken apart, holds %d samples, and %d", text, each, n)
		}
		var rows []int
		for i, is := range sc.Select(p.OfIntervals()) {
			if is && p.Intervals.Kind[i] != profile.IntervalAlive {
				rows = append(rows, i)
			}
		}
		if n != want.samples || !slices.Equal(rows, want.rows) {
			t.Errorf("%s: %d samples and rows %v, want %+v", text, n, rows, want)
		}
	}
}

// TestEventsAreProposed: behind "where" come what events have, and of each what is in the take.
func TestEventsAreProposed(t *testing.T) {
	names := NewNames(shop(t), About{}, Weights{})
	for text, want := range map[string]string{
		"in ":                                   "events",
		"in events ":                            "where",
		"in events where ":                      "kind",
		"in events where ki":                    "kind",
		"in events where kind is ":              "disk",
		"in events where file is ":              "/srv/plates/7.plate",
		"in events where bytes ":                "over",
		"in events where kind is disk and byt":  "bytes",
		"in events where kind is disk and addr": "address",
		"in events where name is re":            "read",
		"woken ":                                "by",
		"woken by thread ":                      "press",
	} {
		var got []string
		for _, x := range names.Complete(text, len(text)) {
			got = append(got, x.Text)
		}
		if !slices.Contains(got, want) {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
}
