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
	ErrProgram    = errors.New("exact runs are of 64-bit programs for x86-64")
	ErrRights     = errors.New("it runs with the rights of its file's owner, which an emulator cannot give it")
)

const emulatorName = "qemu-x86_64"

// emulator finds the emulator.
func emulator() (string, error) {
	path, err := exec.LookPath(emulatorName)
	if err != nil {
		return "", ErrNoEmulator
	}
	return path, nil
}

// check refuses what the emulator would not run as the system does. Of a script, it is the
// interpreter that is run.
func check(path string) (program string, before []string, err error) {
	for range 4 {
		st, err := os.Stat(path)
		if err != nil {
			return "", nil, err
		}
		if st.Mode()&(os.ModeSetuid|os.ModeSetgid) != 0 {
			return "", nil, fmt.Errorf("%s: %w", path, ErrRights)
		}
		interpreter, argument, isScript, err := scriptOf(path)
		if err != nil {
			return "", nil, err
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
		return "", nil, fmt.Errorf("%s: %w", path, ErrProgram)
	}
	defer f.Close()
	if f.Machine != elf.EM_X86_64 || f.Class != elf.ELFCLASS64 || f.Type != elf.ET_EXEC && f.Type != elf.ET_DYN {
		return "", nil, fmt.Errorf("%s: %w; this one is for %s", path, ErrProgram, strings.TrimPrefix(f.Machine.String(), "EM_"))
	}
	return path, before, nil
}

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
