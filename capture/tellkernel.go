package capture

import (
	"unsafe"

	"entelon/linux/bpf"
	"entelon/runtimes/python"
	"entelon/symbol"
)

// What the programs in the kernel copy is read by the packages of the runtimes, which
// know nothing of the kernel: sizes have to be the same on both sides.
var (
	_ [python.EntryBytes]byte = [unsafe.Sizeof(bpf.PythonEntry{})]byte{}
	_ [python.MaxFrame]byte   = [bpf.PythonFrameBytes]byte{}
	_ [python.NameBytes]byte  = [bpf.PythonNameBytes]byte{}
	_ [python.FileBytes]byte  = [bpf.PythonFileBytes]byte{}
	_ [python.TableBytes]byte = [bpf.PythonTableBytes]byte{}
)

// teller tells the programs in the kernel what they need to know of a process.
type teller struct{ reader *bpf.StackReader }

// golang has them read the stacks of a process of the Go runtime.
func (t teller) golang(pid uint32, g symbol.GoRuntime) error {
	return t.reader.Tell(pid, bpf.GoPlaces{
		Tls: int64(g.TLS), M: uint64(g.M), Current: uint64(g.Current), Sched: uint64(g.Sched), Cgo: asNumber(g.Cgo),
		Labels: uint64(g.Labels), ClockPc: uint64(g.ClockPC), ClockSp: uint64(g.ClockSP),
	})
}

// python has them read the frames of a process of CPython, see
// resolve.Processes.TellPython.
func (t teller) python(pid uint32, l *python.Layout, first uint64, relative bool) error {
	return t.reader.Python.Tell(pid, bpf.PythonPlaces{
		First: first, Relative: asNumber(relative),
		NextInterpreter: l.NextInterp, Threads: l.Threads, NextThread: l.NextThread, ThreadId: l.ThreadID,
		Current: l.Current, HasCframe: asNumber(l.CFrame), InCframe: l.InCFrame, Marked: asNumber(l.Frame.Marked),
		FrameSize: min(l.Frame.Size, python.MaxFrame), Code: l.Frame.Code, CodeMask: l.Frame.CodeMask,
		Previous: l.Frame.Previous, Instruction: l.Frame.Instr, Flags: l.Frame.Flags, EntryShift: 8 * l.Frame.Entry,
		Filename: l.Code.Filename, FirstLine: l.Code.FirstLine, LineTable: l.Code.LineTable, TableLength: l.BytesSize, Qualname: l.Code.Qualname,
	})
}

// asNumber is how the programs are told of what is so or not.
func asNumber(is bool) uint64 {
	if is {
		return 1
	}
	return 0
}
