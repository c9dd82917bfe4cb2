package main

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"entelon/core/profile"
	"entelon/symbol"
)

// The program with much debug information: units of C++ code that is the same
// but for its names, linked together.
const (
	nameUnits     = 28
	nameFunctions = 9000
)

// names measures how soon a program with 200 MB of debug information has its
// first names.
func names(b *bytes.Buffer, dir string, _ int, _ string) error {
	program, err := largeProgram(dir)
	if err != nil {
		return err
	}
	st, err := os.Stat(program)
	if err != nil {
		return err
	}
	addrs, err := addresses(program)
	if err != nil {
		return err
	}
	var first, hundred spread
	inlined := 0
	for range 7 {
		begin := time.Now()
		f, err := os.Open(program)
		if err != nil {
			return err
		}
		o, err := symbol.OpenObject(f, program, profile.KindOwn, nil)
		if err != nil {
			return err
		}
		l := o.Locate(addrs[0])
		first = append(first, time.Since(begin).Seconds())
		if len(l) == 0 || l[len(l)-1].File == "" || o.Fault != nil {
			return fmt.Errorf("the first address is %+v, %v", l, o.Fault)
		}
		inlined = 0
		for _, a := range addrs {
			inlined += len(o.Locate(a)) - 1
		}
		hundred = append(hundred, time.Since(begin).Seconds())
		if err := o.Close(); err != nil {
			return err
		}
	}
	fmt.Fprintf(b, `## Names of a large program

A program of %d MB, nearly all of it debug information, in %d units. The file is in memory, nothing of it is in the symbol cache.

| what | s | target |
|---|---|---|
| from opening the file to the first address with function, file and line | %s | at most 1 |
| to %d addresses, spread over all units, with %d inlined frames | %s | |

`, st.Size()>>20, nameUnits, first.text("%.2f"), len(addrs), inlined, hundred.text("%.2f"))
	return nil
}

// largeProgram builds the program: one unit is compiled, and linked many times
// with other names.
func largeProgram(dir string) (string, error) {
	var s strings.Builder
	s.WriteString("namespace ink {\n")
	for i := range nameFunctions {
		fmt.Fprintf(&s, `struct Glyph%[1]d { int width, height; double slant; Glyph%[1]d *next; };
static inline __attribute__((always_inline)) double bend%[1]d(const Glyph%[1]d &g, double x) { double wide = g.width * x; return wide + g.slant; }
__attribute__((noinline)) double draw%[1]d(Glyph%[1]d *g, double at, int times) { double sum = at; for (int i = 0; i < times; i++) { double part = bend%[1]d(*g, sum); sum += part * %[1]d; } return sum; }
`, i)
	}
	s.WriteString("}\nextern \"C\" void *use(int i) { return i ? (void *)ink::draw0 : (void *)ink::draw1; }\n")
	source, object := filepath.Join(dir, "glyphs.cc"), filepath.Join(dir, "glyphs.o")
	if err := os.WriteFile(source, []byte(s.String()), 0o644); err != nil {
		return "", err
	}
	main := "#include <cstdio>\n"
	calls := ""
	for i := range nameUnits {
		main += fmt.Sprintf("extern \"C\" void *u%d_use(int);\n", i)
		calls += fmt.Sprintf("p += u%d_use(c) != nullptr; ", i)
	}
	main += "int main(int c, char **) { int p = 0; " + calls + "std::printf(\"%d\\n\", p); }\n"
	mainSource, program := filepath.Join(dir, "main.cc"), filepath.Join(dir, "large")
	if err := os.WriteFile(mainSource, []byte(main), 0o644); err != nil {
		return "", err
	}
	run := func(name string, args ...string) error {
		if text, err := exec.Command(name, args...).CombinedOutput(); err != nil {
			return fmt.Errorf("%s: %w: %s", name, err, text)
		}
		return nil
	}
	if err := run("g++", "-O1", "-g3", "-fno-exceptions", "-c", "-o", object, source); err != nil {
		return "", err
	}
	link := []string{"-O1", "-g", "-no-pie", "-o", program, mainSource}
	for i := range nameUnits {
		unit := filepath.Join(dir, fmt.Sprintf("unit%d.o", i))
		if err := run("objcopy", fmt.Sprintf("--prefix-symbols=u%d_", i), object, unit); err != nil {
			return "", err
		}
		link = append(link, unit)
	}
	return program, run("g++", link...)
}

// addresses returns a hundred addresses of functions, spread over the program.
func addresses(program string) ([]uint64, error) {
	out, err := exec.Command("nm", program).Output()
	if err != nil {
		return nil, fmt.Errorf("nm: %w", err)
	}
	var all []uint64
	for line := range strings.Lines(string(out)) {
		var addr uint64
		var typ, name string
		if n, err := fmt.Sscanf(line, "%x %s %s", &addr, &typ, &name); n == 3 && err == nil && typ == "T" && strings.Contains(name, "draw") {
			all = append(all, addr+12)
		}
	}
	var some []uint64
	for i := range 100 {
		some = append(some, all[i*len(all)/100])
	}
	return some, nil
}
