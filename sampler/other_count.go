//go:build !linux

package sampler

import "context"

func count(context.Context, CountOptions) (*Counts, error) { return nil, ErrUnsupported }
