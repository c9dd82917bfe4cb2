package bpf

import (
	"errors"
	"testing"

	"github.com/cilium/ebpf"
	"golang.org/x/sys/unix"

	"entelon/linux/perf"
)

func TestStackReaderLoads(t *testing.T) {
	o, err := readKernelOffsets()
	if err != nil {
		t.Skip(err)
	}
	cpus, err := perf.Processors()
	if err != nil {
		t.Fatal(err)
	}
	r, err := NewStackReader(cpus, o, 4<<10)
	var rejected *ebpf.VerifierError
	if err != nil && !errors.As(err, &rejected) && (errors.Is(err, unix.EPERM) || errors.Is(err, unix.EACCES)) {
		t.Skip(err)
	}
	if err != nil {
		t.Fatalf("%+v", err)
	}
	if err := r.Python.load(); err != nil {
		t.Fatalf("%+v", err)
	}
	if err := r.Close(); err != nil {
		t.Fatal(err)
	}
}
