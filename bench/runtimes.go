package main

import (
	"bytes"
	"fmt"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"

	"entelon/codec/take"
)

// interpreter is the Python that is measured: Debian's own.
const interpreter = "/usr/bin/python3"

// runtimes measures what sampling costs a program in Python, and for how long
// it stops it.
func runtimes(b *bytes.Buffer, dir string, pairs int, _ string) error {
	version, err := exec.Command(interpreter, "-c", "import platform; print(platform.python_version())").Output()
	if err != nil {
		return fmt.Errorf("%s: %w", interpreter, err)
	}
	fmt.Fprintf(b, "## What sampling costs a program in Python\n\nCPython %s, one thread, 30 Python functions deep, each of which is read with every sample. It does the same work again and again for four seconds, and what it took at most for the fastest tenth is compared: the other times show what else the machine did. Addresses are not randomised, since where its objects lie makes one run of the interpreter up to 3 %% faster than the next.\n\n", strings.TrimSpace(string(version)))
	if err := costs(b, dir, pairs, []rate{{99, "1 %"}, {997, "4 %"}}, "/usr/bin/env", "PYTHONHASHSEED=0", "/usr/bin/setarch", "-R", interpreter, "bench/testdata/work.py", "4"); err != nil {
		return err
	}
	return stops(b, dir)
}

// stops has the program itself look for how long it is stopped. The longest
// stops of the sampled run, as many as there are samples, are those that
// sampling makes, together with what the machine does anyway.
func stops(b *bytes.Buffer, dir string) error {
	const seconds, hz = "4", 997
	file := filepath.Join(dir, "x.take")
	longest := func(n int, command ...string) (spread, error) {
		out, err := exec.Command(command[0], append(command[1:], "bench/testdata/stops.py", seconds, strconv.Itoa(n))...).Output()
		if err != nil {
			return nil, fmt.Errorf("%s: %w", command[0], err)
		}
		s, err := figures(out)
		if err != nil {
			return nil, err
		}
		return s.sorted(), nil
	}
	bare, err := longest(100, interpreter)
	if err != nil {
		return err
	}
	sampled, err := longest(4*hz, "bin/entelon", "take", "--rate", strconv.Itoa(hz), "--out", file, "--", interpreter)
	if err != nil {
		return err
	}
	t, err := take.ReadFile(file, take.Options{})
	if err != nil {
		return err
	}
	n := int(t.Facts.Samples)
	if n < len(sampled) {
		sampled = sampled[len(sampled)-n:]
	}
	at := func(s spread, share float64) float64 { return s[min(len(s)-1, int(share*float64(len(s))))] }
	over := 0
	for _, v := range sampled {
		if v > 100 {
			over++
		}
	}
	fmt.Fprintf(b, "How long the program is stopped at %d a second, by its own look at the clock: the %d longest stops of %s s with %d samples have a median of %.1f µs, and 99 %% of them are below %.1f µs; %d are longer than 100 µs (target: none). Without sampling the program has in the same time %d stops of over 100 µs, which the machine makes.\n\n",
		hz, len(sampled), seconds, n, at(sampled, 0.5), at(sampled, 0.99), over, above(bare, 100))
	return nil
}

func above(s spread, limit float64) int {
	n := 0
	for _, v := range s {
		if v > limit {
			n++
		}
	}
	return n
}
