package take

import (
	"encoding/binary"
	"errors"
	"fmt"
	"iter"
	"slices"

	"entelon/core/measure"
	"entelon/core/profile"
)

// cursor reads varints from an unpacked block. The first fault sticks, and
// everything read after it is zero.
type cursor struct {
	b    []byte
	err  error
	room *allowance
}

var errShort = errors.New("the block ends too early")

func (c *cursor) fail(err error) {
	if c.err == nil {
		c.err = err
	}
	c.b = nil
}

func (c *cursor) uint() uint64 {
	v, n := binary.Uvarint(c.b)
	if n <= 0 {
		c.fail(errShort)
		return 0
	}
	c.b = c.b[n:]
	return v
}

func (c *cursor) uint32() uint32 {
	v := c.uint()
	if v > 1<<32-1 {
		c.fail(errors.New("a number is larger than its column allows"))
		return 0
	}
	return uint32(v)
}

func (c *cursor) int() int64 {
	v, n := binary.Varint(c.b)
	if n <= 0 {
		c.fail(errShort)
		return 0
	}
	c.b = c.b[n:]
	return v
}

// count reads how many entries follow. Each takes at least one byte, so a
// count beyond the rest of the block is a lie and nothing is allocated for it.
func (c *cursor) count() int {
	v := c.uint()
	if v > uint64(len(c.b)) {
		c.fail(fmt.Errorf("%d entries are announced in %d bytes", v, len(c.b)))
		return 0
	}
	return int(v)
}

func (c *cursor) text() string {
	n := c.uint()
	if n > uint64(len(c.b)) {
		c.fail(errShort)
		return ""
	}
	if !c.room.take(int64(n)) {
		c.fail(errNoRoom)
		return ""
	}
	s := string(c.b[:n])
	c.b = c.b[n:]
	return s
}

// rows is count for entries that take so many bytes of memory each.
func (c *cursor) rows(bytes int64) int {
	n := c.count()
	if !c.room.take(int64(n) * bytes) {
		c.fail(errNoRoom)
		return 0
	}
	return n
}

func (c *cursor) end() error {
	if c.err == nil && len(c.b) > 0 {
		c.err = fmt.Errorf("%d bytes are left over", len(c.b))
	}
	return c.err
}

func readTables(b []byte, p *profile.Profile, r *allowance, version uint32) error {
	c := &cursor{b: b, room: r}
	for range c.rows(16) {
		p.Strings = append(p.Strings, c.text())
	}
	for range c.rows(12) {
		p.Modules = append(p.Modules, profile.Module{
			Path: profile.StringID(c.uint32()), BuildID: profile.StringID(c.uint32()), Kind: profile.ModuleKind(c.byte()),
		})
	}
	for range c.rows(28) {
		p.Functions = append(p.Functions, profile.Function{
			Name: profile.StringID(c.uint32()), Linkage: profile.StringID(c.uint32()), Module: profile.ModuleID(c.uint32()),
			File: profile.StringID(c.uint32()), Line: c.uint32(), Kind: profile.ModuleKind(c.byte()), Entry: c.byte() == 1,
		})
		f := &p.Functions[len(p.Functions)-1]
		if version >= Version7 {
			f.Mark = profile.Mark(c.byte())
		} else if f.Kind == profile.KindMark && int(f.Name) < len(p.Strings) {
			f.Mark = profile.MarkNamed(p.Strings[f.Name])
		}
	}
	for range c.rows(24) {
		p.Frames = append(p.Frames, profile.Frame{
			Function: profile.FunctionID(c.uint32()), Line: c.uint32(), Address: c.uint(),
		})
		c.frameFlags(&p.Frames[len(p.Frames)-1])
	}
	n := c.rows(12) // with the depth that is kept while they are read
	if st := &p.Stacks; cap(st.Parent) < st.Len()+n {
		st.Parent, st.Frame = slices.Grow(st.Parent, max(n, st.Len())), slices.Grow(st.Frame, max(n, st.Len()))
	}
	for range n {
		i := uint64(p.Stacks.Len())
		back := c.uint()
		if back > i {
			c.fail(fmt.Errorf("stack %d has a parent before the first", i))
			break
		}
		p.Stacks.Parent = append(p.Stacks.Parent, profile.StackID(i-back))
		p.Stacks.Frame = append(p.Stacks.Frame, profile.FrameID(c.uint32()))
		if !c.room.deeper(i, back) {
			c.fail(errDeep)
			break
		}
	}
	for range c.rows(12) {
		p.Measures = append(p.Measures, profile.Measure{
			Name: profile.StringID(c.uint32()), Unit: profile.StringID(c.uint32()),
		})
		c.measureFlags(p, version)
		if len(p.Samples.Stack) > 0 {
			c.fail(errors.New("a measure begins after the first sample"))
			break
		}
		p.Samples.Values = append(p.Samples.Values, nil)
	}
	readWho(c, p, version)
	return c.end()
}

// frameFlags reads bit 0, inlined, and from Version2 on the bits above, how
// the walk got to the frame.
func (c *cursor) frameFlags(f *profile.Frame) {
	v := c.byte()
	f.Inlined, f.Found = v&1 == 1, profile.Found(v>>1)
	if !f.Found.Valid() {
		c.fail(fmt.Errorf("a frame was found in the unknown way %d", f.Found))
	}
}

// measureFlags reads those of the last measure: bit 0, a level; from Version4 on bit
// 1, that every event is counted; from Version7 on bits 2 and 3, what its samples'
// times are, which the table of measures says of those before.
func (c *cursor) measureFlags(p *profile.Profile, version uint32) {
	m := &p.Measures[len(p.Measures)-1]
	v := c.byte()
	m.Combine, m.Counted, m.Time = measure.Combine(v&1), v&2 != 0, measure.TimeIs(v>>2)
	if version < Version7 && int(m.Name) < len(p.Strings) {
		known, _ := measure.Named(p.Strings[m.Name])
		m.Time = known.Time
	}
	if version < Version7 && v > 3 || !m.Time.Valid() {
		c.fail(fmt.Errorf("a measure has the unknown flags %d", v))
	}
}

func (c *cursor) byte() uint8 {
	v := c.uint()
	if v > 255 {
		c.fail(errors.New("a number is larger than its column allows"))
		return 0
	}
	return uint8(v)
}

func readWho(c *cursor, p *profile.Profile, version uint32) {
	for range c.rows(8) {
		i, x := c.uint(), profile.Process{PID: c.uint32(), Name: profile.StringID(c.uint32())}
		if !setOrAdd(&p.Processes, i, x) {
			c.fail(fmt.Errorf("process %d comes before process %d", i, len(p.Processes)))
			return
		}
	}
	for range c.rows(12) {
		i, x := c.uint(), profile.Thread{TID: c.uint32(), Process: profile.ProcessID(c.uint32()), Name: profile.StringID(c.uint32())}
		if version >= Version10 {
			kind := c.uint()
			if kind > 1 {
				c.fail(fmt.Errorf("thread %d is of an unknown kind, %d", i, kind))
				return
			}
			x.Goroutine = kind == 1
		}
		if !setOrAdd(&p.Threads, i, x) {
			c.fail(fmt.Errorf("thread %d comes before thread %d", i, len(p.Threads)))
			return
		}
	}
}

// setOrAdd sets entry i of a column or adds it as the next one.
func setOrAdd[T any](column *[]T, i uint64, x T) bool {
	n := uint64(len(*column))
	if i > n {
		return false
	}
	if i == n {
		*column = append(*column, x)
	} else {
		(*column)[i] = x
	}
	return true
}

func readSamples(b []byte, p *profile.Profile, r *allowance, version uint32) error {
	c := &cursor{b: b, room: r}
	n := c.count()
	if measures := c.uint(); measures != uint64(len(p.Measures)) {
		return fmt.Errorf("has %d measures where the take has %d", measures, len(p.Measures))
	}
	timed := true
	if version >= Version7 {
		timed = c.byte() == 1
	}
	if s := &p.Samples; s.Len() > 0 && timed == (s.Time == nil) {
		return errors.New("some samples have times and some have none")
	}
	if columns := 2 + len(p.Measures); n > len(c.b)/columns { // a byte in each at least
		return fmt.Errorf("%d samples are announced in %d bytes", n, len(c.b))
	}
	s := &p.Samples
	if !r.take(int64(n) * int64(8+4+4+4+8*len(p.Measures))) {
		return errNoRoom
	}
	if timed {
		var t int64
		for i := range more(&s.Time, n) {
			t += c.int()
			s.Time[i] = t * tick
		}
	}
	for i := range more(&s.Thread, n) {
		s.Thread[i] = profile.ThreadID(c.uint32())
	}
	for i := range more(&s.Stack, n) {
		s.Stack[i] = profile.StackID(c.uint32())
	}
	if s.Labels != nil {
		more(&s.Labels, n)
	}
	for m := range s.Values {
		var v int64
		values := &s.Values[m]
		for i := range more(values, n) {
			v += c.int()
			(*values)[i] = v
		}
	}
	return c.end()
}

// more makes a column longer by n empty entries, and goes through their positions.
// A column that has to move gets room for as many again as it has, so that few of
// its entries ever move twice.
func more[T any](column *[]T, n int) iter.Seq[int] {
	from := len(*column)
	if cap(*column) < from+n {
		*column = slices.Grow(*column, max(n, from))
	}
	*column = (*column)[:from+n]
	clear((*column)[from:])
	return func(yield func(int) bool) {
		for i := from; i < from+n && yield(i); i++ {
		}
	}
}

// readLabels reads new sets of labels, and those of the last n samples.
func readLabels(b []byte, p *profile.Profile, r *allowance, n int) error {
	c := &cursor{b: b, room: r}
	sets := &p.LabelSets
	for range c.rows(12) {
		i := uint64(sets.Len())
		back := c.uint()
		if back > i {
			c.fail(fmt.Errorf("label set %d has a parent before the first", i))
			break
		}
		sets.Parent = append(sets.Parent, profile.LabelSetID(i-back))
		sets.Name, sets.Value = append(sets.Name, profile.StringID(c.uint32())), append(sets.Value, profile.StringID(c.uint32()))
	}
	s := &p.Samples
	if got := c.count(); c.err == nil && got != n {
		return fmt.Errorf("has labels of %d samples behind a block of %d", got, n)
	}
	if s.Labels == nil {
		s.Labels = make([]profile.LabelSetID, s.Len())
	}
	for i := s.Len() - n; i < s.Len(); i++ {
		s.Labels[i] = profile.LabelSetID(c.uint32())
	}
	return c.end()
}
