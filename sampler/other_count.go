//go:build !linux

package sampler

import (
	"context"

	"entelon/core/profile"
)

func count(context.Context, CountOptions) (*Counts, error) { return nil, ErrUnsupported }

func examine() []Check {
	return []Check{{Name: "Sampling", State: CheckBad, Text: ErrUnsupported.Error() + "."}}
}

func runningGroups() ([]Group, error)             { return nil, ErrUnsupported }
func runningProcesses() ([]RunningProcess, error) { return nil, ErrUnsupported }

func machineFacts() profile.Machine { return profile.Machine{} }
