package bpf

import (
	"encoding/binary"
	"errors"
	"fmt"

	"github.com/cilium/ebpf"
	"github.com/cilium/ebpf/link"
	"golang.org/x/sys/unix"
)

// Tally are the programs that add up events in the kernel, by class, with their maps
// (programs/tally.h says why and how).
type Tally struct {
	maps struct {
		Control *ebpf.Map `ebpf:"control"`
		Classes *ebpf.Map `ebpf:"classes"` // TallySum by TallyKey
		Calls   *ebpf.Map `ebpf:"calls"`   // TallyOpen by thread, as are
		Waits   *ebpf.Map `ebpf:"waits"`
		Pace    *ebpf.Map `ebpf:"pace"`
		Last    *ebpf.Map `ebpf:"last"`
		Written *ebpf.Map `ebpf:"interval_pace"`

		Routines *ebpf.Map `ebpf:"routines"` // goroutines
		Carriers *ebpf.Map `ebpf:"carriers"`
		Spans    *ebpf.Map `ebpf:"spans"`
		Levels   *ebpf.Map `ebpf:"pair_levels"`

		Requests *ebpf.Map `ebpf:"requests"`
		Files    *ebpf.Map `ebpf:"files_told"`
		File     *ebpf.Map `ebpf:"file_scratch"`
		Pass     *ebpf.Map `ebpf:"pass_scratch"`
	}
	o        TallyOptions
	reader   *StackReader
	readers  map[ebpf.ProgramType]*ebpf.Map // with the program that reads stacks, by kind of event; 0: of many probes
	probing  map[string]*ebpf.Program       // that run at many probes, by name
	programs []*ebpf.Program
	links    []link.Link
	keys     []TallyKey // to read into
	sums     []TallySum
}

// TallyKey is a class of events (struct tally_key).
type TallyKey = tallyTallyKey

// TallySum is what was added up of a class (struct tally).
type TallySum = tallyTally

// TallyOpen is a system call or a wait that is going on (struct tally_open).
type TallyOpen = tallyTallyOpen

// TallyControl is what the programs and the collector tell each other (struct
// tally_control).
type TallyControl = tallyTallyControl

// The flags of a class.
const (
	TallyBefore = uint16(tallyTallyFlagTALLY_BEFORE) // began before counting did
	TallyCoarse = uint16(tallyTallyFlagTALLY_COARSE) // all of its thread and kind for which there was no room
	tallyNobody = uint16(tallyTallyFlagTALLY_NOBODY) // it is not known who woke a thread
)

// MaxTallied is how many events can be added up.
const MaxTallied = int(tallyTallyBoundTALLY_EVENTS)

// TallyOptions say whose events count, and which there are.
type TallyOptions struct {
	Everyone  bool
	Group     uint64 // identifier of a control group; 0: none
	Level     uint32 // how deep it is in the tree of groups
	Calls     int    // number of the event of system calls; -1: none
	Waits     int    // of threads that leave their processor; -1: none
	Intervals bool   // each call and each wait is written down, too
	Wakers    int    // number of the event of those who end waits; -1: they are not asked for
	Requests  int    // of requests to disks; -1: none
	// Descriptors says of system calls, by number, where their descriptor is to be found.
	Descriptors []DescriptorPlace
	Routines    bool // goroutines are followed
	Spans       bool // functions are, from their beginning to their end
	// StackBytes is how much of a stack the kernel copies itself at a tracepoint or probe.
	StackBytes int
}

// NewTally makes the maps. What a sample does not bring is read by reader's programs.
func NewTally(reader *StackReader, o TallyOptions) (t *Tally, err error) {
	t = &Tally{o: o, reader: reader, readers: map[ebpf.ProgramType]*ebpf.Map{}, probing: map[string]*ebpf.Program{}, keys: make([]TallyKey, 4096), sums: make([]TallySum, 4096)}
	spec, err := loadTally()
	if err != nil {
		return nil, err
	}
	for name, used := range map[string]bool{
		tallyMapRequests: o.Requests >= 0 && o.Intervals, tallyMapFilesTold: o.Intervals,
		tallyMapCalls: o.Calls >= 0, tallyMapWaits: o.Waits >= 0, tallyMapRoutines: o.Routines, tallyMapCarriers: o.Routines, tallyMapSpans: o.Spans, tallyMapPairLevels: o.Spans,
	} {
		if !used {
			spec.Maps[name].MaxEntries = 1
		}
	}
	if err := spec.LoadAndAssign(&t.maps, nil); err != nil {
		return nil, fmt.Errorf("making the maps to count in: %w", err)
	}
	return t, nil
}

// How many samples with their stacks a processor writes in ten milliseconds, before they are chosen
// at random: 10 000 a second. Beside intervals, which say when each event was, 2000 are enough to
// tell stacks of one class from each other.
const (
	paceShown  = 100
	paceBeside = 20
)

// then returns the map of the program that runs after one of a kind.
func (t *Tally) then(kind ebpf.ProgramType) (*ebpf.Map, error) {
	if m := t.readers[kind]; m != nil {
		return m, nil
	}
	spec, err := loadTally()
	if err != nil {
		return nil, err
	}
	m, err := ebpf.NewMap(spec.Maps[tallyMapReader])
	if err != nil {
		return nil, err
	}
	t.readers[kind] = m
	if err := t.reader.Loaded(); err != nil {
		return nil, err
	}
	p := t.reader.program
	switch kind {
	case ebpf.PerfEvent:
	case ebpf.UnspecifiedProgram:
		if p, err = t.reader.Probed(t.o.StackBytes); err != nil {
			return nil, err
		}
	default:
		if p, err = t.reader.Traced(kind, t.o.StackBytes, true); err != nil {
			return nil, err
		}
	}
	return m, m.Put(uint32(0), p)
}

// load loads one of the programs; set sets what it is to know beside the rest.
func (t *Tally) load(name string, kind ebpf.ProgramType, set map[string]uint32) (*ebpf.Program, error) {
	spec, err := loadTally()
	if err != nil {
		return nil, err
	}
	all := map[string]uint32{tallyVarGroupLevel: t.o.Level, tallyVarPaceShown: uint32(paceShown)}
	if t.o.Everyone {
		all[tallyVarEveryone] = 1
	}
	if t.o.Waits >= 0 {
		all[tallyVarWaitsNumber] = uint32(t.o.Waits)
	}
	if t.o.Intervals {
		all[tallyVarWithIntervals], all[tallyVarPaceShown] = 1, paceBeside
	}
	if t.o.Calls >= 0 {
		all[tallyVarWithCalls], all[tallyVarCallsNumber] = 1, uint32(t.o.Calls)
	}
	if t.o.Requests >= 0 {
		all[tallyVarRequestsNumber] = uint32(t.o.Requests)
	}
	var places [callsKnown]uint8
	for call, at := range t.o.Descriptors {
		if call < len(places) {
			places[call] = uint8(at)
		}
	}
	if err := spec.Variables[tallyVarDescriptors].Set(places); err != nil {
		return nil, err
	}
	for k, v := range set {
		all[k] = v
	}
	for k, v := range all {
		if err := spec.Variables[k].Set(v); err != nil {
			return nil, err
		}
	}
	if err := spec.Variables[tallyVarGroup].Set(t.o.Group); err != nil {
		return nil, err
	}
	for name, m := range map[string]*ebpf.Map{
		tallyMapOutputs: t.reader.maps.Outputs, tallyMapCalls: t.maps.Calls, tallyMapWaits: t.maps.Waits,
		tallyMapRoutines: t.maps.Routines, tallyMapCarriers: t.maps.Carriers, tallyMapSpans: t.maps.Spans, tallyMapPairLevels: t.maps.Levels,
		tallyMapRequests: t.maps.Requests, tallyMapFilesTold: t.maps.Files,
	} {
		spec.Maps[name].MaxEntries = m.MaxEntries()
	}
	maps := map[string]*ebpf.Map{
		tallyMapControl: t.maps.Control, tallyMapClasses: t.maps.Classes, tallyMapCalls: t.maps.Calls, tallyMapWaits: t.maps.Waits,
		tallyMapPace: t.maps.Pace, tallyMapLast: t.maps.Last, tallyMapIntervalPace: t.maps.Written, tallyMapOutputs: t.reader.maps.Outputs,
		tallyMapRoutines: t.maps.Routines, tallyMapCarriers: t.maps.Carriers, tallyMapSpans: t.maps.Spans, tallyMapPairLevels: t.maps.Levels,
		tallyMapRequests: t.maps.Requests, tallyMapFilesTold: t.maps.Files, tallyMapFileScratch: t.maps.File, tallyMapPassScratch: t.maps.Pass,
	}
	for name, m := range t.reader.Members.shared(spec) {
		maps[name] = m
	}
	if spec.Programs[name].AttachType == ebpf.AttachTraceUprobeMulti {
		kind = ebpf.UnspecifiedProgram
	}
	if kind != ebpf.RawTracepoint || name == tallyProgTallyWaking || name == tallyProgTallyEnter || name == tallyProgTallySwitch || name == tallyProgTallyRequest {
		if maps[tallyMapReader], err = t.then(kind); err != nil {
			return nil, err
		}
	}
	p, err := loadProgram(spec, name, t.reader.types, maps)
	if err != nil {
		return nil, fmt.Errorf("loading the program that counts (%s): %w", name, err)
	}
	t.programs = append(t.programs, p)
	return p, nil
}

// Event returns the program of an event that the kernel counts itself.
func (t *Tally) Event(number int) (*ebpf.Program, error) {
	return t.load(tallyProgTallyEvent, ebpf.PerfEvent, map[string]uint32{tallyVarEventNumber: uint32(number)})
}

// Tracepoint returns the program of a tracepoint, of whose record so many bytes are kept with each event.
func (t *Tally) Tracepoint(number, bytes int) (*ebpf.Program, error) {
	return t.load(tallyProgTallyTracepoint, ebpf.TracePoint, map[string]uint32{
		tallyVarEventNumber: uint32(number), tallyVarRecordBytes: uint32(min(bytes, MaxRecordBytes)),
	})
}

// registerAt is where the kernel's pt_regs has the registers that can be arguments, by
// their numbers in DWARF: rax, rdx, rcx, rbx, rsi, rdi, r8, r9.
var registerAt = map[int]uint32{0: 80, 1: 96, 2: 88, 3: 40, 4: 104, 5: 112, 8: 72, 9: 64}

// Call returns the program of a probe in a function. The product of its arguments, by the
// numbers of their registers in DWARF, is a size; of none, calls are counted alone. A call
// to an allocator from which another one was jumped to counts once.
func (t *Tally) Call(number int, arguments []int, allocator bool) (*ebpf.Program, error) {
	set := map[string]uint32{tallyVarEventNumber: uint32(number)}
	for i, name := range []string{tallyVarArgumentAt, tallyVarSecondAt} {
		if i < len(arguments) {
			at, ok := registerAt[arguments[i]]
			if !ok {
				return nil, fmt.Errorf("register %d holds no argument", arguments[i])
			}
			set[name] = at
		}
	}
	if allocator {
		set[tallyVarAllocator] = 1
	}
	return t.load(tallyProgTallyCall, ebpf.Kprobe, set)
}

// Watch has the programs run that need no event of their own: of system calls, of waits, and of
// processes that begin and end.
func (t *Tally) Watch() error {
	hooks := map[string]string{tallyProgTallyFork: "sched_process_fork", tallyProgTallyExec: "sched_process_exec", tallyProgTallyExit: "sched_process_exit"}
	if t.o.Calls >= 0 {
		hooks[tallyProgTallyEnter], hooks[tallyProgTallyLeave] = "sys_enter", "sys_exit"
	}
	if t.o.Waits >= 0 {
		hooks[tallyProgTallySwitch], hooks[tallyProgTallyWaking] = "sched_switch", "sched_waking"
	}
	if t.o.Requests >= 0 {
		hooks[tallyProgTallyRequest], hooks[tallyProgTallyAnswer], hooks[tallyProgTallyAnswers] = "block_bio_queue", "block_bio_complete", "block_rq_complete"
	}
	for name, at := range hooks {
		var set map[string]uint32
		if name == tallyProgTallyWaking && t.o.Wakers >= 0 {
			set = map[string]uint32{tallyVarWithWakers: 1, tallyVarEventNumber: uint32(t.o.Wakers)}
		}
		p, err := t.load(name, ebpf.RawTracepoint, set)
		if err != nil {
			return err
		}
		l, err := link.AttachRawTracepoint(link.RawTracepointOptions{Name: at, Program: p})
		if err != nil {
			return fmt.Errorf("counting at %s: %w", at, err)
		}
		t.links = append(t.links, l)
	}
	return nil
}

// Begin lets events count from a time on, in monotonic nanoseconds.
func (t *Tally) Begin(at uint64) error {
	return t.maps.Control.Put(uint32(0), TallyControl{On: 1, Origin: at})
}

// End stops the counting.
func (t *Tally) End() error {
	c, err := t.State()
	if err != nil {
		return err
	}
	c.On = 0
	return t.maps.Control.Put(uint32(0), c)
}

// State reads how it goes.
func (t *Tally) State() (c TallyControl, err error) {
	err = t.maps.Control.Lookup(uint32(0), &c)
	return c, err
}

// Waiting notes a thread that waits already when the counting begins.
func (t *Tally) Waiting(pid, tid uint32, event int, at uint64) error {
	key := TallyKey{Pid: pid, Tid: tid, Event: uint16(event), Flags: TallyBefore}
	if err := t.maps.Classes.Put(key, TallySum{Count: 1}); err != nil {
		return err
	}
	return t.maps.Waits.Put(tid, tallyTallyWait{O: TallyOpen{Key: key, Begin: at}, Waker: TallyKey{Flags: tallyNobody}})
}

// Read reads all classes.
func (t *Tally) Read(visit func(TallyKey, TallySum)) error {
	var at ebpf.MapBatchCursor
	for {
		n, err := t.maps.Classes.BatchLookup(&at, t.keys, t.sums, nil)
		for i := range n {
			visit(t.keys[i], t.sums[i])
		}
		switch {
		case errors.Is(err, ebpf.ErrKeyNotExist):
			return nil // that were all
		case errors.Is(err, unix.ENOSPC) && len(t.keys) < 1<<16: // many in one place of the table
			t.keys, t.sums = make([]TallyKey, 2*len(t.keys)), make([]TallySum, 2*len(t.keys))
		case err != nil:
			return fmt.Errorf("reading what was counted: %w", err)
		}
	}
}

// Forget makes room: a class of a thread that has ended is not added to any more.
func (t *Tally) Forget(k TallyKey) error {
	err := t.maps.Classes.Delete(k)
	if errors.Is(err, ebpf.ErrKeyNotExist) {
		return nil
	}
	return err
}

// Open reads which system calls, waits and spans are going on; goroutine is that of a span, 0 of none.
func (t *Tally) Open(visit func(tid uint32, o TallyOpen, goroutine uint64)) error {
	var tid uint32
	var o TallyOpen
	var w tallyTallyWait
	var key tallySpanKey
	var s tallySpanOpen
	calls, waits, spans := t.maps.Calls.Iterate(), t.maps.Waits.Iterate(), t.maps.Spans.Iterate()
	for t.o.Calls >= 0 && calls.Next(&tid, &o) {
		if o.Begin != 0 {
			visit(tid, o, 0)
		}
	}
	for t.o.Waits >= 0 && waits.Next(&tid, &w) {
		if w.O.Begin != 0 {
			visit(tid, w.O, 0)
		}
	}
	for t.o.Spans && spans.Next(&key, &s) {
		visit(s.O.Key.Tid, s.O, s.Goroutine)
	}
	if err := errors.Join(calls.Err(), waits.Err(), spans.Err()); err != nil {
		return fmt.Errorf("reading what is going on: %w", err)
	}
	return nil
}

// OpenRoutines reads what goroutines are in at a time.
func (t *Tally) OpenRoutines(at uint64, visit func(pid uint32, x Routine)) error {
	if !t.o.Routines {
		return nil
	}
	var key tallyRoutineKey
	var g tallyRoutine
	all := t.maps.Routines.Iterate()
	for all.Next(&key, &g) {
		x := Routine{
			Wait:      TallyInterval{Key: g.O.Key, Begin: g.O.Begin, End: at, Woken: g.O.Woken},
			Goroutine: key.Goroutine, Carried: g.Carried, Left: g.Left, Carrier: g.Carrier,
		}
		x.Wait.Key.Pid = key.Pid
		visit(key.Pid, x)
	}
	if err := all.Err(); err != nil {
		return fmt.Errorf("reading what goroutines are in: %w", err)
	}
	return nil
}

// Close removes its programs and maps.
func (t *Tally) Close() error {
	var errs []error
	for _, l := range t.links {
		errs = append(errs, l.Close())
	}
	for _, p := range t.programs {
		errs = append(errs, p.Close())
	}
	for _, m := range t.readers {
		errs = append(errs, m.Close())
	}
	m := t.maps
	return errors.Join(append(errs, closeMaps(m.Control, m.Classes, m.Calls, m.Waits, m.Pace, m.Last, m.Written, m.Routines, m.Carriers, m.Spans, m.Levels, m.Requests, m.Files, m.File, m.Pass))...)
}

// DecodeTally reads the body of a record of KindTally; ok is false where it is cut short.
func DecodeTally(b []byte) (k TallyKey, sum TallySum, ok bool) {
	if len(b) < tallyKeyBytes+tallySumBytes {
		return k, sum, false
	}
	k, b = decodeKey(b), b[tallyKeyBytes:]
	sum.Count, sum.Sum, sum.Run, sum.Shown = binary.NativeEndian.Uint64(b), binary.NativeEndian.Uint64(b[8:]), binary.NativeEndian.Uint64(b[16:]), binary.NativeEndian.Uint64(b[24:])
	return k, sum, true
}

// TallyInterval is a call or a wait that has ended (struct interval_record). Times are
// monotonic nanoseconds.
type TallyInterval struct {
	Key        TallyKey
	Begin, End uint64
	Woken      uint64 // of a wait: from when on the thread waited for a processor
	Result     uint64 // of a call: what it returned,
	Returned   bool   // which the last one of a thread does not
	Processor  uint32 // on which the thread went on
	Waker      TallyKey
	HasWaker   bool   // Waker is known
	Goroutine  uint64 // of a span; 0: it is the thread's own
	File       uint64 // of a call, the number of what it was about; 0: nothing
}

// DecodeInterval reads a record of KindInterval; ok is false where it is cut short.
func DecodeInterval(h Header, b []byte) (x TallyInterval, ok bool) {
	if len(b) < tallyKeyBytes {
		return x, false
	}
	x = TallyInterval{Key: decodeKey(b), Begin: h.Addr, End: h.Low, Woken: h.High, Result: h.Sp, Returned: h.Bp != 0, Processor: uint32(h.Pc), Goroutine: h.SystemSp, File: h.Slot}
	if b = b[tallyKeyBytes:]; x.Woken != 0 && len(b) >= tallyKeyBytes {
		x.Waker = decodeKey(b)
		x.HasWaker = x.Waker.Flags&tallyNobody == 0
	}
	return x, true
}

func decodeKey(b []byte) (k TallyKey) {
	ne := binary.NativeEndian
	k.Ip, k.Sp, k.Caller = ne.Uint64(b), ne.Uint64(b[8:]), ne.Uint64(b[16:])
	k.Pid, k.Tid, k.What = ne.Uint32(b[24:]), ne.Uint32(b[28:]), ne.Uint32(b[32:])
	k.Event, k.Flags = ne.Uint16(b[36:]), ne.Uint16(b[38:])
	return k
}

// The sizes of struct tally_key and struct tally.
const (
	tallyKeyBytes = 40
	tallySumBytes = 32
)
