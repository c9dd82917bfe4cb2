package staticprobes

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"entelon/symbol/elfimage"
)

// made is a program of the C file, as a file.
func made(t *testing.T, source string, flags ...string) []byte {
	t.Helper()
	path := filepath.Join(t.TempDir(), "x")
	if b, err := exec.Command("cc", append(flags, "-O1", source, "-o", path)...).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, b)
	}
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func image(t *testing.T, b []byte) *elfimage.Image {
	t.Helper()
	im, err := elfimage.NewImage(b, "x")
	if err != nil {
		t.Fatal(err)
	}
	return im
}

// TestStaticProbes: what a file says of its probes is read, stripped or not; what cannot be is left out,
// and counted.
func TestStaticProbes(t *testing.T) {
	for name, flags := range map[string][]string{"position-independent": {"-pie", "-fPIE"}, "fixed": {"-no-pie"}, "stripped": {"-s"}} {
		b := made(t, "testdata/notes.c", flags...)
		got, wrong, err := Of(image(t, b))
		if err != nil || len(got) != 2 || wrong != 8 {
			t.Errorf("%s: %v, %d probes, %d wrong: %+v", name, err, len(got), wrong, got)
			continue
		}
		start, done := got[0], got[1]
		if start.Provider != "shop" || start.Name != "plate__start" || start.Wanted != 0 || done.Name != "plate__done" || done.Wanted == 0 || start.Offset != done.Offset {
			t.Errorf("%s: %+v", name, got)
		}
		if b[start.Offset] != 0x90 {
			t.Errorf("%s: at the probe stands %x", name, b[start.Offset])
		}
	}
	if got, wrong, err := Of(image(t, made(t, "../testdata/ends.c"))); err != nil || len(got) != 0 || wrong != 0 {
		t.Errorf("of a file without any: %v, %d, %d", err, len(got), wrong)
	}
}

// TestDamagedNotes: notes that are longer than their section are damaged, wherever that begins, and no
// byte that is wrong ends us.
func TestDamagedNotes(t *testing.T) {
	whole := made(t, "testdata/notes.c", "-s")
	section := image(t, whole).ELF.Section(".note.probes")
	damaged := 0
	for at := section.Offset; at < section.Offset+section.FileSize; at++ {
		b := append([]byte(nil), whole...)
		b[at] = 0xff
		got, wrong, err := Of(image(t, b))
		if err != nil && !errors.Is(err, ErrDamaged) {
			t.Errorf("byte %d: %v", at, err)
		}
		if err != nil {
			damaged++
		} else if len(got)+wrong > 10 || len(got) > 2 {
			t.Errorf("byte %d: %d probes, %d wrong", at, len(got), wrong)
		}
	}
	if damaged < 10 {
		t.Errorf("%d changes are noticed", damaged)
	}
}
