package capture

import (
	"fmt"
	"os"
	"sync"

	"entelon/linux/procfs"
)

// besides are the takes that this process makes at a time. Each take disturbs the others, by
// its interrupts and by its collector's own work.
var besides struct {
	sync.Mutex
	takes map[*beside]bool
}

// beside is one of them.
type beside struct{ met bool }

// begin says that a take is being made.
func (b *beside) begin() {
	besides.Lock()
	defer besides.Unlock()
	for other := range besides.takes {
		other.met, b.met = true, true
	}
	if besides.takes == nil {
		besides.takes = map[*beside]bool{}
	}
	besides.takes[b] = true
}

// end says that it has been made.
func (b *beside) end() {
	besides.Lock()
	defer besides.Unlock()
	delete(besides.takes, b)
}

// sampledBy names what else sampled on this machine while the take was made, as far as this
// user may see, "" for nothing. Of other processes those count that still do when it ends.
func (b *beside) sampledBy() string {
	besides.Lock()
	met := b.met
	besides.Unlock()
	if met {
		return "another take of this collector"
	}
	if others := procfs.Samplers(os.Getpid(), 1); len(others) > 0 {
		return fmt.Sprintf("%s (process %d)", others[0].Name, others[0].PID)
	}
	return ""
}
