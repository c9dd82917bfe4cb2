package nameless

import (
	"io"
	"os"
	"testing"
)

// TestFile: what is written can be read again, and there is no name of it, not even while it is open.
func TestFile(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("TMPDIR", dir)
	for how, open := range map[string]func() (*os.File, error){"at once": File, "taken away": unnamed} {
		f, err := open()
		if err != nil {
			t.Fatal(err)
		}
		if _, err := f.WriteString("plates"); err != nil {
			t.Fatal(err)
		}
		if left, err := os.ReadDir(dir); err != nil || len(left) != 0 {
			t.Errorf("%s: %v, %v", how, err, left)
		}
		if _, err := f.Seek(0, io.SeekStart); err != nil {
			t.Fatal(err)
		}
		if b, err := io.ReadAll(f); err != nil || string(b) != "plates" {
			t.Errorf("%s: %v, %q", how, err, b)
		}
		if err := f.Close(); err != nil {
			t.Error(err)
		}
	}
	t.Setenv("TMPDIR", dir+"/nothing")
	if f, err := File(); err == nil {
		t.Errorf("in no folder there is %s", f.Name())
	}
}
