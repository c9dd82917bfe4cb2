package golang

import (
	"testing"

	"entelon/core/profile"
)

// TestWaitsFor: the stacks are those of Go 1.26, from the inner end.
func TestWaitsFor(t *testing.T) {
	for want, stacks := range map[profile.Mark][][]string{
		profile.WaitLock: {
			{"runtime.gopark", "runtime.goparkunlock", "runtime.semacquire1", "internal/sync.runtime_SemacquireMutex", "internal/sync.(*Mutex).lockSlow", "internal/sync.(*Mutex).Lock", "sync.(*Mutex).Lock", "main.draw"},
			{"runtime.gopark", "runtime.goparkunlock", "runtime.semacquire1", "sync.runtime_SemacquireWaitGroup", "sync.(*WaitGroup).Wait", "main.main"},
			{"runtime.gopark", "sync.runtime_notifyListWait", "sync.(*Cond).Wait", "main.wait"},
			{"runtime.gopark", "runtime.semacquire1", "runtime.gcStart", "main.main"},
		},
		profile.WaitChannel: {{"runtime.gopark", "runtime.chanrecv", "runtime.chanrecv1", "main.read"}, {"runtime.gopark", "runtime.selectgo", "main.serve"}},
		profile.WaitSleep:   {{"runtime.gopark", "time.Sleep", "main.doze"}},
		profile.WaitNetwork: {{"runtime.gopark", "runtime.netpollblock", "internal/poll.runtime_pollWait", "internal/poll.(*FD).Read", "net.(*netFD).Read"}},
		profile.WaitEvents:  {{"runtime.gopark", "runtime.gcBgMarkWorker"}},
		profile.WaitUnknown: {{}, {"runtime.gopark", "runtime.updateMaxProcsGoroutine"}},
	} {
		for _, names := range stacks {
			if got := WaitsFor(names); got != want {
				t.Errorf("%v: %s, want %s", names, got.Key(), want.Key())
			}
		}
	}
}
