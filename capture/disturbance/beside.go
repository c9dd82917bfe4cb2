// Package disturbance tells what happened on a machine beside a take that makes its figures others:
// processors slowed by heat or held back by a quota, other takes, memory and processor time of what
// is sampled.
//
// What is followed belongs to the goroutine of the take; a lock guards the list of the takes that
// this process makes.
package disturbance

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
	takes map[*Takes]bool
}

// Takes is one of them.
type Takes struct{ met bool }

// Begin says that a take is being made.
func (b *Takes) Begin() {
	besides.Lock()
	defer besides.Unlock()
	for other := range besides.takes {
		other.met, b.met = true, true
	}
	if besides.takes == nil {
		besides.takes = map[*Takes]bool{}
	}
	besides.takes[b] = true
}

// End says that it has been made.
func (b *Takes) End() {
	besides.Lock()
	defer besides.Unlock()
	delete(besides.takes, b)
}

// SampledBy names what else sampled on this machine while the take was made, as far as this
// user may see, "" for nothing. Of other processes those count that still do when it ends.
func (b *Takes) SampledBy() string {
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
