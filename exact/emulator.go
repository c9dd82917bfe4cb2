package exact

import (
	"debug/elf"
	_ "embed"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// plugin is what plugin/*.c becomes; make generate builds it.
//
//go:embed plugin/exact.so
var plugin []byte

// Errors of programs that cannot be run exactly.
var (
	ErrNoEmulator = errors.New("there is no emulator here; install it with: apt-get install qemu-user")
	ErrProgram    = errors.New("exact runs are of 64-bit programs for x86-64 and arm64")
	ErrLibraries  = errors.New("it needs the libraries of its processor, which are not here; link it statically")
	ErrRights     = errors.New("it runs with the rights of its file's owner, which an emulator cannot give it")
)

// emulators are the names of those that are known, by the processors whose programs they run.
var emulators = map[elf.Machine]string{elf.EM_X86_64: "qemu-x86_64", elf.EM_AARCH64: "qemu-aarch64"}

// emulator finds the emulator for a processor.
func emulator(machine elf.Machine) (string, error) {
	path, err := exec.LookPath(emulators[machine])
	if err != nil {
		return "", ErrNoEmulator
	}
	return path, nil
}

// check refuses what the emulator would not run as the system does. Of a script, it is the
// interpreter that is run.
func check(path string) (program string, before []string, machine elf.Machine, err error) {
	for range 4 {
		st, err := os.Stat(path)
		if err != nil {
			return "", nil, 0, err
		}
		if st.Mode()&(os.ModeSetuid|os.ModeSetgid) != 0 {
			return "", nil, 0, fmt.Errorf("%s: %w", path, ErrRights)
		}
		interpreter, argument, isScript, err := scriptOf(path)
		if err != nil {
			return "", nil, 0, err
		}
		if !isScript {
			break
		}
		words := []string{path}
		if argument != "" {
			words = []string{argument, path}
		}
		before, path = append(words, before...), interpreter
	}
	f, err := elf.Open(path)
	if err != nil {
		return "", nil, 0, fmt.Errorf("%s: %w", path, ErrProgram)
	}
	defer f.Close()
	if emulators[f.Machine] == "" || f.Class != elf.ELFCLASS64 || f.Type != elf.ET_EXEC && f.Type != elf.ET_DYN {
		return "", nil, 0, fmt.Errorf("%s: %w; this one is for %s", path, ErrProgram, strings.TrimPrefix(f.Machine.String(), "EM_"))
	}
	if f.Machine != own {
		for _, p := range f.Progs {
			if p.Type != elf.PT_INTERP {
				continue
			}
			b := make([]byte, min(p.Filesz, 4096))
			if _, err := p.ReadAt(b, 0); err != nil {
				return "", nil, 0, fmt.Errorf("%s: %w", path, ErrProgram)
			}
			if _, err := os.Stat(strings.TrimRight(string(b), "\x00")); err != nil {
				return "", nil, 0, fmt.Errorf("%s: %w", path, ErrLibraries)
			}
		}
	}
	return path, before, f.Machine, nil
}

// own is the processor whose libraries are here.
const own = elf.EM_X86_64

// scriptOf reads which interpreter a script names, with its one argument.
func scriptOf(path string) (interpreter, argument string, ok bool, err error) {
	f, err := os.Open(path)
	if err != nil {
		return "", "", false, err
	}
	defer f.Close()
	head := make([]byte, 256)
	n, err := f.Read(head)
	if err != nil || n < 2 || string(head[:2]) != "#!" {
		return "", "", false, nil // what it is, its reader says
	}
	line, _, _ := strings.Cut(string(head[2:n]), "\n")
	line = strings.TrimSpace(line)
	end := strings.IndexAny(line, " \t")
	if end < 0 {
		end = len(line)
	}
	interpreter, argument = line[:end], strings.TrimSpace(line[end:])
	return interpreter, argument, filepath.IsAbs(interpreter), nil
}
