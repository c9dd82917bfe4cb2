package unwind

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"entelon/core/profile"
	"entelon/symbol"
	"entelon/symbol/instructions"
)

// opened opens a file of code.
func opened(t *testing.T, path string) *symbol.Object {
	t.Helper()
	f, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	o, err := symbol.OpenObject(f, path, profile.KindOwn, nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := o.Close(); err != nil {
			t.Error(err)
		}
	})
	return o
}

// TestInstructionsAgreeWithTables holds what instructions say of the stack against the
// tables that the compiler has written for the very same code.
func TestInstructionsAgreeWithTables(t *testing.T) {
	const source = `
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
struct note { int pitch, length; struct note *next; };
static int compare(const void *a, const void *b) { return *(const int *)a - *(const int *)b; }
__attribute__((noinline)) static int slur(struct note *n, int depth) {
	char line[300];
	if (!n || depth > 40) return depth;
	snprintf(line, sizeof line, "%d %d", n->pitch, depth);
	switch (n->pitch % 9) {
	case 0: return slur(n->next, depth + 1) + strlen(line);
	case 1: puts(line); break;
	case 2: { int v[n->length + 1]; for (int i = 0; i <= n->length; i++) v[i] = line[i % 9]; qsort(v, n->length, sizeof *v, compare); return v[0] + slur(n->next, depth + 2); }
	case 3: abort();
	case 4: return slur(n->next, depth);
	case 5: for (int i = 0; i < n->length; i++) depth += line[i]; break;
	case 6: fprintf(stderr, "%s", line); exit(depth);
	default: free(n->next);
	}
	return slur(n->next, depth + line[1]);
}
int main(int n, char **v) {
	struct note *first = 0;
	for (int i = 0; i < n * 10; i++) { struct note *x = malloc(sizeof *x); x->pitch = i; x->length = n; x->next = first; first = x; }
	return slur(first, 0);
}
`
	dir := t.TempDir()
	c := filepath.Join(dir, "s.c")
	if err := os.WriteFile(c, []byte(source), 0o644); err != nil {
		t.Fatal(err)
	}
	libc, err := filepath.EvalSymlinks("/lib/x86_64-linux-gnu/libc.so.6")
	if err != nil {
		t.Fatal(err)
	}
	files := map[string]string{"the C library": libc}
	for _, o := range []string{"-O1", "-O2", "-Os"} {
		out := filepath.Join(dir, "s"+o)
		if b, err := exec.Command("cc", o, "-fomit-frame-pointer", "-o", out, c).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, b)
		}
		files["a program "+o] = out
	}
	for name, path := range files {
		o := opened(t, path)
		table, err := CompileObject(o)
		if err != nil {
			t.Fatal(err)
		}
		code := o.Instructions()
		if code == nil {
			t.Fatalf("%s has no code", name)
		}
		var right, wrong, unknown int
		var example uint64
		for _, start := range code.Beginnings() {
			// What is jumped to with a frame that is open is a part of a function that
			// begins elsewhere, and says nothing by itself.
			if r := table.find(start); r == nil || r.cfa != cfaRegister || r.register != RSP || r.offset != 8 {
				continue
			}
			for i, pc := range code.Reached(start) {
				if name == "the C library" && i%12 != 5 {
					continue // of so much, a part is enough
				}
				if begin, _ := code.Begins(pc); begin != start {
					continue // of another function, behind a jump or a call that does not return
				}
				r := table.find(pc)
				if r == nil || r.cfa != cfaRegister || r.register != RSP || r.ra != -8 {
					continue
				}
				want := int64(r.offset) - 8
				if _, ok := code.At(pc, func(f instructions.Frame) bool { return f.Base == RSP && f.Return == want }); ok {
					right++
					continue
				}
				if _, ok := code.At(pc, func(instructions.Frame) bool { return true }); ok {
					wrong++
					example = pc
				} else {
					unknown++
				}
			}
			if right+wrong+unknown > 4000 {
				break // of a large library, enough
			}
		}
		t.Logf("%s: %d right, %d wrong, such as at 0x%x, %d not known", name, right, wrong, example, unknown)
		if right < 30 || float64(right) < 0.995*float64(right+wrong+unknown) {
			t.Errorf("%s: %d right, %d wrong, such as at 0x%x, %d not known", name, right, wrong, example, unknown)
		}
	}
}
