// Package jit reads what runtimes write of the code that they make while a program runs:
// maps of it, which grow, the names in them, and the source maps of scripts.
//
// Nothing here is shared: each value belongs to the goroutine that made it.
package jit

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"sort"
	"strconv"
)

// Map is what a runtime writes down of the code that it makes: a text file
// with a line for each piece, "start size name", the numbers in hexadecimal.
// The file grows while the program runs. A piece may take the place of an
// earlier one, and nothing in the file tells when; so each is kept with the
// times between which it was written.
type Map struct {
	entries []entry  // by start, then by when they were written
	reach   []uint64 // the highest end of all entries up to here
	names   []byte
	sorted  bool
	at      int64  // how much of the file was read
	rest    []byte // of a line that was not whole yet
	bad     int    // lines that are none
	last    uint64 // time of the last read
	Fault   error  // why some of the file is missing
}

type entry struct {
	start, end uint64
	name       uint32 // in names
	length     uint32
	after, by  uint64 // it was written between these times
}

// Bounds of a map, so that a broken or hostile one costs no more than this.
const (
	maxJITEntries = 4_000_000
	maxJITNames   = 512 << 20
	maxJITLine    = 64 << 10
	maxJITLook    = 4096 // entries that are looked at for one address
)

// Read takes in what was written since the last call. now is any clock's time
// that all of it was written before, which only grows.
func (m *Map) Read(r io.ReaderAt, now uint64) {
	buffer := make([]byte, 256<<10)
	after := m.last
	for {
		n, err := r.ReadAt(buffer, m.at)
		m.at += int64(n)
		m.lines(buffer[:n], after, now)
		if err != nil || n == 0 {
			if err != nil && !errors.Is(err, io.EOF) && m.Fault == nil {
				m.Fault = err
			}
			break
		}
	}
	m.last = now
	if m.bad > 0 && m.Fault == nil {
		m.Fault = fmt.Errorf("%d of its lines are not of the form \"start size name\"", m.bad)
	}
}

// Again takes in a map that was written anew as a whole, at a time. What was
// known of it already keeps its own times.
func (m *Map) Again(r io.ReaderAt, now uint64) {
	if !m.sorted {
		m.sort()
	}
	known := Map{entries: m.entries, reach: m.reach, names: m.names, sorted: true}
	m.entries, m.names = append([]entry(nil), m.entries...), append([]byte(nil), m.names...)
	m.at, m.rest = 0, nil
	before := len(m.entries)
	m.Read(r, now)
	kept := m.entries[:before]
	for _, e := range m.entries[before:] {
		name, start, ok := known.Find(e.start, ^uint64(0))
		if !ok || start != e.start || name != string(m.names[e.name:e.name+e.length]) {
			kept = append(kept, e)
		}
	}
	m.entries, m.sorted = kept, false
}

func (m *Map) lines(b []byte, after, now uint64) {
	if len(m.rest) > 0 {
		b = append(m.rest, b...)
		m.rest = nil
	}
	for {
		i := bytes.IndexByte(b, '\n')
		if i < 0 {
			break
		}
		m.line(b[:i], after, now)
		b = b[i+1:]
	}
	if len(b) > maxJITLine {
		m.bad++ // no line is as long as that; what follows is read as a new one
		return
	}
	m.rest = append(m.rest, b...)
}

func (m *Map) line(b []byte, after, now uint64) {
	start, b, ok1 := hexWord(b)
	size, name, ok2 := hexWord(b)
	if !ok1 || !ok2 || size == 0 || start+size < start || len(name) == 0 {
		if len(b) > 0 || !ok1 {
			m.bad++
		}
		return
	}
	if len(m.entries) >= maxJITEntries || len(m.names)+len(name) > maxJITNames {
		if m.Fault == nil {
			m.Fault = fmt.Errorf("it has more than %d entries or %d MB of names; the rest is left out", maxJITEntries, maxJITNames>>20)
		}
		return
	}
	m.entries = append(m.entries, entry{start: start, end: start + size, name: uint32(len(m.names)), length: uint32(len(name)), after: after, by: now})
	m.names = append(m.names, name...)
	m.sorted = false
}

func hexWord(b []byte) (v uint64, rest []byte, ok bool) {
	word, rest, ok := bytes.Cut(b, []byte(" "))
	if !ok {
		return 0, nil, false
	}
	word = bytes.TrimPrefix(word, []byte("0x"))
	v, err := strconv.ParseUint(string(word), 16, 64)
	return v, rest, err == nil
}

// Find returns the name of the code that was at an address at a time, and
// where that code begins; ok is false where the map has none.
func (m *Map) Find(addr, at uint64) (name string, start uint64, ok bool) {
	if !m.sorted {
		m.sort()
	}
	var best *entry
	i := sort.Search(len(m.entries), func(i int) bool { return m.entries[i].start > addr })
	for n := 0; i > 0 && m.reach[i-1] > addr && n < maxJITLook; n++ {
		i--
		e := &m.entries[i]
		// What was written later than the sample was not there yet.
		if addr < e.end && e.after <= at && (best == nil || e.by > best.by || e.by == best.by && e.name > best.name) {
			best = e
		}
	}
	if best == nil {
		return "", 0, false
	}
	return string(m.names[best.name : best.name+best.length]), best.start, true
}

// sort puts the entries into order; those of one start stay in theirs.
func (m *Map) sort() {
	sort.SliceStable(m.entries, func(i, j int) bool { return m.entries[i].start < m.entries[j].start })
	m.reach = m.reach[:0]
	var highest uint64
	for _, e := range m.entries {
		highest = max(highest, e.end)
		m.reach = append(m.reach, highest)
	}
	m.sorted = true
}

// Last returns the time of the last read, 0 if there was none.
func (m *Map) Last() uint64 { return m.last }

// Len returns the number of entries.
func (m *Map) Len() int { return len(m.entries) }
