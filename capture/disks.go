package capture

import "entelon/linux/procfs"

// diskNames returns a function that names disks by the kernel's numbers, and looks each up once.
func diskNames() func(number uint64) string {
	names := map[uint64]string{}
	return func(number uint64) string {
		name, known := names[number]
		if !known {
			name = procfs.DiskName(uint32(number>>20), uint32(number&(1<<20-1)))
			names[number] = name
		}
		return name
	}
}
