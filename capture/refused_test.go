package capture

import (
	"context"
	"errors"
	"os"
	"testing"
	"time"

	"github.com/cilium/ebpf/btf"

	"entelon/core/profile"
	"entelon/linux/bpf"
	"entelon/symbol"
	"entelon/symbol/cache"
)

// wrongTypes is a cache that says that this kernel has no structure that the programs read.
func wrongTypes(t *testing.T) *cache.Cache {
	t.Helper()
	c, err := cache.Open(t.TempDir(), 1<<20)
	if err != nil {
		t.Fatal(err)
	}
	b, err := btf.NewBuilder([]btf.Type{&btf.Int{Name: "int", Size: 4}}, nil)
	if err != nil {
		t.Fatal(err)
	}
	text, err := b.Marshal(nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	key, err := bpf.KernelTypesKey()
	if err != nil {
		t.Skip(err)
	}
	c.Keep(key, text)
	return c
}

// TestRefusedProgram: where the kernel refuses the program that reads other stacks, which is
// known only after events were opened for it, the take is made without it, and the reason is known.
func TestRefusedProgram(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root may load programs")
	}
	for name, set := range map[string]profile.Settings{
		"command": {Command: []string{"sh", "-c", "i=0; while [ $i -lt 300000 ]; do i=$((i+1)); done"}},
		"process": {PID: spinning(t), ForNS: int64(time.Second)},
	} {
		set.RateHz, set.Measures, set.Unwind = 997, []string{"cpu"}, UnwindTables
		x := newSession(Options{Settings: set, Finder: &symbol.Finder{Cache: wrongTypes(t)}}, discard{})
		res, err := x.collect(context.Background())
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		res.Wait()
		if res.Take.Facts.Samples < 50 {
			t.Errorf("%s: %d samples", name, res.Take.Facts.Samples)
		}
		if x.other != nil || x.otherErr == nil || errors.Is(x.otherErr, bpf.ErrNotRoot) {
			t.Errorf("%s: the program was not refused, %v", name, x.otherErr)
		}
		if res.Take.Settings.StackBytes != LoneStackBytes {
			t.Errorf("%s: %d bytes of stacks are copied", name, res.Take.Settings.StackBytes)
		}
	}
}
