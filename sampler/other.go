//go:build !linux

package sampler

import (
	"context"

	"entelon/core/profile"
)

func collect(context.Context, Options, Sink) (*Result, error) { return nil, ErrUnsupported }

func runBare(context.Context, Options) (*profile.Bare, error) { return nil, ErrUnsupported }

// FindCommand finds nothing where nothing can be launched.
func FindCommand(Options) (string, error) { return "", ErrUnsupported }

// ProcessOwner knows no processes here.
func ProcessOwner(int) (string, error) { return "", ErrUnsupported }

// Launcher does nothing where nothing can be launched.
func Launcher() {}

// Spinner does nothing where nothing can be sampled.
func Spinner() {}

// MeasureCost cannot measure where nothing can be sampled.
func MeasureCost(context.Context, int) (SampleCost, error) { return SampleCost{}, ErrUnsupported }

// Allowed reports that this system cannot sample.
func Allowed() error { return ErrUnsupported }
