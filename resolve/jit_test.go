package resolve

import (
	"encoding/binary"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"
	"unsafe"

	"entelon/core/profile"
	"entelon/linux/bpf"
	"entelon/linux/bpf/bpftest"
	"entelon/linux/perf"
	"entelon/runtimes/python"
)

// TestOpenMap takes no map that another user or an earlier process has left.
func TestOpenMap(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("files of other users need root")
	}
	cmd := exec.Command("sleep", "30")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }()
	pid := uint32(cmd.Process.Pid)
	path := filepath.Join("/tmp", "perf-"+strconv.Itoa(int(pid))+".map")
	defer os.Remove(path)
	try := func(want string) {
		t.Helper()
		f, err := openMap(pid, time.Now())
		if err == nil {
			f.Close()
		}
		if (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
	try("writes no map")
	if err := os.WriteFile(path, []byte("1000 10 x\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	try("")
	if err := os.Chtimes(path, time.Time{}, time.Now().Add(-time.Hour)); err != nil {
		t.Fatal(err)
	}
	try("earlier process")
	if err := os.Chtimes(path, time.Time{}, time.Now()); err != nil {
		t.Fatal(err)
	}
	if err := os.Chown(path, 65534, 65534); err != nil {
		t.Fatal(err)
	}
	try("another user")
}

// TestCodeOfTheNextProgram: a code object that was read before the record of
// the exec came in its turn belongs to the program that came after.
func TestCodeOfTheNextProgram(t *testing.T) {
	r := New(profile.NewBuilder(), &profile.Facts{}, nil)
	p := r.Processes.fresh(10)
	for i, at := range []uint64{100, 300} {
		body := bpftest.Body(10, 10, at, bpf.Header{Addr: uint64(i + 1), Kind: bpf.KindCode}, nil)
		r.LearnCode(perf.Record{PID: 10, Time: at, Body: body})
	}
	if len(p.codes.raw) != 2 {
		t.Fatalf("%d code objects are known", len(p.codes.raw))
	}
	r.Processes.comm(10, 10, "partbook", true, 200)
	if len(p.codes.raw) != 1 || p.codes.raw[python.Identity{Address: 2}].at != 300 {
		t.Errorf("after the exec, %v", p.codes.raw)
	}
}

const (
	labelNameBytes = len(bpf.GoLabel{}.Name)
	labelTextBytes = len(bpf.GoLabel{}.Text)
)

// labelsRecord encodes what the kernel program writes of labels: names and
// values in turn.
func labelsRecord(texts ...string) []byte {
	var b []byte
	for i := 0; i < len(texts); i += 2 {
		for k, most := range []int{labelNameBytes, labelTextBytes} {
			t := texts[i+k]
			if len(t) > most {
				t = t[:most]
			}
			field := make([]byte, 8+most)
			binary.NativeEndian.PutUint64(field, uint64(len(t)))
			copy(field[8:], t)
			b = append(b, field...)
		}
	}
	return b
}

// TestLabelsOf: labels become a set; long texts are cut between characters; what
// can be no set of labels is none.
func TestLabelsOf(t *testing.T) {
	long := strings.Repeat("é", 100)
	for _, x := range []struct {
		texts []string
		want  string
	}{
		{[]string{"page", "4", "voice", "viola da gamba"}, "page=4;voice=viola da gamba;"},
		{[]string{"page", ""}, "page=;"},
		{[]string{"a" + long, "b" + long}, "a" + strings.Repeat("é", (labelNameBytes-1)/2) + "=b" + strings.Repeat("é", (labelTextBytes-1)/2) + ";"},
		{[]string{"voice", "alto", "page", "4"}, ""}, // out of order
		{[]string{"", "4"}, ""},
		{[]string{"page", "\xff\xfe"}, ""},
		{[]string{"pa\x00ge", "4"}, ""},
		{nil, ""},
	} {
		b := profile.NewBuilder()
		set, whole := labelsOf(bpf.Header{Low: uint64(len(x.texts) / 2)}, labelsRecord(x.texts...), b)
		got := ""
		p := b.Profile()
		for ; set != 0; set = p.LabelSets.Parent[set] {
			got = p.Strings[p.LabelSets.Name[set]] + "=" + p.Strings[p.LabelSets.Value[set]] + ";" + got
		}
		if got != x.want || whole != (x.want != "" || x.texts == nil) {
			t.Errorf("%q: %q %v, want %q", x.texts, got, whole, x.want)
		}
	}
	// Records of any length are read to their end and no further.
	whole := labelsRecord("page", "4", "voice", "alto")
	for n := range whole {
		b := profile.NewBuilder()
		set, all := labelsOf(bpf.Header{Low: 2}, whole[:n], b)
		if set != 0 && n < int(unsafe.Sizeof(bpf.GoLabel{})) || all {
			t.Errorf("%d bytes have a label, or all: %v", n, all)
		}
	}
	binary.NativeEndian.PutUint64(whole, 1<<40)
	labelsOf(bpf.Header{Low: 2}, whole, profile.NewBuilder())
}
