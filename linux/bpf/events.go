package bpf

import (
	"encoding/binary"
	"net/netip"
	"strings"

	"golang.org/x/sys/unix"
)

// DescriptorPlace says where the descriptor of a system call is to be found.
type DescriptorPlace uint8

// The places.
const (
	NoDescriptor    = DescriptorPlace(0)
	DescriptorFirst = DescriptorPlace(tallyDescriptorPlaceDESCRIPTOR_FIRST) // its first argument
	DescriptorFifth = DescriptorPlace(tallyDescriptorPlaceDESCRIPTOR_FIFTH) // its fifth
	DescriptorMade  = DescriptorPlace(tallyDescriptorPlaceDESCRIPTOR_MADE)  // what it returns
	DescriptorGoes  = DescriptorPlace(tallyDescriptorPlaceDESCRIPTOR_GOES)  // its first argument, which it lets go of
)

const (
	callsKnown = int(tallyDescriptorPlaceCALLS_KNOWN)
	// MaxRecordBytes is how much of a tracepoint's own record is kept at most.
	MaxRecordBytes = int(tallyEventBoundEVENT_BYTES)
	eventWords     = int(tallyEventBoundEVENT_WORDS)
)

// The parts of memory that are nobody's file.
const (
	MemoryHeap  = uint64(tallyMemoryPartMEMORY_HEAP)
	MemoryStack = uint64(tallyMemoryPartMEMORY_STACK)
)

// TallyEvent is an event that was written down by itself (struct event_record). Times are monotonic
// nanoseconds.
type TallyEvent struct {
	Key        TallyKey
	Begin, End uint64
	Amount     uint64 // bytes, where its measure is of those
	About      uint64 // the number of a file, or a disk's device; 0: nothing
	Address    uint64 // in the program's memory; 0: none
	Part       uint64 // which part of memory that is in, where it is of no file
	Processor  uint32
	Words      []byte // of a function, registers in the order of argumentWords; of a tracepoint, its own record
}

// argumentWords are the registers of a function that are kept, by their numbers in DWARF: rax, rdx, rcx,
// rbx, rsi, rdi, r8, r9.
var argumentWords = []int{0, 1, 2, 3, 4, 5, 8, 9}

// Register is the value that a register had, by its number in DWARF.
func (x *TallyEvent) Register(number int) (uint64, bool) {
	for i, n := range argumentWords {
		if n == number && len(x.Words) >= 8*eventWords {
			return binary.NativeEndian.Uint64(x.Words[8*i:]), true
		}
	}
	return 0, false
}

// DecodeEvent reads a record of KindEvent; ok is false where it is cut short.
func DecodeEvent(h Header, b []byte) (x TallyEvent, ok bool) {
	if len(b) < tallyKeyBytes {
		return x, false
	}
	return TallyEvent{
		Key: decodeKey(b), Begin: h.Addr, End: h.Low, Amount: h.High, About: h.Sp, Address: h.Bp, Part: h.SystemSp, Processor: uint32(h.Pc), Words: b[tallyKeyBytes:],
	}, true
}

// File is what is behind a descriptor (struct file_record).
type File struct {
	Number        uint64 // by which it is named from then on
	Mode          uint32 // as of stat(2)
	Device, Inode uint64
	Path          string // of what is none, what the kernel calls it; of a socket of the machine itself, its address
	Cut           bool   // the path is only its inner end
	Family        uint16 // of a socket
	Protocol      uint16
	Peer          netip.AddrPort // of a socket, if it is connected over a network
	Own           uint16         // its own port
}

const filePartBytes = int(tallyFileBoundFILE_PART_BYTES)

// DecodeFile reads a record of KindFile.
func DecodeFile(h Header, b []byte) File {
	x := File{Number: h.Addr, Mode: uint32(h.Low), Inode: h.High, Device: h.Sp, Cut: h.SystemSp == uint64(tallyFileBoundFILE_CUT), Family: uint16(h.Pc), Protocol: uint16(h.Pc >> 16), Own: uint16(h.Bp >> 16)}
	if x.Mode&unix.S_IFMT == unix.S_IFSOCK && x.Family != 0 {
		switch x.Family {
		case unix.AF_INET, unix.AF_INET6:
			// The kernel has a port as the network has it, highest byte first.
			port := uint16(h.Bp)
			if at, ok := netip.AddrFromSlice(b); ok && port != 0 {
				x.Peer = netip.AddrPortFrom(at.Unmap(), port<<8|port>>8)
			}
		case unix.AF_UNIX:
			x.Path = localAddress(b)
		}
		return x
	}
	var parts []string
	for ; len(b) >= filePartBytes; b = b[filePartBytes:] {
		part := unix.ByteSliceToString(b[:filePartBytes])
		if len(part) == filePartBytes-1 {
			part += "…"
		}
		parts = append(parts, strings.ToValidUTF8(part, "?"))
	}
	if len(parts) == 1 && h.SystemSp == uint64(tallyFileBoundFILE_ROOTLESS) {
		x.Path = parts[0]
		return x
	}
	var path strings.Builder
	if x.Cut {
		path.WriteString("…")
	}
	for i := len(parts) - 1; i >= 0; i-- {
		path.WriteString("/" + parts[i])
	}
	x.Path = path.String()
	return x
}

// localAddress is the address of a socket within the machine, which may begin with a byte that is 0.
func localAddress(b []byte) string {
	if len(b) > 1 && b[0] == 0 {
		return "@" + strings.ToValidUTF8(strings.ReplaceAll(string(b[1:]), "\x00", "@"), "?")
	}
	return strings.ToValidUTF8(unix.ByteSliceToString(b), "?")
}
