package launch

import (
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"runtime"
	"syscall"

	"golang.org/x/sys/unix"
)

// The launcher is a process that waits until its events are in place and then becomes
// the command. So the command is sampled from its very first instruction, is never
// stopped, and keeps what it is given: streams, directory, environment, group, terminal.
//
// It is a program of a few hundred bytes of its own (programs/launcher.c), which begins
// at once; where there is none for the processor, or files in memory may not be
// executed, it is this program itself, with launchWord as its first argument.
const launchWord = "__launch"

// The launcher's extra files.
const (
	launchGo    = 3 // a byte here means: become the command
	launchError = 4 // why that failed, an int; closed without a word when it worked
	launchSelf  = 5 // the launcher's own file
)

// init becomes the command if this process was started to do so: before anything else
// of this program, whichever program that is, so that none starts itself instead.
func init() {
	if !isLauncher() {
		return
	}
	runtime.LockOSThread() // the events are on the first thread; it must be the one that becomes the command
	become()
}

func isLauncher() bool { return len(os.Args) > 3 && os.Args[1] == launchWord }

// become waits for the word to go, and becomes the command. It does not return.
func become() {
	syscall.CloseOnExec(launchGo)
	syscall.CloseOnExec(launchError)
	syscall.CloseOnExec(launchSelf)
	var b [1]byte
	if n, err := syscall.Read(launchGo, b[:]); n != 1 || err != nil {
		os.Exit(127) // whoever started us has gone
	}
	err := syscall.Exec(os.Args[2], os.Args[3:], os.Environ())
	var number syscall.Errno
	errors.As(err, &number)
	// If this cannot be reported either, the exit code still tells.
	_, _ = syscall.Write(launchError, binary.NativeEndian.AppendUint32(nil, uint32(number)))
	os.Exit(127)
}

// whyNot reads what a launcher wrote of why it could not become the command.
func whyNot(b []byte) error {
	if len(b) != 4 {
		return fmt.Errorf("the launcher ended after %d bytes of a reason", len(b))
	}
	return syscall.Errno(binary.NativeEndian.Uint32(b))
}

// openLauncher opens the launcher's file.
func openLauncher() (*os.File, error) {
	if f, err := inMemory(launcher); err == nil {
		return f, nil
	}
	f, err := os.Open("/proc/self/exe")
	if err != nil {
		return nil, fmt.Errorf("finding this program's own file: %w", err)
	}
	return f, nil
}

// inMemory makes a file in memory that may be executed.
func inMemory(program []byte) (*os.File, error) {
	if len(program) == 0 {
		return nil, errors.ErrUnsupported
	}
	const executable = 0x10 // MFD_EXEC, since Linux 6.3
	fd, err := unix.MemfdCreate("entelon", unix.MFD_CLOEXEC|executable)
	if errors.Is(err, unix.EINVAL) {
		fd, err = unix.MemfdCreate("entelon", unix.MFD_CLOEXEC)
	}
	if err != nil {
		return nil, err
	}
	f := os.NewFile(uintptr(fd), "launcher")
	_, err = f.Write(program)
	if err == nil {
		err = unix.Fchmod(fd, 0o755)
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	// What is open for writing cannot be executed.
	out, err := os.Open(fmt.Sprintf("/proc/self/fd/%d", fd))
	return out, errors.Join(err, f.Close())
}
