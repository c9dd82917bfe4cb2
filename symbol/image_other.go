//go:build !unix

package symbol

import (
	"io"
	"os"
)

func mapFile(f *os.File) ([]byte, error) { return io.ReadAll(f) }

func unmapFile([]byte) error { return nil }
