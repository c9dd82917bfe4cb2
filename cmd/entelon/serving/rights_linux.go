package serving

import (
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/user"
	"strconv"
	"strings"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

// CollectorRights are the capabilities that collecting as root needs, and what
// for. Everything else a collector gives up.
var CollectorRights = []uint{
	unix.CAP_PERFMON,         // sampling events, probes
	unix.CAP_BPF,             // programs that read stacks at the moment of a sample
	unix.CAP_SYS_PTRACE,      // maps and memory of processes that are sampled
	unix.CAP_SYSLOG,          // names of the kernel's functions
	unix.CAP_DAC_READ_SEARCH, // binaries and debug files of other users' programs
	unix.CAP_SYS_ADMIN,       // mounting the file system of traces, probes, and programs on kernels that know no CAP_BPF
	unix.CAP_IPC_LOCK,        // rings of samples in locked memory
	unix.CAP_SYS_RESOURCE,    // open files for many threads
	unix.CAP_SETUID,          // commands run as the user that the machine's owner allows
	unix.CAP_SETGID,
	unix.CAP_KILL, // and end with the take
	unix.CAP_SETPCAP,
}

// keepSamplingRights gives up what collecting does not need, for good. Where a
// command may run as root, what it may gain at its start stays, so that it is not
// another program when it is sampled.
func keepSamplingRights(log *slog.Logger, commandsAsRoot bool) error {
	if os.Geteuid() != 0 {
		return nil
	}
	var keep uint64
	for _, c := range CollectorRights {
		keep |= 1 << c
	}
	err := limitRights(keep, !commandsAsRoot)
	if errors.Is(err, syscall.ENOTSUP) {
		log.Warn("the collector keeps all rights of root, since it was built with C code; build it with make")
		return nil
	}
	return err
}

// limitRights keeps only some capabilities, on all threads; with bound, nothing
// that this process starts gains others, either.
func limitRights(keep uint64, bound bool) error {
	header := unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}
	var data [2]unix.CapUserData
	if err := unix.Capget(&header, &data[0]); err != nil {
		return fmt.Errorf("reading this process's rights: %w", err)
	}
	if bound {
		for c := uint(0); c <= unix.CAP_LAST_CAP; c++ {
			if keep&(1<<c) != 0 || data[0].Effective&(1<<unix.CAP_SETPCAP) == 0 {
				continue
			}
			if _, _, e := syscall.AllThreadsSyscall(unix.SYS_PRCTL, unix.PR_CAPBSET_DROP, uintptr(c), 0); e != 0 && e != syscall.EINVAL {
				return fmt.Errorf("giving up rights: %w", e)
			}
		}
	}
	for i := range data {
		mask := uint32(keep >> (32 * i))
		data[i].Permitted &= mask
		data[i].Effective = data[i].Permitted
		data[i].Inheritable = 0
	}
	if _, _, e := syscall.AllThreadsSyscall(unix.SYS_CAPSET, uintptr(unsafe.Pointer(&header)), uintptr(unsafe.Pointer(&data[0])), 0); e != 0 {
		return fmt.Errorf("giving up rights: %w", e)
	}
	return nil
}

// account is whom the server runs as once it needs root no more.
type account struct {
	uid, gid int
	groups   []int
}

// findAccount reads a user's name, or the numbers of a user and a group as
// UID:GID.
func findAccount(text string) (*account, error) {
	if u, g, ok := strings.Cut(text, ":"); ok {
		uid, err1 := strconv.Atoi(u)
		gid, err2 := strconv.Atoi(g)
		if err := errors.Join(err1, err2); err != nil || uid <= 0 || gid <= 0 {
			return nil, fmt.Errorf("--user %q: write a name, or two numbers above 0 as UID:GID", text)
		}
		return &account{uid: uid, gid: gid}, nil
	}
	u, err := user.Lookup(text)
	if err != nil {
		return nil, fmt.Errorf("--user %s: there is no such user; make one with: useradd --system --shell /usr/sbin/nologin %s", text, text)
	}
	uid, err1 := strconv.Atoi(u.Uid)
	gid, err2 := strconv.Atoi(u.Gid)
	if err := errors.Join(err1, err2); err != nil {
		return nil, fmt.Errorf("--user %s: %w", text, err)
	}
	if uid == 0 {
		return nil, fmt.Errorf("--user %s: that is root; give another user, or say --as-root", text)
	}
	return &account{uid: uid, gid: gid}, nil
}

// become makes this process a user's, without any rights, and without a way to
// gain some, on all threads.
func (a *account) become() error {
	if err := syscall.Setgroups(a.groups); err != nil {
		return fmt.Errorf("becoming another user: %w", err)
	}
	if err := syscall.Setresgid(a.gid, a.gid, a.gid); err != nil {
		return fmt.Errorf("becoming another user: %w", err)
	}
	if err := syscall.Setresuid(a.uid, a.uid, a.uid); err != nil {
		return fmt.Errorf("becoming another user: %w", err)
	}
	return nil
}

// giveUpRights leaves this process nothing but what every user may.
func giveUpRights(a *account, log *slog.Logger) error {
	if os.Geteuid() == 0 && a == nil {
		log.Warn("the server keeps the user root, as was asked for")
		return nil
	}
	err := limitRights(1<<unix.CAP_SETUID|1<<unix.CAP_SETGID|1<<unix.CAP_SETPCAP, true)
	if err == nil && a != nil {
		err = a.become()
	}
	if err == nil {
		err = limitRights(0, false)
	}
	if err == nil {
		if _, _, e := syscall.AllThreadsSyscall6(unix.SYS_PRCTL, unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0, 0); e != 0 {
			err = fmt.Errorf("giving up rights: %w", e)
		}
	}
	if errors.Is(err, syscall.ENOTSUP) {
		if a != nil {
			return errors.New("this program was built with C code and cannot change its user on all threads; build it with make")
		}
		return nil
	}
	return err
}
