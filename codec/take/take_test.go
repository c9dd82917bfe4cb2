package take_test

import (
	"bytes"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"entelon/codec/take"
	"entelon/core/invent"
	"entelon/core/measure"
	"entelon/core/profile"
)

func written(t testing.TB, tk *profile.Take) []byte {
	t.Helper()
	var b bytes.Buffer
	if err := take.Write(&b, tk); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func read(b []byte) (*profile.Take, error) {
	return take.Read(bytes.NewReader(b), "x.take", take.Options{})
}

func TestRoundTrip(t *testing.T) {
	withSource := invent.Take(3, invent.Small)
	withSource.Sources = []profile.Source{{Path: "/srv/beam.go", Text: "package beam\n"}, {Path: "a.c", Text: ""}}
	var b bytes.Buffer
	if err := take.Write(&b, withSource); err != nil {
		t.Fatal(err)
	}
	if got, err := take.Read(&b, "x", take.Options{}); err != nil || !reflect.DeepEqual(got.Sources, withSource.Sources) {
		t.Errorf("source files came back as %+v, %v", got, err)
	}
	for seed := range uint64(10) {
		want := invent.Take(seed, invent.Small)
		got, err := read(written(t, want))
		if err != nil {
			t.Fatal(err)
		}
		got.Settings.Env = nil
		if !reflect.DeepEqual(got, want) {
			t.Fatalf("seed %d: what was read differs from what was written", seed)
		}
	}
}

// TestPieces writes a profile while it grows, as the sampler does.
func TestPieces(t *testing.T) {
	b := profile.NewBuilder()
	b.Measure("cpu", "ns", measure.Sum)
	r := rand.New(rand.NewPCG(1, 1))
	var out bytes.Buffer
	w, err := take.NewWriter(&out, profile.Settings{Program: "engraved"}, profile.Machine{})
	if err != nil {
		t.Fatal(err)
	}
	proc := b.Process(7)
	for piece := range 20 {
		b.NameProcess(proc, strings.Repeat("x", piece+1)) // its name changes all the time
		for range r.IntN(50) {
			th := b.Thread(proc, uint32(r.IntN(9)))
			f := b.Frame(profile.Frame{Function: b.Function(profile.Function{Name: b.Intern("f" + string(rune('a'+r.IntN(26))))})})
			b.Sample(int64(piece)*1e9+r.Int64N(1e6)*1000, th, b.Push(profile.StackID(r.IntN(b.Profile().Stacks.Len())), f), 5)
		}
		if err := w.Append(b.Profile()); err != nil {
			t.Fatal(err)
		}
		if err := w.Facts(profile.Facts{Samples: int64(b.Profile().Samples.Len())}); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	got, err := read(out.Bytes())
	if err != nil {
		t.Fatal(err)
	}
	if !reflect.DeepEqual(got.Profile, b.Profile()) {
		t.Error("the pieces together differ from the whole")
	}
}

func reason(err error) (take.Reason, bool) {
	var e *take.Error
	if errors.As(err, &e) {
		return e.Reason, true
	}
	return 0, false
}

// TestCutAnywhere cuts a take at every byte. Between two blocks it is readable
// as far as it goes; anywhere else it is refused, and can be salvaged.
func TestCutAnywhere(t *testing.T) {
	whole := written(t, invent.Take(1, invent.Shape{Functions: 5, Threads: 2, Stacks: 20, Samples: 60, Depth: 5}))
	readable, salvaged := 0, 0
	for n := range len(whole) {
		got, err := read(whole[:n])
		if err == nil {
			readable++
			if got.Whole || len(got.Facts.Warnings) == 0 || got.Facts.Warnings[len(got.Facts.Warnings)-1].Code != "unfinished" {
				t.Fatalf("cut at %d: nothing says that the take is not whole", n)
			}
			continue
		}
		r, ok := reason(err)
		if !ok || (r != take.CutOff && r != take.Empty && r != take.NoSamples) {
			t.Fatalf("cut at %d: %v", n, err)
		}
		if strings.Contains(err.Error(), "\n") || !strings.Contains(err.Error(), "x.take") {
			t.Fatalf("cut at %d: the error is not one line that names the file: %v", n, err)
		}
		if _, err := take.Read(bytes.NewReader(whole[:n]), "x.take", take.Options{Salvage: true}); err == nil {
			salvaged++
		}
	}
	if readable < 2 || salvaged == 0 {
		t.Errorf("%d cuts were readable and %d could be salvaged", readable, salvaged)
	}
}

// TestHarmAnywhere changes every byte in turn: each must be noticed.
func TestHarmAnywhere(t *testing.T) {
	whole := written(t, invent.Take(1, invent.Shape{Functions: 5, Threads: 2, Stacks: 20, Samples: 60, Depth: 5}))
	for i := range whole {
		b := bytes.Clone(whole)
		b[i] ^= 0x41
		_, err := read(b)
		if _, ok := reason(err); !ok {
			t.Fatalf("byte %d was changed and nobody noticed: %v", i, err)
		}
	}
	if _, err := read(append(bytes.Clone(whole), 0)); err == nil {
		t.Error("a byte after the end was not noticed")
	}
}

func TestNotATake(t *testing.T) {
	for text, want := range map[string]take.Reason{"": take.Empty, "hello, world, this is text": take.NotATake, "ENT": take.CutOff, "xyz": take.NotATake} {
		_, err := read([]byte(text))
		if got, ok := reason(err); !ok || got != want {
			t.Errorf("%q: %v", text, err)
		}
	}
	if _, err := take.ReadFile(filepath.Join(t.TempDir(), "none.take"), take.Options{}); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("a file that is not there: %v", err)
	}
}

func TestNewerFormatIsRefusedByName(t *testing.T) {
	b := written(t, invent.Take(1, invent.Small))
	copy(b[8:], take.HeaderForTest(99))
	_, err := read(b)
	if r, _ := reason(err); r != take.Newer || !strings.Contains(err.Error(), "format 99") {
		t.Errorf("a take in a newer format: %v", err)
	}
}

// TestFoldedTake: samples that were added up and have no times stay without them.
func TestFoldedTake(t *testing.T) {
	tk := invent.Take(6, invent.Small)
	tk.Profile.Samples.Time = nil
	b := written(t, tk)
	got, err := take.Read(bytes.NewReader(b), "folded.take", take.Options{})
	if err != nil {
		t.Fatal(err)
	}
	p := got.Profile
	if !p.Folded() || p.Samples.Len() != tk.Profile.Samples.Len() || p.Total(0) != tk.Profile.Total(0) {
		t.Errorf("%d samples, %d in all, times: %v", p.Samples.Len(), p.Total(0), p.Samples.Time != nil)
	}
	if _, _, err := p.OverTime(0, 1e9, 10); !errors.Is(err, profile.ErrFolded) {
		t.Errorf("over time: %v", err)
	}
	if o := p.Outline(); o.FirstNS != 0 || o.LastNS != 0 || o.Measures[0].Total != p.Total(0) {
		t.Errorf("%+v", o)
	}
}

// TestTimesOfSamples: what a time is of a sample is kept, and the table says it of
// takes before that.
func TestTimesOfSamples(t *testing.T) {
	tk := invent.Take(6, invent.Small)
	tk.Profile.Measures[0].Time, tk.Profile.Measures[1].Time = measure.Beginning, measure.End
	got, err := take.Read(bytes.NewReader(written(t, tk)), "x.take", take.Options{})
	if err != nil || got.Profile.Measures[0].Time != measure.Beginning || got.Profile.Measures[1].Time != measure.End {
		t.Errorf("%+v, %v", got.Profile.Measures, err)
	}
	for version, want := range map[int][]measure.TimeIs{1: {measure.End}, 4: {measure.End, measure.Beginning, measure.Beginning, measure.Beginning, measure.Moment, measure.Moment}} {
		got, err := take.ReadFile(fmt.Sprintf("testdata/format%d.take", version), take.Options{})
		if err != nil {
			t.Fatal(err)
		}
		var times []measure.TimeIs
		for _, m := range got.Profile.Measures {
			times = append(times, m.Time)
		}
		if !slices.Equal(times, want) {
			t.Errorf("format %d: %v", version, times)
		}
	}
}

func TestLimits(t *testing.T) {
	b := written(t, invent.Take(1, invent.Small))
	_, err := take.Read(bytes.NewReader(b), "x.take", take.Options{Limits: take.Limits{Block: 1 << 20, Unpacked: 100}})
	if r, _ := reason(err); r != take.TooLarge {
		t.Errorf("a take beyond the limit: %v", err)
	}
}

// TestFormat1StaysReadable reads a take that was written in the first format:
// its flags mean what they meant, and how frames were found is not stated.
func TestFormat1StaysReadable(t *testing.T) {
	b, err := os.ReadFile("testdata/format1.take")
	if err != nil {
		t.Fatal(err)
	}
	if b[8] != take.Version1 {
		t.Fatalf("the file is in format %d", b[8])
	}
	got, err := take.ReadFile("testdata/format1.take", take.Options{})
	if err != nil {
		t.Fatal(err)
	}
	p := got.Profile
	inlined := 0
	for _, f := range p.Frames {
		if f.Found != profile.FoundUnstated {
			t.Fatalf("a frame was found by %v", f.Found)
		}
		if f.Inlined {
			inlined++
		}
	}
	if int64(p.Samples.Len()) != got.Facts.Samples || got.Settings.Program != "engraved" || got.Settings.Unwind != "frame pointers" || inlined == 0 || inlined == len(p.Frames) {
		t.Errorf("%d samples of %s by %s, %d of %d frames inlined", p.Samples.Len(), got.Settings.Program, got.Settings.Unwind, inlined, len(p.Frames))
	}
}

// TestAFrameFoundInNoKnownWay: a way that this reader does not know is damage.
func TestAFrameFoundInNoKnownWay(t *testing.T) {
	p := invent.Profile(1, invent.Small)
	p.Frames[1].Found = 60
	tables, samples := take.BlocksForTest(p)
	if _, err := take.ReadBlocksForTest(tables, samples); err == nil {
		t.Error("it was read")
	}
}

func TestDemoTakesAreReadable(t *testing.T) {
	files, err := filepath.Glob("../../demo/takes/*.take")
	if err != nil || len(files) == 0 {
		t.Fatal("the demo's takes are missing")
	}
	for _, f := range files {
		got, err := take.ReadFile(f, take.Options{})
		if err != nil {
			t.Fatal(err)
		}
		st, err := os.Stat(f)
		if err != nil {
			t.Fatal(err)
		}
		n := got.Profile.Samples.Len()
		// Of a short take of a large runtime most is the names.
		intervals := got.Profile.Intervals.Len()
		if names := 60 * len(got.Profile.Functions); st.Size() > int64(12*n+12*intervals+names) {
			t.Errorf("%s has %d bytes for %d samples and %d intervals of %d functions", f, st.Size(), n, intervals, len(got.Profile.Functions))
		}
		if int64(n) != got.Facts.Samples {
			t.Errorf("%s: %d samples, its facts say %d", f, n, got.Facts.Samples)
		}
	}
}

// TestBytesPerSample holds the format to its size: what a long take adds for
// each sample, tables not counted. Its stacks are as often as in a real take,
// in random order, and its times jitter.
func TestBytesPerSample(t *testing.T) {
	real, err := take.ReadFile("../../demo/takes/engraved-3.5.0-1.take", take.Options{})
	if err != nil {
		t.Fatal(err)
	}
	p := real.Profile
	stacks := p.Samples.Stack
	r := rand.New(rand.NewPCG(1, 1))
	samples := 10 * len(stacks)
	p.Samples = profile.Samples{Values: [][]int64{nil}}
	empty := len(written(t, real))
	for i := range samples {
		p.Samples.Time = append(p.Samples.Time, int64(i)*500_000+r.Int64N(100_000))
		p.Samples.Thread = append(p.Samples.Thread, profile.ThreadID(r.IntN(len(p.Threads))))
		p.Samples.Stack = append(p.Samples.Stack, stacks[r.IntN(len(stacks))])
		p.Samples.Values[0] = append(p.Samples.Values[0], 1_003_009)
	}
	per := float64(len(written(t, real))-empty) / float64(samples)
	t.Logf("%.2f bytes a sample", per)
	if per > 4 {
		t.Errorf("%.2f bytes a sample, at most 4 are wanted", per)
	}
}

func FuzzRead(f *testing.F) {
	f.Add(written(f, invent.Take(1, invent.Shape{Functions: 3, Threads: 1, Stacks: 5, Samples: 9, Depth: 3})))
	f.Add([]byte("ENTTAKE\x1a"))
	f.Add([]byte{})
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, salvage := range []bool{false, true} {
			o := take.Options{Limits: take.Limits{Block: 1 << 20, Unpacked: 4 << 20}, Salvage: salvage}
			got, err := take.Read(bytes.NewReader(b), "fuzz", o)
			if err != nil {
				if _, ok := reason(err); !ok {
					t.Fatalf("an error without a reason: %v", err)
				}
				continue
			}
			if err := got.Profile.Check(); err != nil {
				t.Fatalf("a take was accepted that breaks the rules: %v", err)
			}
		}
	})
}

// FuzzBlocks gets past the checksums: it harms what is inside the blocks.
func FuzzBlocks(f *testing.F) {
	tables, samples := take.BlocksForTest(invent.Profile(1, invent.Shape{Functions: 3, Threads: 1, Stacks: 5, Samples: 9, Depth: 3}))
	f.Add(tables, samples)
	f.Fuzz(func(t *testing.T, tables, samples []byte) {
		p, err := take.ReadBlocksForTest(tables, samples)
		if err != nil {
			return
		}
		if p.Check() == nil {
			p.Span()
		}
	})
}

func BenchmarkRead(b *testing.B) {
	data := written(b, invent.Take(1, invent.Shape{Functions: 2000, Threads: 4, Stacks: 60_000, Samples: 1_000_000, Depth: 40}))
	for b.Loop() {
		if _, err := read(data); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(1e6*float64(b.N)/b.Elapsed().Seconds()/1e6, "Msamples/s")
}
