// Package linux holds what the kernel offers, one folder each, and here the errors
// that all of these have in common. Nothing below it knows what a take is.
//
// It holds nothing.
package linux

import "errors"

// What the kernel, or its lack of something, refuses.
var (
	ErrUnsupported  = errors.New("sampling works on Linux only")
	ErrNotAllowed   = errors.New("this user may not sample")
	ErrNoProcess    = errors.New("there is no such process")
	ErrEnded        = errors.New("it has ended, but its parent has not collected it yet")
	ErrKernelThread = errors.New("it is a kernel thread, which runs no program")
	ErrProtected    = errors.New("the system allows nobody to look into it, not even root")
	ErrFiles        = errors.New("the process has more threads than files may be open")
	ErrRate         = errors.New("the kernel does not allow this rate")
	ErrNoCycles     = errors.New("this machine offers no cycle counter")
	ErrProbe        = errors.New("it cannot be probed")
)
