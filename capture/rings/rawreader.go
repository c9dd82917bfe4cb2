package rings

import (
	"encoding/binary"
	"fmt"
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"

	"entelon/capture/programs"
	"entelon/linux/bpf"
	"entelon/linux/perf"
	"entelon/resolve/raw"
	"entelon/unwind"
)

// rawReader reads the records of the kernel as raw ones. What it returns is good until
// it is asked for the next one.
type rawReader struct {
	events    []*Event
	happening raw.Happening
	sample    perf.Sample
	out       raw.Record
	raw       raw.Sample
	interval  raw.Interval
	routine   raw.Routine
	runTime   perf.RunTime
}

// Marks that the kernel puts between the parts of a call chain
// (enum perf_callchain_context).
const (
	contextKernel = ^uint64(128) + 1
	contextUser   = ^uint64(512) + 1
	contextMax    = ^uint64(4095) + 1
)

// read reads a record; it returns nil for one that tells nothing of use. e is the event
// of a sample.
func (d *rawReader) read(rec perf.Record, e *Event) (*raw.Record, error) {
	d.out = raw.Record{PID: rec.PID, TID: rec.TID, Time: rec.Time}
	out := &d.out
	ne := binary.NativeEndian
	switch rec.Kind {
	case perf.RecordSample:
		const modeMask, modeKernel = 7, 1 // PERF_RECORD_MISC_CPUMODE_MASK and _KERNEL
		out.Kind, out.Kernel, out.Sample = raw.Sampled, rec.Misc&modeMask == modeKernel, &d.raw
		return out, d.readSample(rec, e)
	case perf.RecordOther:
		return d.readOther(rec), nil
	case perf.RecordMmap2:
		m, ok := perf.DecodeMmap2(rec.Body)
		if !ok {
			return nil, nil
		}
		out.Kind, out.PID = raw.Mapped, m.PID
		out.Mapping = &raw.Mapping{Start: m.Address, End: m.Address + m.Length, Offset: m.FileOffset, Inode: m.Inode, Major: m.Major, Minor: m.Minor, Name: programs.ModuleName(m.Name)}
	case perf.RecordComm:
		if len(rec.Body) < 9 {
			return nil, nil
		}
		out.Kind, out.Exec = raw.Renamed, rec.Misc&perf.MiscCommExec != 0
		out.PID, out.TID = ne.Uint32(rec.Body), ne.Uint32(rec.Body[4:])
		out.Name = strings.Clone(unix.ByteSliceToString(rec.Body[8:]))
	case perf.RecordFork, perf.RecordExit:
		if len(rec.Body) < 16 {
			return nil, nil
		}
		out.Kind = raw.Started
		if rec.Kind == perf.RecordExit {
			out.Kind = raw.Ended
		}
		out.PID, out.TID = ne.Uint32(rec.Body), ne.Uint32(rec.Body[8:])
		out.Parent = raw.Parent{PID: ne.Uint32(rec.Body[4:]), TID: ne.Uint32(rec.Body[12:])}
	case perf.RecordSwitch, perf.RecordSwitchAny:
		out.Kind = raw.SwitchedIn
		if rec.Misc&perf.MiscSwitchOut != 0 {
			out.Kind, out.Preempted = raw.SwitchedOut, rec.Misc&perf.MiscPreempted != 0
		}
	case perf.RecordLost, perf.RecordLostSamples:
		// LOST has the event's number before the count; LOST_SAMPLES only the count.
		n := len(rec.Body)
		if n < 8 {
			return nil, nil
		}
		out.Kind, out.Count = raw.SamplesLost, int64(perf.Word(rec.Body[n-8:]))
	case perf.RecordThrottle:
		out.Kind = raw.Throttled
	default:
		return nil, nil
	}
	return out, nil
}

// readSample fills d.raw.
func (d *rawReader) readSample(rec perf.Record, e *Event) error {
	s := &d.raw
	*s = raw.Sample{Kernel: s.Kernel[:0], Memory: s.Memory[:0], Labels: s.Labels[:0], Python: s.Python[:0]}
	if e.Bare() {
		s.Data = perf.RawOf(rec)
		return nil
	}
	x := &d.sample
	if !x.Decode(rec, e.Copied, e.Raw, e.Cycles) {
		return fmt.Errorf("a sample is longer than its record")
	}
	s.Period, s.Data, s.Copied = x.Period, x.Raw, e.Copied
	if e.Cycles {
		s.Ran = d.runTime.Since(rec, x.Running)
	}
	s.Kernel, s.Chain = splitChain(x.Chain, s.Kernel)
	if !e.Copied || !x.Known { // without registers, as of a thread of the kernel's
		for _, b := range rec.Others {
			if h, body, ok := bpf.Decode(b); ok && h.Kind == bpf.KindTally {
				addOther(s, h, body)
			}
		}
		return nil
	}
	s.Known, s.Registers, s.Full = true, registersOf(x), x.Full
	if len(x.Stack) > 0 {
		s.Memory = append(s.Memory, unwind.Window{Start: s.Registers.Value[unwind.RSP], Bytes: x.Stack})
	}
	for _, b := range rec.Others {
		h, body, ok := bpf.Decode(b)
		if !ok {
			continue // the stack is then cut off, as it would be without it
		}
		addOther(s, h, body)
	}
	return nil
}

// addOther adds what a program in the kernel copied to a sample.
func addOther(s *raw.Sample, h bpf.Header, body []byte) {
	switch h.Kind {
	case bpf.KindPython:
		s.Python = append(s.Python, raw.Frames{State: h.Addr, More: h.Low != 0, Entries: body})
		return
	case bpf.KindLabels:
		s.Labelled = int(min(h.Low, 1<<20))
		for ; len(body) >= labelBytes; body = body[labelBytes:] {
			s.Labels = append(s.Labels, labelOf(body))
		}
		return
	case bpf.KindTally:
		if k, sum, ok := bpf.DecodeTally(body); ok {
			s.Tally = tallyOf(k, sum)
		}
		return
	case bpf.KindGoStack:
		s.Go = unwind.GoStacks{Known: true, Low: h.Low, High: h.High, SP: h.Sp, PC: h.Pc, BP: h.Bp, SystemSP: h.SystemSp}
	}
	if len(body) > 0 {
		s.Memory = append(s.Memory, unwind.Window{Start: h.Addr, Bytes: body})
	}
}

// tallyOf is a class and its sums as raw records have them.
func tallyOf(k bpf.TallyKey, s bpf.TallySum) *raw.Tally {
	return &raw.Tally{Class: classOf(k), Count: int64(s.Count), Sum: int64(s.Sum), Run: int64(s.Run)}
}

func classOf(k bpf.TallyKey) raw.Class {
	return raw.Class{
		PID: k.Pid, TID: k.Tid, Event: int(k.Event), IP: k.Ip, SP: k.Sp, Caller: k.Caller, What: k.What,
		Before: k.Flags&bpf.TallyBefore != 0, Coarse: k.Flags&bpf.TallyCoarse != 0,
	}
}

const labelBytes = int(unsafe.Sizeof(bpf.GoLabel{}))

// labelOf reads one label from a record's bytes, of which there are enough.
func labelOf(b []byte) raw.Label {
	const name, text = len(bpf.GoLabel{}.Name), len(bpf.GoLabel{}.Text)
	after := b[8+name:]
	return raw.Label{NameLength: perf.Word(b), Name: b[8 : 8+name], TextLength: perf.Word(after), Text: after[8 : 8+text]}
}

// readOther reads a record of the programs that belongs to no sample: of a code object, or an
// interval.
func (d *rawReader) readOther(rec perf.Record) *raw.Record {
	h, body, ok := bpf.Decode(rec.Body)
	switch {
	case ok && h.Kind == bpf.KindInterval:
		return d.readInterval(h, body)
	case ok && h.Kind == bpf.KindRoutine:
		return d.readRoutine(h, body)
	case ok && h.Kind == bpf.KindEvent:
		return d.readEvent(h, body)
	case ok && h.Kind == bpf.KindLabel:
		x := bpf.DecodeLabelled(h, body)
		name := strings.ToValidUTF8(string(x.Name), "?")
		if x.Cut && name != "" {
			name += "…"
		}
		d.out.Kind, d.out.PID, d.out.TID, d.out.Time = raw.Labelled, x.PID, x.TID, x.Time
		d.out.Doing = &raw.Doing{Goroutine: x.Goroutine, Name: name}
		return &d.out
	case ok && h.Kind == bpf.KindFile:
		d.out.Kind, d.out.File = raw.Filed, fileOf(bpf.DecodeFile(h, body))
		return &d.out
	}
	if !ok || h.Kind != bpf.KindCode {
		return nil
	}
	d.out.Kind = raw.CodeRead
	d.out.Code = &raw.Code{Address: h.Addr, Filename: h.Low, Qualname: h.High, LineTable: h.Sp, FirstLine: uint32(h.Pc), Bytes: body}
	return &d.out
}

// readRoutine reads what came of a goroutine.
func (d *rawReader) readRoutine(h bpf.Header, body []byte) *raw.Record {
	x, ok := bpf.DecodeRoutine(h, body)
	if !ok || x.Wait.Begin > x.Wait.End || x.Carried > x.Wait.End {
		return nil
	}
	d.routine = routineOf(x)
	d.out.Kind, d.out.PID, d.out.TID, d.out.Routine = raw.Scheduled, x.Wait.Key.Pid, x.Carrier, &d.routine
	return &d.out
}

// routineOf is what came of a goroutine as raw records have it.
func routineOf(x bpf.Routine) raw.Routine {
	return raw.Routine{Number: x.Goroutine, Carrier: x.Carrier, Carried: x.Carried, Left: x.Left, Wait: intervalOf(x.Wait), By: x.ByGoroutine}
}

// readInterval reads a wait, a system call or a span.
func (d *rawReader) readInterval(h bpf.Header, body []byte) *raw.Record {
	x, ok := bpf.DecodeInterval(h, body)
	if !ok || x.End < x.Begin {
		return nil
	}
	d.interval = intervalOf(x)
	d.out.Kind, d.out.PID, d.out.TID, d.out.Interval = raw.Passed, x.Key.Pid, x.Key.Tid, &d.interval
	return &d.out
}

// intervalOf is an interval as raw records have it.
func intervalOf(x bpf.TallyInterval) raw.Interval {
	out := raw.Interval{Class: classOf(x.Key), Begin: x.Begin, End: x.End, Result: int64(x.Result), Returned: x.Returned, Processor: x.Processor, HasWaker: x.HasWaker, Goroutine: x.Goroutine, File: x.File}
	if x.Woken != 0 {
		out.Woken = min(max(x.Woken, x.Begin), x.End)
	}
	if x.HasWaker {
		out.Waker = classOf(x.Waker)
	}
	return out
}

// splitChain parts a call chain: what is in the kernel is appended to kernel, what is in
// the program is returned.
func splitChain(chain, kernel []uint64) (inKernel, program []uint64) {
	within := false
	for i, ip := range chain {
		if ip >= contextMax {
			if within = ip == contextKernel; ip == contextUser {
				return kernel, chain[i+1:]
			}
			continue
		}
		if within {
			kernel = append(kernel, ip)
		}
	}
	return kernel, nil
}

// registerNumbers are the numbers in package unwind of the registers that come with a
// sample.
var registerNumbers = [...]int{
	unwind.RAX, unwind.RBX, unwind.RCX, unwind.RDX, unwind.RSI, unwind.RDI, unwind.RBP, unwind.RSP, unwind.PC,
	unwind.R8, unwind.R9, unwind.R10, unwind.R11, unwind.R12, unwind.R13, unwind.R14, unwind.R15,
}

// registersOf are a sample's registers as package unwind has them.
func registersOf(s *perf.Sample) (out unwind.Registers) {
	for i, v := range s.Registers {
		out.Set(registerNumbers[i], v)
	}
	return out
}
