package sampler

import (
	"errors"
	"testing"

	"github.com/cilium/ebpf"
	"golang.org/x/sys/unix"
)

func TestStackReaderLoads(t *testing.T) {
	o, err := readKernelOffsets()
	if err != nil {
		t.Skip(err)
	}
	cpus, err := processors()
	if err != nil {
		t.Fatal(err)
	}
	r, err := newStackReader(cpus, o, DefaultStackBytes)
	var rejected *ebpf.VerifierError
	if err != nil && !errors.As(err, &rejected) && (errors.Is(err, unix.EPERM) || errors.Is(err, unix.EACCES)) {
		t.Skip(err)
	}
	if err != nil {
		t.Fatalf("%+v", err)
	}
	if err := r.python.load(); err != nil {
		t.Fatalf("%+v", err)
	}
	if err := r.close(); err != nil {
		t.Fatal(err)
	}
}
