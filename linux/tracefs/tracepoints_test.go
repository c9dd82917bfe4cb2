package tracefs_test

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"entelon/linux/tracefs"
)

func TestTracepointFields(t *testing.T) {
	f := tracefs.ParseFields("name: sched_waking\nformat:\n\tfield:unsigned short common_type;\toffset:0;\tsize:2;\tsigned:0;\n\n\tfield:char comm[16];\toffset:8;\tsize:16;\tsigned:0;\n\tfield:pid_t pid;\toffset:24;\tsize:4;\tsigned:1;\nprint fmt: \"x\"\n")
	if len(f) != 3 || f["pid"] != (tracefs.Field{Offset: 24, Size: 4}) || f["comm"] != (tracefs.Field{Offset: 8, Size: 16}) {
		t.Errorf("%v", f)
	}
	raw := make([]byte, 28)
	raw[24] = 42
	if v, ok := f["pid"].Number(raw); !ok || v != 42 {
		t.Errorf("%d, %v", v, ok)
	}
	for _, bad := range []tracefs.Field{{}, {Offset: 24, Size: 8}, {Offset: -1, Size: 4}, {Offset: 8, Size: 16}} {
		if v, ok := bad.Number(raw); ok {
			t.Errorf("%+v is %d", bad, v)
		}
	}
}

// TestTracepointsThatLeadElsewhere: a name becomes a path below the kernel's list,
// and nothing else is read, nor told of.
func TestTracepointsThatLeadElsewhere(t *testing.T) {
	dir := t.TempDir()
	if err := os.MkdirAll(filepath.Join(dir, "point"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "point", "id"), []byte("a secret"), 0o600); err != nil {
		t.Fatal(err)
	}
	tr, err := tracefs.Open()
	if err != nil {
		t.Skip(err)
	}
	defer tr.Close()
	for _, group := range []string{"../../../../../.." + dir, "..", "sched/..", "", "a b", "x\n"} {
		_, err := tr.Find(group, "point")
		if !errors.Is(err, tracefs.ErrTracepoint) || strings.Contains(err.Error(), "secret") {
			t.Errorf("%q: %v", group, err)
		}
	}
	if _, err := tr.Find("sched", "sched_process_fork"); err != nil {
		t.Error(err)
	}
}
