package serving

import (
	"math"
	"os"
	"path/filepath"
	"runtime/debug"
	"strconv"
	"strings"

	"entelon/capture"
)

// lazyCollection is by how many percent the server's heap may grow between two
// collections of garbage, where memory is at hand: opening a take makes little
// garbage and much that stays, and collecting in the middle of it takes a third of
// the time that somebody waits for the first picture.
const lazyCollection = 400

// MaxMemory is how much the server takes of a large machine if nothing else is
// said, in bytes.
const MaxMemory = 2816 << 20

// MemoryTerms tells how much memory the server's process may have, and how much
// of that is for what is opened, compared or read: given is what the operator
// said (0: nothing), limit is Go's own limit (math.MaxInt64: none), and available
// is what the machine or the control group has.
func MemoryTerms(given, limit, available int64) (process, budget int64) {
	process = min(MaxMemory, available/4)
	switch {
	case given > 0:
		process = given
	case limit != math.MaxInt64:
		process = limit
	}
	return process, process / 2
}

// Available is how much memory this process could have: the machine's, or what
// its control group allows where that is less.
func Available() int64 {
	most := capture.Machine().MemoryB
	b, err := os.ReadFile("/proc/self/cgroup")
	if err != nil {
		return most
	}
	for line := range strings.Lines(string(b)) {
		path, ok := strings.CutPrefix(strings.TrimSpace(line), "0::")
		if !ok {
			continue
		}
		for dir := path; ; dir = filepath.Dir(dir) {
			text, err := os.ReadFile(filepath.Join("/sys/fs/cgroup", dir, "memory.max"))
			if n, parse := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64); err == nil && parse == nil {
				most = min(most, n*3) // of a group nobody else's, three quarters are ours and not one
			}
			if dir == "/" || dir == "." {
				break
			}
		}
	}
	return most
}

// setMemory sets how much memory this process may have, and returns how much of
// it is for what is opened, compared or read.
func setMemory(given int64) (budget int64) {
	limit := debug.SetMemoryLimit(-1)
	process, budget := MemoryTerms(given, limit, Available())
	if limit == math.MaxInt64 {
		debug.SetMemoryLimit(process)
	}
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(lazyCollection)
	}
	return budget
}
