package bpf

import (
	"errors"
	"fmt"
	"os"

	"golang.org/x/sys/cpu"

	"entelon/linux/perf"
)

// onRequest is how many bytes of a processor's registers the kernel saves only for
// threads that asked for them: the tiles of AMX (XTILEDATA, Intel 64 and IA-32
// Architectures Software Developer's Manual, volume 1, 13.5.15).
const onRequest = 8192

// signalFrameBytes asks the kernel how much a signal frame takes at most
// (AT_MINSIGSTKSZ of the auxiliary vector, since Linux 5.14); usual is how much that of
// a thread takes that did not ask for more registers.
func signalFrameBytes() (most, usual uint32, err error) {
	const minSignalStack = 51
	b, err := os.ReadFile("/proc/self/auxv")
	if err != nil {
		return 0, 0, fmt.Errorf("asking for the size of signal frames: %w", err)
	}
	for ; len(b) >= 16; b = b[16:] {
		if v := perf.Word(b[8:]); perf.Word(b) == minSignalStack && v < 1<<20 {
			most = uint32(v)
			if usual = most; cpu.X86.HasAMXTile && most > onRequest {
				usual -= onRequest
			}
			return most, usual, nil
		}
	}
	return 0, 0, errors.New("the kernel does not publish the size of signal frames")
}
