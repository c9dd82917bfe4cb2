package exact

import (
	"debug/elf"
	"io"
	"path/filepath"
	"strings"
	"testing"

	"entelon/core/profile"
)

// byFunction adds a column up by function.
func byFunction(p *profile.Profile, column string) map[string]int64 {
	out := map[string]int64{}
	m, err := p.MeasureNamed(column)
	if err != nil {
		return out
	}
	for i, s := range p.Samples.Stack {
		out[p.FunctionName(p.FunctionOf(s))] += p.Samples.Values[m][i]
	}
	return out
}

// run runs a program once and folds its first process.
func run(t *testing.T, program string, m Memory) *profile.Profile {
	t.Helper()
	r, err := Once(Options{Command: []string{program}, Stdout: io.Discard, Memory: m})
	if err != nil || r.Code != 0 {
		t.Fatalf("%v, %+v", err, r)
	}
	return Profile(filepath.Base, r.Processes, m, opened(t))
}

// code is what a program has at an address.
func code(t *testing.T, program string, address uint64) []byte {
	t.Helper()
	f, err := elf.Open(program)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	text := f.Section(".text")
	b, err := text.Data()
	if err != nil || address < text.Addr || address >= text.Addr+text.Size {
		t.Fatalf("%#x is not in the text: %v", address, err)
	}
	return b[address-text.Addr:]
}

// TestMemory: loads and stores are as many, and as wide, as the program makes; a wide one is one,
// and of a repeated instruction each.
func TestMemory(t *testing.T) {
	program := built(t, "gcc", "memory.c", "-O1")
	p := run(t, program, Memory{Accesses: true})
	for column, want := range map[string]map[string]int64{
		"loads":  {"one_line": 10_000, "every_line": 16_384, "wide": 1_000, "moved": 5_000},
		"stores": {"one_line": 20_000, "every_line": 0, "wide": 0, "moved": 5_000},
		"loaded": {"one_line": 80_000, "every_line": 65_536, "wide": 16_000, "moved": 5_000},
		"stored": {"one_line": 160_000, "moved": 5_000},
	} {
		got := byFunction(p, column)
		for f, n := range want {
			// Each function returns, which is a load of 8 bytes.
			if strings.HasPrefix(column, "load") {
				n += map[string]int64{"loads": 1, "loaded": 8}[column]
			}
			if got[f] != n {
				t.Errorf("%s of %s: %d, not %d", column, f, got[f], n)
			}
		}
	}
	// Each stands at its own instruction: of every_line at the one that reads, and at the return.
	loads, _ := p.MeasureNamed("loads")
	at := map[uint64]int64{}
	for i, s := range p.Samples.Stack {
		if v := p.Samples.Values[loads][i]; v > 0 && p.FunctionName(p.FunctionOf(s)) == "every_line" {
			at[p.Frames[p.Stacks.Frame[s]].Address] += v
		}
	}
	for address, n := range at {
		if returns := code(t, program, address)[0] == 0xc3; len(at) != 2 || returns != (n == 1) {
			t.Errorf("loads of every_line by address: %v", at)
		}
	}
	if _, err := p.MeasureNamed("misses-1"); err == nil {
		t.Error("there are models, which nobody asked for")
	}
	// What is not asked for changes nothing.
	plain := run(t, program, Memory{})
	if a, b := p.Total(0), plain.Total(0); a != b || len(plain.Measures) != always {
		t.Errorf("%d instructions with accesses and %d without", a, b)
	}
}

// TestModels: misses and mispredicted branches of known patterns are what the models say that
// they are.
func TestModels(t *testing.T) {
	p := run(t, built(t, "gcc", "memory.c", "-O1"), Memory{First: Cache{32 << 10, 8, 64}, Second: Cache{1 << 20, 16, 64}})
	within := func(column, f string, low, high int64) {
		t.Helper()
		if got := byFunction(p, column)[f]; got < low || got > high {
			t.Errorf("%s of %s: %d, not %d to %d", column, f, got, low, high)
		}
	}
	within("misses-1", "one_line", 1, 3)
	within("misses-1", "every_line", 16_384-3, 16_384+3) // each line has gone when it comes round
	within("misses-2", "every_line", 4096-3, 4096+3)     // but not from the second level
	within("misses-1", "wide", 0, 2)
	within("misses-2", "moved", 0, 2)
	within("mispredicted", "steady", 1, 3)
	within("mispredicted", "alternating", 4_900, 10_003) // a counter of two bits sees half or none of it coming
}

// TestCaches: what is written is read, and what cannot be modelled is refused.
func TestCaches(t *testing.T) {
	for _, text := range []string{"32K/8/64", "48K/12/64", "1M/16/64", "1536/3/64"} {
		if c, err := ParseCache(text); err != nil || c.String() != text {
			t.Errorf("%s: %v, %v", text, c, err)
		}
	}
	for _, text := range []string{"", "32K", "32K/8", "32K/8/64/1", "0/8/64", "-1K/8/64", "32K/0/64", "32K/8/60", "32K/100/64", "33/8/64", "9999999M/8/64", "32K/8/x"} {
		if c, err := ParseCache(text); err == nil {
			t.Errorf("%s: %v", text, c)
		}
	}
	first, second := OfThisMachine()
	if first.Check() != nil || second.Check() != nil || first.Size > second.Size {
		t.Errorf("%v and %v", first, second)
	}
}
