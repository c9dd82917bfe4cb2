//go:build !linux

package sampler

import "context"

func collect(context.Context, Options, Sink) (*Result, error) { return nil, ErrUnsupported }

// Launcher does nothing where nothing can be launched.
func Launcher() {}

// Allowed reports that this system cannot sample.
func Allowed() error { return ErrUnsupported }
