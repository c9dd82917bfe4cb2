package bpf

import (
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"os"

	"github.com/cilium/ebpf/btf"

	"entelon/linux/perf"
	"entelon/symbol"
)

// KernelOffsets are the places in the kernel's structures that the program reads.
type KernelOffsets struct {
	SignalStack     int32 // task_struct.sas_ss_sp
	SignalStackSize int32 // task_struct.sas_ss_size
	ThreadPointer   int32 // task_struct.thread.fsbase
	StackPointer    int32 // pt_regs.sp
	Memory          int32 // task_struct.mm
	StackStart      int32 // mm_struct.start_stack
	CodeStart       int32 // mm_struct.start_code
	Parent          int32 // task_struct.real_parent
	ThreadGroup     int32 // task_struct.tgid
	SignalFrame     int32 // bytes that a signal frame takes at most
}

// readKernelOffsets finds the places in the kernel's own description of its types.
func readKernelOffsets() (o KernelOffsets, err error) {
	spec, err := btf.LoadKernelSpec()
	if err != nil {
		return o, fmt.Errorf("reading the kernel's types: %w", err)
	}
	var task, regs, memory *btf.Struct
	if err := errors.Join(spec.TypeByName("task_struct", &task), spec.TypeByName("pt_regs", &regs), spec.TypeByName("mm_struct", &memory)); err != nil {
		return o, fmt.Errorf("reading the kernel's types: %w", err)
	}
	for _, f := range []struct {
		to   *int32
		in   *btf.Struct
		path []string
	}{
		{&o.SignalStack, task, []string{"sas_ss_sp"}},
		{&o.SignalStackSize, task, []string{"sas_ss_size"}},
		{&o.ThreadPointer, task, []string{"thread", "fsbase"}},
		{&o.StackPointer, regs, []string{"sp"}},
		{&o.Memory, task, []string{"mm"}},
		{&o.StackStart, memory, []string{"start_stack"}},
		{&o.CodeStart, memory, []string{"start_code"}},
		{&o.Parent, task, []string{"real_parent"}},
		{&o.ThreadGroup, task, []string{"tgid"}},
	} {
		if *f.to, err = offsetOf(f.in, f.path); err != nil {
			return o, err
		}
	}
	o.SignalFrame, err = signalFrameBytes()
	return o, err
}

// signalFrameBytes asks the kernel how much a signal frame takes at most
// (AT_MINSIGSTKSZ of the auxiliary vector, since Linux 5.14).
func signalFrameBytes() (int32, error) {
	const minSignalStack = 51
	b, err := os.ReadFile("/proc/self/auxv")
	if err != nil {
		return 0, fmt.Errorf("asking for the size of signal frames: %w", err)
	}
	for ; len(b) >= 16; b = b[16:] {
		if v := perf.Word(b[8:]); perf.Word(b) == minSignalStack && v < 1<<20 {
			return int32(v), nil
		}
	}
	return 0, errors.New("the kernel does not tell the size of signal frames")
}

func offsetOf(in *btf.Struct, path []string) (int32, error) {
	for _, m := range in.Members {
		if inner, ok := btf.UnderlyingType(m.Type).(*btf.Struct); ok && m.Name == "" {
			if at, err := offsetOf(inner, path); err == nil { // a part without a name
				return at + int32(m.Offset.Bytes()), nil
			}
		}
		if m.Name != path[0] {
			continue
		}
		if len(path) == 1 {
			return int32(m.Offset.Bytes()), nil
		}
		if inner, ok := btf.UnderlyingType(m.Type).(*btf.Struct); ok {
			at, err := offsetOf(inner, path[1:])
			return at + int32(m.Offset.Bytes()), err
		}
	}
	return 0, fmt.Errorf("reading the kernel's types: %s has no %s", in.Name, path[0])
}

// KernelPlaces returns the places in the kernel's structures. Reading them
// takes some 40 ms, so they are kept with the symbols, by the kernel's own
// build ID, which /sys/kernel/notes holds.
func KernelPlaces(f *symbol.Finder) (o KernelOffsets, err error) {
	notes, err := os.ReadFile("/sys/kernel/notes")
	if err != nil || f == nil || f.Cache == nil {
		return readKernelOffsets()
	}
	key := fmt.Sprintf("places-2-%x", sha256.Sum256(notes))
	if b, ok := f.Cache.Get(key); ok && json.Unmarshal(b, &o) == nil && o.SignalFrame > 0 {
		return o, nil
	}
	if o, err = readKernelOffsets(); err != nil {
		return o, err
	}
	b, err := json.Marshal(o)
	if err == nil {
		f.Cache.Keep(key, b)
	}
	return o, err
}
