package runtimes

import (
	"bufio"
	"entelon/symbol/elfimage"
	"os/exec"
	"path/filepath"
	"strings"
)

// InterpreterOf returns the program that the system runs for an executable:
// itself, or what the first line of a script names.
func InterpreterOf(path string) string {
	const depth = 4 // as the kernel has it, for scripts that name scripts
	for range depth {
		next := Shebang(path)
		if next == "" {
			break
		}
		path = next
	}
	return path
}

// Shebang returns the program that a script's first line names, "" where it names none
// that is there.
func Shebang(path string) string {
	program, _ := firstLine(path)
	return program
}

// firstLine returns the program that a script's first line names, and whether it names
// nothing else.
func firstLine(path string) (program string, alone bool) {
	f, err := elfimage.OpenRegular(path)
	if err != nil {
		return "", false
	}
	defer f.Close()
	line, err := bufio.NewReaderSize(f, 256).ReadSlice('\n')
	words := strings.Fields(strings.TrimPrefix(string(line), "#!"))
	if err != nil || !strings.HasPrefix(string(line), "#!") || len(words) == 0 {
		return "", false
	}
	if filepath.Base(words[0]) != "env" {
		return words[0], len(words) == 1
	}
	for i, w := range words[1:] {
		if strings.HasPrefix(w, "-") || strings.Contains(w, "=") {
			continue
		}
		if found, err := exec.LookPath(w); err == nil {
			return found, i == 0 && len(words) == 2
		}
		return "", false
	}
	return "", false
}
