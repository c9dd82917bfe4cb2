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
	ErrEnded        = errors.New("it has ended, and its parent has not taken note of that yet")
	ErrKernelThread = errors.New("it is a thread of the kernel, which runs no program")
	ErrProtected    = errors.New("the system lets nobody look into it, not even root")
	ErrFiles        = errors.New("the process has more threads than files may be open")
	ErrRate         = errors.New("the kernel does not allow this rate")
	ErrNoCycles     = errors.New("this machine does not hand on its processor's counter of cycles")
	ErrProbe        = errors.New("the function cannot be counted")
)
