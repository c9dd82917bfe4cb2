package procfs

import "os"

// initialProcesses is what the kernel calls the first namespace of process numbers.
const initialProcesses = "pid:[4026531836]"

// SeesAll reports whether process numbers are here what they are to the kernel, and not
// those of a namespace within it, such as a container's.
func SeesAll() bool {
	name, err := os.Readlink("/proc/self/ns/pid")
	return err == nil && name == initialProcesses
}
