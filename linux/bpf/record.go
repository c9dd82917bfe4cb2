package bpf

import (
	"encoding/binary"
	"slices"
	"unsafe"

	"entelon/linux/perf"
)

// Header is what each record of the programs begins with (struct record_header).
type Header = stacksRecordHeader

// The kinds of records.
const (
	KindStack   = uint64(stacksRecordKindKIND_STACK)    // a part of a stack
	KindGoStack = uint64(stacksRecordKindKIND_GO_STACK) // the same of a Go program, with where its stacks were left
	KindPython  = uint64(stacksRecordKindKIND_PYTHON)   // frames of CPython: PythonEntry
	KindCode    = uint64(stacksRecordKindKIND_CODE)     // a code object of CPython: PythonCode
	KindLabels  = uint64(stacksRecordKindKIND_LABELS)   // labels of a goroutine: GoLabel
	KindTally   = uint64(stacksRecordKindKIND_TALLY)    // what was added up so far of the sample's class: TallyKey, TallySum
	// KindInterval is a wait, a system call or a span that has ended: TallyInterval
	KindInterval = uint64(stacksRecordKindKIND_INTERVAL)
	KindRoutine  = uint64(stacksRecordKindKIND_ROUTINE) // what came of a goroutine: Routine
	KindEvent    = uint64(stacksRecordKindKIND_EVENT)   // an event with what it is about: TallyEvent
	KindLabel    = uint64(stacksRecordKindKIND_LABEL)   // what a goroutine does from here on: Label
	KindFile     = uint64(stacksRecordKindKIND_FILE)    // what is behind a descriptor: File
)

// SlotEvent is where records of sampling events were made, and of what has an event of its own:
// none of those interrupts another one, but all of them interrupt what was made elsewhere.
const SlotEvent = uint64(stacksScratchSlotSLOT_EVENT)

const (
	// BeforeHeader is what the kernel puts before a record: identifier, pid and tid,
	// time, the length of the rest.
	BeforeHeader = 8 + 8 + 8 + 4
	HeaderBytes  = int(unsafe.Sizeof(Header{}))
)

// What follows the header, by kind.
type (
	GoLabel     = stacksGoLabel
	PythonEntry = framesPythonEntry
	PythonCode  = framesPythonCode
)

// MaxLabels is how many labels of a goroutine are read.
const MaxLabels = int(stacksLabelBoundMAX_LABELS)

// Decode reads a record from what the kernel wrote; ok is false where it is cut short
// or lies about its length.
func Decode(b []byte) (h Header, body []byte, ok bool) {
	if len(b) < BeforeHeader+HeaderBytes {
		return h, nil, false
	}
	b = b[BeforeHeader:]
	ne := binary.NativeEndian
	for i, to := range []*uint64{&h.Addr, &h.Length, &h.Kind, &h.Low, &h.High, &h.Sp, &h.Pc, &h.Bp, &h.SystemSp, &h.Slot} {
		*to = ne.Uint64(b[8*i:])
	}
	if b = b[HeaderBytes:]; h.Length > uint64(len(b)) {
		return h, nil, false
	}
	return h, b[:h.Length:h.Length], true
}

// KindOf returns a record's kind, 0 where it is broken.
func KindOf(b []byte) uint64 {
	h, _, ok := Decode(b)
	if !ok {
		return 0
	}
	return h.Kind
}

// DecodeLabel reads one label from a record's bytes, of which there are enough.
func DecodeLabel(b []byte) (l GoLabel) {
	ne := binary.NativeEndian
	l.NameLength = ne.Uint64(b)
	b = b[8+copy(l.Name[:], b[8:]):]
	l.TextLength = ne.Uint64(b)
	copy(l.Text[:], b[8:])
	return l
}

// OtherDelay is the longest time in nanoseconds by which the copy of another stack can be older
// than the sample that it belongs to where records were lost in between, and HeldUp where none
// were. Both are made by one interrupt, but a host may take the processor away within it.
const (
	OtherDelay = 1_000_000
	HeldUp     = 20_000_000
)

// Pairing hands the records of the program on with the sample that they belong to: the next
// one of the same thread in the same ring. Which of the two has the earlier time depends on the
// kernel's version; a record with a later time than a sample that follows it can belong to no
// other.
type Pairing struct {
	// Tallied reports whether a sample is of events that are added up: a record of KindTally is the
	// first of what belongs to it. Nil: none is.
	Tallied func(perf.Record) bool
	waiting map[uint32][]waiting // by thread
	losses  int                  // how often records were lost
}

// waiting is a record whose sample has not come yet.
type waiting struct {
	perf.Record
	losses int
}

// belongs reports whether a record is of a sample, and not of one that was lost.
func (p *Pairing) belongs(o *waiting, to *perf.Record) bool {
	within := uint64(HeldUp)
	if o.losses != p.losses {
		within = OtherDelay
	}
	return o.Time >= to.Time || to.Time-o.Time < within
}

// Visit hands a record on, a sample with what belongs to it.
func (p *Pairing) Visit(r perf.Record, next func(perf.Record)) {
	switch r.Kind {
	case perf.RecordOther:
		if p.waiting == nil {
			p.waiting = map[uint32][]waiting{}
		}
		p.waiting[r.TID] = append(p.waiting[r.TID], waiting{r, p.losses})
		return
	case perf.RecordLost, perf.RecordLostSamples:
		p.losses++
	case perf.RecordSample:
		if list, ok := p.waiting[r.TID]; ok {
			delete(p.waiting, r.TID)
			rest, mine := p.interrupted(r, list)
			if len(rest) > 0 {
				p.waiting[r.TID] = rest
			}
			for i := range mine {
				if p.belongs(&mine[i], &r) {
					r.Others = append(r.Others, mine[i].Body)
				}
			}
		}
	}
	next(r)
}

// interrupted parts what waits in a thread where an interrupt came in between: a sample that was
// made in it comes first, and what was begun before belongs to one that is still to come.
func (p *Pairing) interrupted(r perf.Record, list []waiting) (rest, mine []waiting) {
	if p.Tallied == nil {
		return nil, list
	}
	last, event := -1, true // whether all of what follows the last tally is of sampling events
	for i, w := range list {
		switch h, _, _ := Decode(w.Body); {
		case h.Kind == KindTally:
			last, event = i, true
		case h.Slot != SlotEvent:
			event = false
		}
	}
	if p.Tallied(r) {
		last = max(last, 0)
		rest, mine = list[:last:last], list[last:]
		if !event { // what a tick left whose sample was lost is not this one's
			mine = slices.DeleteFunc(mine, func(w waiting) bool {
				h, _, _ := Decode(w.Body)
				return h.Kind != KindTally && h.Slot == SlotEvent
			})
		}
		return rest, mine
	}
	for i, w := range list {
		if h, _, _ := Decode(w.Body); i > last && h.Slot == SlotEvent {
			mine = append(mine, w)
		} else {
			rest = append(rest, w)
		}
	}
	return rest, mine
}

// Forget lets go of what belongs to samples that never came, as of a time.
func (p *Pairing) Forget(before uint64) {
	for tid, list := range p.waiting {
		if list[len(list)-1].Time+HeldUp < before {
			delete(p.waiting, tid)
		}
	}
}

// Waiting is how many threads have records whose sample has not come yet.
func (p *Pairing) Waiting() int { return len(p.waiting) }
