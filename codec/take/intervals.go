package take

import (
	"encoding/binary"
	"errors"
	"fmt"
	"sort"

	"entelon/core/profile"
)

// intervalsPerBlock bounds a block, so that a reader needs little memory at a time.
const intervalsPerBlock = 1 << 18

// What an interval, and an entry that not all of them have, take in memory.
const (
	intervalBytes  = 8 + 8 + 4 + 1 + 4
	linkBytes      = 4 + 4 + 4
	attributeBytes = 4 + 8
)

// intervals puts the intervals from..to into the buffer, a column after the other. They are
// mostly in the order of their ends, so these are what is kept.
func (t *Writer) intervals(p *profile.Profile, from, to int) {
	v := &p.Intervals
	t.buf = t.buf[:0]
	t.uint(uint64(to - from))
	var last int64
	for i := from; i < to; i++ {
		end := v.Start[i] + v.Duration[i]
		t.int(end - last)
		last = end
	}
	for _, d := range v.Duration[from:to] {
		t.uint(uint64(d))
	}
	for _, x := range v.Thread[from:to] {
		t.uint(uint64(x))
	}
	for _, x := range v.Kind[from:to] {
		t.uint(uint64(x))
	}
	for _, x := range v.Stack[from:to] {
		t.uint(uint64(x))
	}
	l := &v.Ended
	a, b := t.positions(l.Interval, from, to)
	for _, x := range l.Thread[a:b] {
		t.uint(uint64(x + 1)) // 0: no thread
	}
	for _, x := range l.Stack[a:b] {
		t.uint(uint64(x))
	}
	t.uint(uint64(len(v.Attributes)))
	for _, x := range v.Attributes {
		t.uint(uint64(x.Name))
		t.uint(uint64(x.Type))
		a, b := t.positions(x.Interval, from, to)
		for _, value := range x.Value[a:b] {
			t.buf = binary.AppendVarint(t.buf, value)
		}
	}
}

// positions puts how many of ascending positions are in from..to into the buffer, and these as
// distances; it returns which those are.
func (t *Writer) positions(at []uint32, from, to int) (a, b int) {
	a = sort.Search(len(at), func(i int) bool { return int(at[i]) >= from })
	b = sort.Search(len(at), func(i int) bool { return int(at[i]) >= to })
	t.uint(uint64(b - a))
	last := uint32(from)
	for _, x := range at[a:b] {
		t.uint(uint64(x - last))
		last = x
	}
	return a, b
}

// readIntervals reads a block of intervals. The file goes on for more times as many bytes as were read of such
// blocks, this one among them, so that about as many times as many intervals are to come.
func readIntervals(b []byte, p *profile.Profile, r *allowance, version uint32, more float64) error {
	c := &cursor{b: b, room: r}
	n := c.rows(intervalBytes)
	if n > len(c.b)/5 { // a byte in each column at least
		return fmt.Errorf("%d intervals are announced in %d bytes", n, len(c.b))
	}
	v := &p.Intervals
	first := uint64(v.Len())
	if first+uint64(n) > 1<<31 {
		return errors.New("it has more intervals than can be counted")
	}
	expect := func(have int) int { return have + int(min(float64(have)*more, float64(r.left/intervalBytes))) }
	whole := expect(int(first) + n)
	cs := columns{c: c}
	starts, durations := longerBy(&v.Start, n, whole), longerBy(&v.Duration, n, whole)
	cs.add(n, func(c *cursor) { signed(c, starts) })
	cs.add(n, func(c *cursor) { unsigned(c, durations) })
	ofThread, kinds, stacks := longerBy(&v.Thread, n, whole), longerBy(&v.Kind, n, whole), longerBy(&v.Stack, n, whole)
	cs.add(n, func(c *cursor) { unsigned(c, ofThread) })
	cs.add(n, func(c *cursor) { unsigned(c, kinds) })
	cs.add(n, func(c *cursor) { unsigned(c, stacks) })
	l := &v.Ended
	k := cs.positions(&l.Interval, first, linkBytes, expect)
	links := expect(len(l.Interval))
	threads, at := longerBy(&l.Thread, k, links), longerBy(&l.Stack, k, links)
	cs.add(k, func(c *cursor) {
		unsigned(c, threads)
		for i := range threads {
			threads[i]-- // 0: no thread
		}
	})
	cs.add(k, func(c *cursor) { unsigned(c, at) })
	attributes := c.rows(48)
	if attributes > profile.MaxAttributes {
		return errors.New("the intervals have too many attributes")
	}
	for n := range attributes {
		name := profile.StringID(c.uint32())
		of := profile.AttributeNumber
		if version >= Version11 {
			of = profile.AttributeType(c.uint32())
		}
		if n == len(v.Attributes) {
			v.Attributes = append(v.Attributes, profile.Attribute{Name: name, Type: of})
		}
		a := &v.Attributes[n]
		if a.Name != name || a.Type != of {
			c.fail(errors.New("the attributes of intervals change places"))
			break
		}
		k := cs.positions(&a.Interval, first, attributeBytes, expect)
		values := longerBy(&a.Value, k, expect(len(a.Interval)))
		cs.add(k, func(c *cursor) { signed(c, values) })
	}
	if err := c.end(); err != nil {
		return err
	}
	if err := cs.read(); err != nil {
		return err
	}
	end := int64(0)
	for i, d := range durations {
		end += starts[i]
		starts[i] = end - d
	}
	return nil
}

// positions reads ascending positions, the first as its distance to first, and returns how many
// there are.
func (cs *columns) positions(column *[]uint32, first uint64, bytes int64, expect func(have int) int) int {
	n := cs.c.rows(bytes)
	column32 := longerBy(column, n, expect(len(*column)+n))
	cs.add(n, func(c *cursor) {
		unsigned(c, column32)
		at := first
		for i, distance := range column32 {
			if at += uint64(distance); at > 1<<31 {
				c.fail(errors.New("an interval is behind the last"))
				return
			}
			column32[i] = uint32(at)
		}
	})
	return n
}
