//go:build !unix

package elfimage

import "os"

// OpenRegular opens a file.
func OpenRegular(path string) (*os.File, error) { return os.Open(path) }
