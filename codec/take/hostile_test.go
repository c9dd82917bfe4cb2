package take_test

import (
	"bytes"
	"runtime"
	"strings"
	"testing"

	"entelon/codec/take"
	"entelon/core/invent"
	"entelon/core/measure"
	"entelon/core/profile"
)

// many is a take of very many alike samples in a small file.
func many(t *testing.T, samples int) []byte {
	t.Helper()
	b := profile.NewBuilder()
	b.Measure("cpu", "ns", measure.Sum)
	p := b.Process(1)
	th := b.Thread(p, 1)
	m := b.Module(profile.Module{Path: b.Intern("/srv/engraved"), Kind: profile.KindOwn})
	f := b.Function(profile.Function{Name: b.Intern("main"), Module: m, Kind: profile.KindOwn})
	s := b.Push(0, b.Frame(profile.Frame{Function: f}))
	for i := range samples {
		b.Sample(int64(i)*1000, th, s, 1)
	}
	return written(t, &profile.Take{Profile: b.Profile()})
}

// deep is a take with one stack of so many frames.
func deep(t *testing.T, frames int) []byte {
	t.Helper()
	b := profile.NewBuilder()
	b.Measure("cpu", "ns", measure.Sum)
	p := b.Process(1)
	th := b.Thread(p, 1)
	m := b.Module(profile.Module{Path: b.Intern("/srv/engraved"), Kind: profile.KindOwn})
	f := b.Function(profile.Function{Name: b.Intern("nest"), Module: m, Kind: profile.KindOwn})
	fr := b.Frame(profile.Frame{Function: f})
	s := profile.StackID(0)
	for range frames {
		s = b.Push(s, fr)
	}
	b.Sample(0, th, s, 1)
	return written(t, &profile.Take{Profile: b.Profile()})
}

// TestSmallFilesThatUnpackToMuch: what a file may become in memory is bounded
// before it is made.
func TestSmallFilesThatUnpackToMuch(t *testing.T) {
	b := many(t, 4_000_000)
	if len(b) > 100_000 {
		t.Fatalf("the file has %d bytes; it is no surprise", len(b))
	}
	const limit = 20 << 20
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	_, err := take.Read(bytes.NewReader(b), "x.take", take.Options{Limits: take.Limits{Memory: limit}})
	runtime.ReadMemStats(&after)
	if r, ok := reason(err); !ok || r != take.TooLarge || !strings.Contains(err.Error(), "20 MB of memory") {
		t.Errorf("it is read, or refused for another reason: %v", err)
	}
	// All that was ever made: the columns twice while they grow, and blocks.
	if made := after.TotalAlloc - before.TotalAlloc; made > 5*limit {
		t.Errorf("%d MB were made to find that out", made>>20)
	}
	n, err := take.Unpacked(bytes.NewReader(b))
	if err != nil || take.Memory(n) < 4_000_000*28 {
		t.Errorf("it is thought to need %d bytes, %v", take.Memory(n), err)
	}
	whole, err := take.Read(bytes.NewReader(b), "x.take", take.Options{})
	if err != nil {
		t.Fatal(err)
	}
	if got := whole.Profile.Bytes(); take.Memory(n) < got {
		t.Errorf("it was thought to need %d bytes and needs %d", take.Memory(n), got)
	}
}

func TestStacksThatAreTooDeep(t *testing.T) {
	b := deep(t, 2000)
	if _, err := take.Read(bytes.NewReader(b), "x.take", take.Options{Limits: take.Limits{Depth: 1999}}); err == nil || !strings.Contains(err.Error(), "more than 1999 frames") {
		t.Errorf("%v", err)
	}
	if _, err := take.Read(bytes.NewReader(b), "x.take", take.Options{Limits: take.Limits{Depth: 2000}}); err != nil {
		t.Error(err)
	}
	if _, err := take.Read(bytes.NewReader(deep(t, int(take.DefaultLimits.Depth)+1)), "x.take", take.Options{}); err == nil {
		t.Error("a stack beyond the default bound is read")
	}
}

// TestSettingsThatUnpackToMuch: JSON takes a multiple of its length in memory.
func TestSettingsThatUnpackToMuch(t *testing.T) {
	x := &profile.Take{Profile: profile.NewBuilder().Profile(), Settings: profile.Settings{Note: strings.Repeat("x", 9<<20)}}
	var b bytes.Buffer
	if err := take.Write(&b, x); err != nil {
		t.Fatal(err)
	}
	if _, err := take.Read(&b, "x.take", take.Options{}); err == nil || !strings.Contains(err.Error(), "more than 8 MB") {
		t.Errorf("%v", err)
	}
}

// TestWholeBlocks: of a file that was cut anywhere, what counts is a file that can
// be read, and nothing more could be.
func TestWholeBlocks(t *testing.T) {
	b := written(t, invent.Take(3, invent.Small))
	last := int64(0)
	for cut := 0; cut <= len(b); cut += 7 {
		n, err := take.WholeBlocks(bytes.NewReader(b[:cut]))
		if err != nil || n > int64(cut) || n < last {
			t.Fatalf("of %d bytes %d count, %v", cut, n, err)
		}
		last = n
		if _, err := take.Read(bytes.NewReader(b[:n]), "x", take.Options{}); err != nil {
			if r, ok := reason(err); !ok || r != take.NoSamples && r != take.Empty {
				t.Fatalf("%d of %d bytes: %v", n, cut, err)
			}
		}
	}
	if n, err := take.WholeBlocks(bytes.NewReader(b)); err != nil || n != int64(len(b)) {
		t.Errorf("of a whole file of %d bytes %d count, %v", len(b), n, err)
	}
	b[len(b)/2] ^= 1
	if n, err := take.WholeBlocks(bytes.NewReader(b)); err != nil || n > int64(len(b)/2) {
		t.Errorf("of a damaged file of %d bytes %d count, %v", len(b), n, err)
	}
}
