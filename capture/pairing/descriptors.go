package pairing

import (
	"strings"

	"entelon/linux/bpf"
)

// Where system calls have their descriptor, as their manual pages say.
const (
	byFirst = `read write fstat lseek ioctl pread64 pwrite64 readv writev connect sendto recvfrom sendmsg recvmsg shutdown bind listen
		getsockname getpeername setsockopt getsockopt fcntl flock fsync fdatasync ftruncate getdents getdents64 fchdir fchmod fchown fstatfs
		readahead fsetxattr fgetxattr flistxattr fremovexattr epoll_wait epoll_ctl epoll_pwait epoll_pwait2 sync_file_range fallocate preadv
		pwritev preadv2 pwritev2 recvmmsg sendmmsg syncfs timerfd_settime timerfd_gettime copy_file_range splice tee vmsplice sendfile
		fadvise64 io_uring_enter inotify_add_watch dup dup2 dup3`
	byFifth   = `mmap`
	byResult  = `open openat openat2 creat socket accept accept4 eventfd eventfd2 epoll_create epoll_create1 memfd_create timerfd_create signalfd signalfd4 inotify_init inotify_init1`
	lettingGo = `close`
)

// Descriptors says of each system call, by its number, where its descriptor is to be found.
var Descriptors = func() []bpf.DescriptorPlace {
	out := make([]bpf.DescriptorPlace, len(systemCallNames))
	for place, names := range map[bpf.DescriptorPlace]string{
		bpf.DescriptorFirst: byFirst, bpf.DescriptorFifth: byFifth, bpf.DescriptorMade: byResult, bpf.DescriptorGoes: lettingGo,
	} {
		for n := range numbersOf(names) {
			out[n] = place
		}
	}
	return out
}()

// moves are the system calls that return how many bytes they moved.
var moves = numbersOf(`read write pread64 pwrite64 readv writev preadv pwritev preadv2 pwritev2 sendto recvfrom sendmsg recvmsg sendfile splice
	tee vmsplice copy_file_range getdents getdents64 getrandom process_vm_readv process_vm_writev`)

// numbersOf are the numbers of system calls by their names.
func numbersOf(names string) map[uint32]bool {
	out := map[uint32]bool{}
	for n, name := range systemCallNames {
		for _, x := range strings.Fields(names) {
			if x == name {
				out[uint32(n)] = true
			}
		}
	}
	return out
}
