package procfs

import (
	"fmt"
	"os"
	"path/filepath"
)

// DiskName is the name of a disk, or of a part of one, by the numbers of its device: "vda1". Where the
// kernel does not tell, it is these.
func DiskName(major, minor uint32) string {
	numbers := fmt.Sprintf("%d:%d", major, minor)
	to, err := os.Readlink("/sys/dev/block/" + numbers)
	if err != nil {
		return numbers
	}
	return filepath.Base(to)
}
