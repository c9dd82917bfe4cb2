package runtimes

import (
	"bufio"
	"os/exec"
	"path/filepath"
	"strings"

	"entelon/symbol"
)

// interpreterOf returns the program that the system runs for an executable:
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

func Shebang(path string) string {
	f, err := symbol.OpenRegular(path)
	if err != nil {
		return ""
	}
	defer f.Close()
	line, err := bufio.NewReaderSize(f, 256).ReadSlice('\n')
	words := strings.Fields(strings.TrimPrefix(string(line), "#!"))
	if err != nil || !strings.HasPrefix(string(line), "#!") || len(words) == 0 {
		return ""
	}
	if filepath.Base(words[0]) != "env" {
		return words[0]
	}
	for _, w := range words[1:] {
		if strings.HasPrefix(w, "-") || strings.Contains(w, "=") {
			continue
		}
		if found, err := exec.LookPath(w); err == nil {
			return found
		}
		return ""
	}
	return ""
}
