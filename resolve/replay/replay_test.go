package replay

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/resolve"
	"entelon/resolve/raw"
)

// The recordings are of the programs of package truth, made by
//
//	go test ./capture -run TestRecordingPlaysTheSame -args -record ../resolve/replay/testdata
//
// Beside each stands what its samples were resolved to when it was made, which was read.
func recordings(tb testing.TB) []string {
	tb.Helper()
	paths, err := filepath.Glob("testdata/*.json.zst")
	if err != nil || len(paths) < 10 {
		tb.Fatalf("%d recordings: %v", len(paths), err)
	}
	return paths
}

func read(tb testing.TB, path string) *Recording {
	tb.Helper()
	r, err := Read(path)
	if err != nil {
		tb.Fatal(err)
	}
	return r
}

// TestRecordings: each runtime and each kind of stack is resolved to what it was.
func TestRecordings(t *testing.T) {
	for _, path := range recordings(t) {
		r := read(t, path)
		var facts profile.Facts
		p := r.Play(&facts, nil)
		want, err := os.ReadFile(strings.TrimSuffix(path, ".json.zst") + ".stacks")
		if err != nil {
			t.Fatal(err)
		}
		got := Stacks(p)
		if got == string(want) {
			continue
		}
		now, before := strings.Split(got, "\n"), strings.Split(string(want), "\n")
		for i := range now {
			if i >= len(before) || now[i] != before[i] {
				t.Errorf("%s, line %d: %s", path, i+1, now[i])
				break
			}
		}
	}
}

// TestWhatRecordingsShow: what is known of the programs without having run them.
func TestWhatRecordingsShow(t *testing.T) {
	for name, want := range map[string]string{
		"c":                "main:128; spaces:27; level:20; ink:15 ",
		"c-frame-pointers": "main:128; spaces:27; level:20; ink:15 ",
		"c-signals":        "handled:23; ink:13 ",
		"go":               "main.ink:28; math.Sqrt:94 (inlined) ",
		"go-cgo":           "crosscall2:43; runtime.cgocallback",
		"python":           "<module> partbook.py",
		"node":             "beam",
		"java":             "shop.Press.main",
	} {
		var facts profile.Facts
		if got := Stacks(read(t, filepath.Join("testdata", name+".json.zst")).Play(&facts, nil)); !strings.Contains(got, want) {
			t.Errorf("%s: nowhere is %q", name, want)
		}
	}
}

// TestNothingIsLeftOver: a sample is resolved to the same frames whatever was resolved
// before it.
func TestNothingIsLeftOver(t *testing.T) {
	for _, path := range recordings(t) {
		r := read(t, path)
		var facts profile.Facts
		text := func(f *resolve.Frames, p *profile.Profile) string {
			var out strings.Builder
			for _, id := range append(append([]profile.FrameID{}, f.Kernel...), f.Program...) {
				out.WriteString(p.FunctionName(p.Frames[id].Function) + " ")
			}
			return out.String()
		}
		var once []string
		r.Play(&facts, func(_ *raw.Record, f *resolve.Frames, p *profile.Profile) { once = append(once, text(f, p)) })
		// Again with every sample twice, and another one in between.
		twice := *r
		twice.Records = nil
		var first *Record
		for _, rec := range r.Records {
			if rec.Kind == raw.Sampled {
				if first == nil {
					first = &rec
				}
				twice.Records = append(twice.Records, rec, *first)
			}
			twice.Records = append(twice.Records, rec)
		}
		n, i := 0, 0
		twice.Play(&facts, func(_ *raw.Record, f *resolve.Frames, p *profile.Profile) {
			if n++; n%3 == 1 || n%3 == 0 {
				if got := text(f, p); got != once[i] {
					t.Errorf("%s, sample %d: %s, before %s", path, i, got, once[i])
				}
			}
			if n%3 == 0 {
				i++
			}
		})
	}
}

// TestHostileRecordings: a file that lies is no recording, or one that says less.
func TestHostileRecordings(t *testing.T) {
	dir := t.TempDir()
	for name, b := range map[string][]byte{"empty": nil, "text": []byte("{}"), "cut": {0x28, 0xb5, 0x2f, 0xfd, 0, 0}} {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, b, 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := Read(path); err == nil {
			t.Errorf("%s is a recording", name)
		}
	}
	r := &Recording{
		Columns: []measure.Column{{Name: "cpu", Unit: "ns"}},
		Modules: []*Module{{Mapping: raw.Mapping{Name: "/shop/x"}, Readable: true, Rules: bytes.Repeat([]byte{0xff}, 100)}},
		Records: []Record{
			{Record: raw.Record{Kind: raw.Mapped, PID: 1}},
			{Record: raw.Record{Kind: raw.Mapped, PID: 1, Mapping: &raw.Mapping{Start: ^uint64(0), End: 1, Name: "/shop/x"}}},
			{Record: raw.Record{Kind: raw.CodeRead, PID: 1}},
			{Record: raw.Record{Kind: raw.Sampled, PID: 1}},
			{Record: raw.Record{Kind: raw.Sampled, PID: 1, Sample: &raw.Sample{Copied: true, Known: true, Full: true, Labelled: 1 << 30, Python: []raw.Frames{{Entries: make([]byte, 81)}}}}},
			{Record: raw.Record{Kind: raw.Sampled, PID: 1, Sample: &raw.Sample{Chain: []uint64{0, ^uint64(0)}}}, Column: 7},
			{Record: raw.Record{Kind: 200, PID: 1}},
		},
	}
	var facts profile.Facts
	if err := r.Play(&facts, nil).Check(); err != nil {
		t.Error(err)
	}
}

// BenchmarkResolve is what one sample of each recording costs to be resolved.
func BenchmarkResolve(b *testing.B) {
	for _, path := range recordings(b) {
		b.Run(strings.TrimSuffix(filepath.Base(path), ".json.zst"), func(b *testing.B) {
			r := read(b, path)
			samples := 0
			for _, rec := range r.Records {
				if rec.Kind == raw.Sampled {
					samples++
				}
			}
			b.ReportAllocs()
			for b.Loop() {
				var facts profile.Facts
				r.Play(&facts, nil)
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N*samples), "ns/sample")
		})
	}
}
