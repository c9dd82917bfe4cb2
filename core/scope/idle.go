package scope

import (
	"strings"

	"entelon/core/profile"
)

// Idle stacks are those that wait for something to do, and not for something
// that they need to go on:
//
//   - waits that a take has measured, by their reason: sleeping, waiting for
//     events, input or another process;
//   - threads of a pool without work: in a wait for a condition, in the search of
//     Go's scheduler for something to run, in the idle loop of the kernel; unless
//     the program's own code is called from there.
//
// A lock, the disk, memory or a taken processor is never idle.

// idleFunctions are what stands on idle stacks; * is any text.
var idleFunctions = []pattern{
	// the kernel's own idle task
	literal("do_idle"), literal("cpu_startup_entry"), literal("default_idle*"), literal("cpuidle_enter*"), literal("acpi_idle_*"), literal("intel_idle*"), literal("pv_native_safe_halt"),
	// Go
	literal("runtime.findRunnable"), literal("runtime.stopm"), literal("runtime.sysmon"), literal("runtime.bgsweep"), literal("runtime.bgscavenge"), literal("runtime.templateThread"),
	// the C library and what stands on it
	literal("pthread_cond_wait*"), literal("__pthread_cond_wait*"), literal("pthread_cond_timedwait*"), literal("__pthread_cond_timedwait*"), literal("pthread_cond_clockwait*"), literal("___pthread_cond_*"),
	literal("std::condition_variable::wait*"), literal("uv_cond_wait"), literal("uv_cond_timedwait"),
	// Java
	literal("jdk.internal.misc.Unsafe.park"), literal("java.lang.Object.wait*"), literal("sun.nio.ch.EPoll.wait"),
}

// Idle reports functions below which a stack is idle: it waits for something to do.
func Idle(p *profile.Profile) func(profile.FunctionID) bool { return isIdle(p) }

func isIdle(p *profile.Profile) func(profile.FunctionID) bool {
	return once(func(f profile.FunctionID) bool {
		if m := p.Functions[f].Mark; m != profile.NoMark {
			return m.Idle()
		}
		plain, _, _ := strings.Cut(p.FunctionName(f), "@") // the version of a symbol
		return fitsAny(idleFunctions, plain, profile.Short(plain))
	})
}

// on holds for stacks with such a function and no own code that it has called:
// a loop that waits for events calls what handles them.
func (idle) on(s *subject) condition {
	is := isIdle(s.p)
	return s.fromParent(2, func(idles uint8, f profile.FunctionID) uint8 {
		if is(f) || idles == 1 && s.p.Functions[f].Kind != profile.KindOwn {
			return 1
		}
		return 0
	}, func(idles uint8) bool { return idles == 1 })
}
