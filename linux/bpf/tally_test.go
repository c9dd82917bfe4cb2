package bpf

import (
	"testing"

	"github.com/cilium/ebpf"
)

// TestTallyLoads: the kernel accepts all programs that count.
func TestTallyLoads(t *testing.T) {
	r := newReader(t)
	x, err := NewTally(r, TallyOptions{Calls: 2, Waits: 0, Intervals: true, Wakers: 5, Requests: 6, Descriptors: []DescriptorPlace{DescriptorFirst, DescriptorFirst, DescriptorMade, DescriptorGoes}, StackBytes: 6 << 10})
	if err != nil {
		t.Fatalf("%+v", err)
	}
	defer func() {
		if err := x.Close(); err != nil {
			t.Error(err)
		}
	}()
	for name, load := range map[string]func() (*ebpf.Program, error){
		"event":      func() (*ebpf.Program, error) { return x.Event(1) },
		"tracepoint": func() (*ebpf.Program, error) { return x.Tracepoint(3, 400) },
		"call":       func() (*ebpf.Program, error) { return x.Call(4, []int{5, 4}, true) },
	} {
		if _, err := load(); err != nil {
			t.Errorf("%s: %+v", name, err)
		}
	}
	if err := x.Watch(); err != nil {
		t.Errorf("%+v", err)
	}
}
