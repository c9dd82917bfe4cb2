// Package nameless makes files that nothing is left of once they are closed, for what is received.
package nameless

import (
	"errors"
	"fmt"
	"os"
)

// unnamed makes a file and takes its name away. Who is killed in between leaves it behind.
func unnamed() (*os.File, error) {
	f, err := os.CreateTemp("", "entelon-upload-*")
	if err != nil {
		return nil, fmt.Errorf("keeping the upload: %w", err)
	}
	if err := os.Remove(f.Name()); err != nil {
		return nil, errors.Join(fmt.Errorf("keeping the upload: %w", err), f.Close())
	}
	return f, nil
}
