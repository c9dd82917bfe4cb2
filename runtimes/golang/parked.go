// Package golang knows what the Go runtime's own functions stand for.
package golang

import (
	"strings"

	"entelon/core/profile"
)

// parks are functions in which goroutines wait, with what for: the innermost that is met counts. A name
// that ends with * is a beginning.
var parks = []struct {
	mark  profile.Mark
	names []string
}{
	{profile.WaitNetwork, []string{"internal/poll.runtime_pollWait"}},
	{profile.WaitSleep, []string{"time.Sleep", "runtime.timeSleep"}},
	{profile.WaitMemory, []string{"runtime.gcAssistAlloc", "runtime.gcParkAssist"}},
	{profile.WaitEvents, []string{"runtime.gcBgMarkWorker", "runtime.bgsweep", "runtime.bgscavenge", "runtime.forcegchelper", "runtime.runfinq", "runtime.runFinalizers", "runtime.runCleanups", "runtime.(*cleanupQueue).*", "os/signal.signal_recv"}},
	{profile.WaitLock, []string{"sync.runtime_Semacquire*", "internal/sync.runtime_SemacquireMutex", "sync.runtime_notifyListWait", "internal/poll.runtime_Semacquire"}},
	{profile.WaitChannel, []string{"runtime.chanrecv*", "runtime.chansend*", "runtime.selectgo", "runtime.block"}},
}

// Looked is how many frames from the inner end of a stack WaitsFor needs.
const Looked = 10

// WaitsFor says what a goroutine waits for, by the names of the functions that it waits in, the
// innermost first.
func WaitsFor(names []string) profile.Mark {
	semaphore := false
	for _, name := range names {
		for _, p := range parks {
			for _, n := range p.names {
				if begin, open := strings.CutSuffix(n, "*"); n == name || open && strings.HasPrefix(name, begin) {
					return p.mark
				}
			}
		}
		semaphore = semaphore || strings.HasPrefix(name, "runtime.semacquire")
	}
	if semaphore { // of which the functions around it say nothing more
		return profile.WaitLock
	}
	return profile.WaitUnknown
}
