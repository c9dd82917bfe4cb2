package bpf

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"github.com/cilium/ebpf"
	"github.com/cilium/ebpf/btf"
)

// TestObjectsAreCurrent makes the objects and the types anew and finds them as they
// are committed.
func TestObjectsAreCurrent(t *testing.T) {
	source, err := os.ReadFile("generate.go")
	if err != nil {
		t.Fatal(err)
	}
	out, made := t.TempDir(), 0
	for line := range strings.Lines(string(source)) {
		words := strings.Fields(line)
		if len(words) == 0 || words[0] != "//go:generate" {
			continue
		}
		// In a folder of its own: go generate would overwrite what is looked at.
		args := append([]string{"run", words[3], "-output-dir", out, "-go-package", "bpf"}, words[4:]...)
		if b, err := exec.Command("go", args...).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, b)
		}
	}
	files, err := filepath.Glob("*_bpfel.*")
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range files {
		committed, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		anew, err := os.ReadFile(filepath.Join(out, f))
		if err != nil {
			t.Fatal(err)
		}
		if !bytes.Equal(committed, anew) {
			t.Errorf("%s is not what programs/ makes: run make generate", f)
		}
		made++
	}
	if made != 10 {
		t.Errorf("%d files were looked at", made)
	}
}

// TestSharedTypes: what C and Go share has the same size and the same offsets on both
// sides.
func TestSharedTypes(t *testing.T) {
	for _, x := range []struct {
		load func() (*ebpf.CollectionSpec, error)
		name string
		of   any
	}{
		{loadStacks, "record_header", Header{}},
		{loadStacks, "go_label", GoLabel{}},
		{loadStacks, "go_places", GoPlaces{}},
		{loadFrames, "python_places", PythonPlaces{}},
		{loadFrames, "python_entry", PythonEntry{}},
		{loadFrames, "python_code", PythonCode{}},
		{loadTally, "tally_key", TallyKey{}},
		{loadTally, "tally", TallySum{}},
		{loadTally, "tally_open", TallyOpen{}},
		{loadTally, "tally_control", TallyControl{}},
		{loadTally, "routine_key", tallyRoutineKey{}},
		{loadTally, "routine", tallyRoutine{}},
		{loadTally, "routine_record", tallyRoutineRecord{}},
		{loadTally, "span_key", tallySpanKey{}},
		{loadTally, "span_open", tallySpanOpen{}},
		{loadCount, "call_key", CallKey{}},
		{loadCount, "count_control", CountControl{}},
	} {
		spec, err := x.load()
		if err != nil {
			t.Fatal(err)
		}
		var c *btf.Struct
		if err := spec.Types.TypeByName(x.name, &c); err != nil {
			t.Fatal(err)
		}
		g := reflect.TypeOf(x.of)
		if uintptr(c.Size) != g.Size() {
			t.Errorf("%s has %d bytes in C and %d in Go", x.name, c.Size, g.Size())
		}
		fields := reflect.VisibleFields(g)[1:] // the first says that it is laid out as in C
		if len(fields) < len(c.Members) {
			t.Fatalf("%s has %d fields in C and %d in Go", x.name, len(c.Members), len(fields))
		}
		for i, m := range c.Members {
			f := g.Field(i + 1)
			if uintptr(m.Offset.Bytes()) != f.Offset || strings.ReplaceAll(m.Name, "_", "") != strings.ToLower(f.Name) {
				t.Errorf("%s: %s is at %d in C, %s at %d in Go", x.name, m.Name, m.Offset.Bytes(), f.Name, f.Offset)
			}
		}
	}
}

// TestKernelTypes: what is kept of the kernel's types is found again, and says what
// the kernel's own description says; what is damaged is made anew.
func TestKernelTypes(t *testing.T) {
	kept := keeper{}
	first, err := KernelTypes(kept)
	if err != nil {
		t.Skip(err)
	}
	if len(kept) != 1 {
		t.Fatalf("%d are kept", len(kept))
	}
	again, err := KernelTypes(kept)
	if err != nil {
		t.Fatal(err)
	}
	all, err := btf.LoadKernelSpec()
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range kernelFields {
		var whole, small, other *btf.Struct
		for spec, to := range map[*btf.Spec]**btf.Struct{all: &whole, first: &small, again: &other} {
			if err := spec.TypeByName(s.structure, to); err != nil {
				t.Fatal(err)
			}
		}
		for i, name := range s.fields {
			at, _, ok := fieldOf(whole, name)
			if m := small.Members[i]; !ok || m.Name != name || m.Offset != at || other.Members[i].Offset != at {
				t.Errorf("%s.%s is at %d, kept at %d, read at %d", s.structure, name, at, m.Offset, other.Members[i].Offset)
			}
		}
	}
	for k := range kept {
		kept[k] = []byte("no description of types")
	}
	if _, err := KernelTypes(kept); err != nil {
		t.Error(err)
	}
}

type keeper map[string][]byte

func (k keeper) Get(name string) ([]byte, bool) { b, ok := k[name]; return b, ok }
func (k keeper) Keep(name string, b []byte)     { k[name] = b }
