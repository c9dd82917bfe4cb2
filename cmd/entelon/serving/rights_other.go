//go:build !linux

package serving

import (
	"errors"
	"log/slog"
)

// Rights are given up where they are there to be given up: on Linux.

type account struct{}

func findAccount(string) (*account, error) { return nil, errors.New("--user works on Linux only") }

func giveUpRights(*account, *slog.Logger) error { return nil }

func keepSamplingRights(*slog.Logger, bool) error { return nil }
