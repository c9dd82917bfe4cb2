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
	if len(f) != 3 || f["pid"] != (tracefs.Field{Offset: 24, Size: 4, Signed: true}) || f["comm"] != (tracefs.Field{Offset: 8, Size: 16, Text: true}) {
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

// TestFieldsAreRead: numbers with their sign, texts within the record and behind its fields; a record
// that lies about where its texts are gives none of what is around it.
func TestFieldsAreRead(t *testing.T) {
	f := tracefs.ParseFields("\tfield:__data_loc char[] filename;\toffset:8;\tsize:4;\tsigned:0;\n\tfield:pid_t pid;\toffset:12;\tsize:4;\tsigned:1;\n\tfield:const void * at;\toffset:16;\tsize:8;\tsigned:0;\n\tfield:char comm[8];\toffset:24;\tsize:8;\tsigned:0;\n\tfield:unsigned long many[2];\toffset:32;\tsize:16;\tsigned:0;\n")
	point := tracefs.Tracepoint{Fields: f}
	if point.Length() != 48+tracefs.RoomForTexts || !f["at"].Pointer || !f["many"].Array || !f["filename"].Elsewhere {
		t.Errorf("%d, %+v", point.Length(), f)
	}
	var names []string
	for _, x := range point.Ordered() {
		names = append(names, x.Name)
	}
	if got := strings.Join(names, " "); got != "filename pid at comm many" {
		t.Error(got)
	}
	raw := make([]byte, 60)
	copy(raw[8:], []byte{48, 0, 7, 0, 0xfe, 0xff, 0xff, 0xff})
	copy(raw[24:], "engraver") // without an end of its own
	copy(raw[48:], "proof\x00")
	if v, ok := f["pid"].Value(raw); !ok || v != -2 {
		t.Errorf("%d, %v", v, ok)
	}
	for name, want := range map[string]string{"comm": "engraver", "filename": "proof"} {
		if got, ok := f[name].String(raw); !ok || got != want {
			t.Errorf("%s is %q, %v", name, got, ok)
		}
	}
	for _, lie := range [][]byte{{0xff, 0xff, 0xff, 0xff}, {61, 0, 4, 0}, {58, 0, 0xff, 0xff}} {
		copy(raw[8:], lie)
		if got, _ := f["filename"].String(raw); len(got) > 2 {
			t.Errorf("%v is %q", lie, got)
		}
	}
	if _, ok := f["pid"].String(raw); ok {
		t.Error("a number is a text")
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
