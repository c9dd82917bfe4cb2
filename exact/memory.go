package exact

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"entelon/core/profile"
)

// Memory is what is counted of memory and branches, besides instructions and calls.
type Memory struct {
	Accesses bool  // loads and stores with their bytes
	First    Cache // of the models, which are off where it has no size
	Second   Cache
}

// Modelled reports whether caches and the prediction of branches are modelled.
func (m Memory) Modelled() bool { return m.First.Size > 0 }

// Cache is the shape of a cache in a model.
type Cache struct {
	Size int64 // bytes
	Ways int64
	Line int64 // bytes
}

// String is how a cache is written: 32K/8/64.
func (c Cache) String() string {
	size := strconv.FormatInt(c.Size, 10)
	switch {
	case c.Size >= 1<<20 && c.Size%(1<<20) == 0:
		size = strconv.FormatInt(c.Size>>20, 10) + "M"
	case c.Size >= 1<<10 && c.Size%(1<<10) == 0:
		size = strconv.FormatInt(c.Size>>10, 10) + "K"
	}
	return fmt.Sprintf("%s/%d/%d", size, c.Ways, c.Line)
}

// ParseCache reads SIZE/WAYS/LINE, such as 32K/8/64.
func ParseCache(text string) (c Cache, err error) {
	bad := fmt.Errorf("a cache is written as SIZE/WAYS/LINE, such as 32K/8/64, and not %q", text)
	words := strings.Split(text, "/")
	if len(words) != 3 {
		return c, bad
	}
	if c.Size, err = parseSize(words[0]); err != nil {
		return c, bad
	}
	ways, err1 := strconv.ParseInt(words[1], 10, 32)
	line, err2 := strconv.ParseInt(words[2], 10, 32)
	if err1 != nil || err2 != nil {
		return c, bad
	}
	c.Ways, c.Line = ways, line
	return c, c.Check()
}

func parseSize(text string) (int64, error) {
	shift := 0
	switch {
	case strings.HasSuffix(text, "K"):
		shift, text = 10, strings.TrimSuffix(text, "K")
	case strings.HasSuffix(text, "M"):
		shift, text = 20, strings.TrimSuffix(text, "M")
	}
	n, err := strconv.ParseInt(text, 10, 32)
	if err != nil || n < 1 {
		return 0, fmt.Errorf("%q is not a size", text)
	}
	return n << shift, nil
}

// Check refuses what is no cache; the plugin has the same bounds.
func (c Cache) Check() error {
	if c.Line < 8 || c.Line > 4096 || c.Line&(c.Line-1) != 0 || c.Ways < 1 || c.Ways > 64 || c.Size < c.Line*c.Ways || c.Size%(c.Line*c.Ways) != 0 || c.Size/c.Line > 1<<22 || c.sets() > 1<<20 {
		return fmt.Errorf("a cache of %d bytes with %d ways and lines of %d bytes cannot be modelled: lines have 8 to 4096 bytes and a power of two, a set has 1 to 64 of them, and the size is a multiple of a set's", c.Size, c.Ways, c.Line)
	}
	return nil
}

func (c Cache) sets() int64 { return c.Size / (c.Line * c.Ways) }

// argument tells the plugin what is counted; "" for nothing more.
func (m Memory) argument() string {
	switch {
	case m.Modelled():
		return fmt.Sprintf(",models=%d/%d/%d+%d/%d/%d", m.First.sets(), m.First.Ways, m.First.Line, m.Second.sets(), m.Second.Ways, m.Second.Line)
	case m.Accesses:
		return ",memory=on"
	}
	return ""
}

// Usual are caches where the machine does not tell its own.
var usual = [2]Cache{{32 << 10, 8, 64}, {1 << 20, 16, 64}}

// OfThisMachine are the first two levels of this machine's caches of data, or usual ones where it
// does not tell them.
func OfThisMachine() (first, second Cache) {
	found := usual
	for level := range found {
		paths, err := filepath.Glob("/sys/devices/system/cpu/cpu0/cache/index*")
		if err != nil {
			continue
		}
		for _, dir := range paths {
			read := func(name string) string {
				b, err := os.ReadFile(filepath.Join(dir, name))
				if err != nil {
					return ""
				}
				return strings.TrimSpace(string(b))
			}
			if read("level") != strconv.Itoa(level+1) || read("type") == "Instruction" {
				continue
			}
			if c, err := ParseCache(read("size") + "/" + read("ways_of_associativity") + "/" + read("coherency_line_size")); err == nil {
				found[level] = c
			}
		}
	}
	return found[0], found[1]
}

// thisMachine stands for a cache of the machine on which the run is made.
const thisMachine = "machine"

// OwnCaches are those of this machine.
func OwnCaches() []string {
	first, second := OfThisMachine()
	return []string{first.String(), second.String()}
}

// Settle puts this machine's caches where settings leave them to it.
func Settle(s *profile.Settings) {
	for i, own := range OwnCaches() {
		if i < len(s.Caches) && s.Caches[i] == thisMachine {
			s.Caches[i] = own
		}
	}
}

// MemoryOf is what settings say of memory; Check refuses what they cannot.
func MemoryOf(s *profile.Settings) Memory {
	m := Memory{Accesses: s.Memory}
	if len(s.Caches) == 2 {
		m.First, _ = ParseCache(s.Caches[0]) // CheckMemory has looked at it
		m.Second, _ = ParseCache(s.Caches[1])
	}
	return m
}

// CheckMemory refuses settings that are none.
func CheckMemory(s *profile.Settings) error {
	if len(s.Caches) != 0 && len(s.Caches) != 2 {
		return fmt.Errorf("two caches are modelled, and not %d", len(s.Caches))
	}
	for _, text := range s.Caches {
		if _, err := ParseCache(text); err != nil {
			return err
		}
	}
	return nil
}
