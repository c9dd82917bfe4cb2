// Package exact runs a program in the emulator and counts what it executes: every instruction
// and every call, with the chain of calls that led to it, the same every time where the program
// is. The counting is done by a plugin in C (plugin), which leaves a file for each process
// (counts); Fold makes a profile of them.
//
// A run belongs to the goroutine that asks for it.
package exact

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"entelon/exact/counts"
	"entelon/symbol"
)

// Options say what is run, and with which streams.
type Options struct {
	Command        []string
	Dir            string   // "": this process's
	Env            []string // more variables, NAME=VALUE
	Stdin          io.Reader
	Stdout, Stderr io.Writer
	// Started is given what hands a signal to the command, once it runs; may be nil.
	Started func(signal func(int))
	// Apart has it run in a process group of its own, all of which gets the signals.
	Apart bool
	// Part is what of the run counts, and Finder finds its function.
	Part   Part
	Finder *symbol.Finder
	Memory Memory // what is counted of memory and branches
}

// Run is one run that has ended.
type Run struct {
	Processes []*counts.Counts // the command's first
	Code      int              // its exit code, as a shell has it
	Signal    string           // that ended it, "" for none
	Program   string           // the file that was run: of a script, its interpreter
	Asked     string           // the file that was asked for: a link to it, or a script
	Took      time.Duration
	Unread    int   // processes that were too many to be read
	MemoryB   int64 // the most that the emulator had of the first process, resident
}

// Once runs the command to its end.
func Once(o Options) (*Run, error) {
	path := o.Command[0]
	if strings.Contains(path, "/") {
		path = inFolder(o.Dir, path)
	}
	path, err := exec.LookPath(path)
	if err == nil {
		path, err = filepath.Abs(path)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: the command was not found", o.Command[0])
	}
	program, before, machine, err := check(path)
	if err != nil {
		return nil, err
	}
	tool, err := emulator(machine)
	if err != nil {
		return nil, err
	}
	// As the process's mappings have it, by which its own code is known.
	real, err := filepath.EvalSymlinks(program)
	if err != nil {
		real = program
	}
	folder, err := os.MkdirTemp("", "entelon-exact-*")
	if err != nil {
		return nil, fmt.Errorf("making a folder for what is counted: %w", err)
	}
	defer os.RemoveAll(folder)
	library := filepath.Join(folder, "plugin.so")
	if err := os.WriteFile(library, plugin, 0o500); err != nil {
		return nil, fmt.Errorf("putting the plugin in place: %w", err)
	}
	files := filepath.Join(folder, "counts")
	if err := os.Mkdir(files, 0o700); err != nil {
		return nil, fmt.Errorf("making a folder for what is counted: %w", err)
	}
	if err := o.Part.write(folder, real, o.Finder); err != nil {
		return nil, err
	}
	// An interpreter is called by its own name, a program as it was asked for.
	first := o.Command[0]
	if len(before) > 0 {
		first = program
	}
	args := append([]string{"-cpu", "max", "-0", first, "-plugin", library + ",folder=" + files + o.Memory.argument(), program}, before...)
	cmd := exec.Command(tool, append(args, o.Command[1:]...)...)
	cmd.Dir, cmd.Stdin, cmd.Stdout, cmd.Stderr = o.Dir, o.Stdin, o.Stdout, o.Stderr
	cmd.Env = append(os.Environ(), o.Env...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: o.Apart}
	began := time.Now()
	var over atomic.Bool
	defer over.Store(true)
	if err := startPlain(cmd); err != nil {
		return nil, fmt.Errorf("starting the emulator: %w", err)
	}
	if o.Started != nil {
		o.Started(func(n int) {
			if over.Load() {
				return // its number may be another's by now
			}
			if o.Apart {
				_ = syscall.Kill(-cmd.Process.Pid, syscall.Signal(n)) // they may have ended
				return
			}
			_ = cmd.Process.Signal(syscall.Signal(n)) // it may have ended
		})
	}
	err = cmd.Wait()
	var ended *exec.ExitError
	if err != nil && !errors.As(err, &ended) {
		return nil, fmt.Errorf("running the emulator: %w", err)
	}
	r := &Run{Program: real, Asked: path, Code: cmd.ProcessState.ExitCode(), Took: time.Since(began)}
	if u, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage); ok {
		r.MemoryB = u.Maxrss << 10
	}
	if st, ok := cmd.ProcessState.Sys().(syscall.WaitStatus); ok && st.Signaled() {
		r.Code, r.Signal = 128+int(st.Signal()), unix.SignalName(st.Signal())
	}
	if r.Processes, r.Unread, err = readAll(files, uint32(cmd.Process.Pid)); err != nil {
		return nil, err
	}
	return r, o.Part.made(r)
}

// inFolder is a path as a process in a folder has it; "" is the folder of this process.
func inFolder(folder, path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	// Of ./name alone, no slash is left by Join, and it would be looked for where commands are.
	if path, err := filepath.Abs(filepath.Join(folder, path)); err == nil {
		return path
	}
	return path
}

// startPlain starts a command whose addresses are not randomised, so that they are the same in
// each run.
func startPlain(cmd *exec.Cmd) error {
	const noRandom = 0x0040000 // ADDR_NO_RANDOMIZE
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	before, _, no := syscall.RawSyscall(syscall.SYS_PERSONALITY, 0xffffffff, 0, 0)
	if no == 0 {
		if _, _, no := syscall.RawSyscall(syscall.SYS_PERSONALITY, before|noRandom, 0, 0); no == 0 {
			defer syscall.RawSyscall(syscall.SYS_PERSONALITY, before, 0, 0)
		}
	}
	return cmd.Start()
}

// What is read of a run at most: processes, and what they counted, in bytes.
const (
	maxProcesses = 10_000
	maxRead      = 2 << 30
)

// readAll reads what the processes of a run left, that of the first one first, and what a process
// did in the programs that it executed one after the other; unread is how many were too many.
func readAll(folder string, first uint32) (out []*counts.Counts, unread int, err error) {
	list, err := os.ReadDir(folder)
	if err != nil {
		return nil, 0, fmt.Errorf("reading what was counted: %w", err)
	}
	if len(list) == 0 {
		return nil, 0, errors.New("the emulator counted nothing; its version may not take the plugin")
	}
	inOrder(list, first)
	left := int64(maxRead)
	for i, e := range list {
		if i == maxProcesses || left < 0 {
			return out, len(list) - i, nil
		}
		c, err := read(filepath.Join(folder, e.Name()))
		if err != nil {
			return nil, 0, fmt.Errorf("reading what was counted: %w", err)
		}
		left -= c.Size()
		out = append(out, c)
	}
	return out, 0, nil
}

// inOrder sorts files of counts, whose first one of a process has its number as its name, and the
// others that and their own.
func inOrder(list []os.DirEntry, first uint32) {
	number := func(e os.DirEntry) (pid, n uint64) {
		whose, which, _ := strings.Cut(e.Name(), ".")
		pid, _ = strconv.ParseUint(whose, 10, 32)
		n, _ = strconv.ParseUint(which, 10, 32)
		if pid == uint64(first) {
			pid = 0
		}
		return pid, n
	}
	slices.SortStableFunc(list, func(a, b os.DirEntry) int {
		p, i := number(a)
		q, j := number(b)
		return cmp.Or(cmp.Compare(p, q), cmp.Compare(i, j))
	})
}

func read(path string) (*counts.Counts, error) {
	// The program could have put anything there.
	f, err := os.OpenFile(path, os.O_RDONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if st, err := f.Stat(); err != nil || !st.Mode().IsRegular() {
		return nil, errors.Join(fmt.Errorf("%s is not a regular file any more", path), err)
	}
	return counts.Read(f)
}
