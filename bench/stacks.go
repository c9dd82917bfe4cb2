package main

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"entelon/core/profile"
	"entelon/symbol"
	"entelon/unwind"
)

// tables compiles the call-frame information of programs that are here and
// compares its size.
func tables(b *bytes.Buffer, _ string, _ int, _ string) error {
	fmt.Fprint(b, "## Call-frame tables\n\nFive compilations each. The benchmark of the walk, 30 frames deep, is under inner loops (target 200 000 stacks a second).\n\n")
	fmt.Fprint(b, "| module | call-frame information, KB | table, KB | of it, % | rows | compiled in, ms |\n|---|---|---|---|---|---|\n")
	files := []string{"/lib/x86_64-linux-gnu/libc.so.6", "/usr/lib/x86_64-linux-gnu/libstdc++.so.6", "/usr/bin/node", "/usr/lib/chromium/chromium", "bin/entelon"}
	for _, path := range files {
		f, err := os.Open(path)
		if err != nil {
			fmt.Fprintf(b, "| %s | not here | | | | |\n", filepath.Base(path))
			continue
		}
		o, err := symbol.OpenObject(f, path, profile.KindLibrary, nil)
		if err != nil {
			return err
		}
		var took spread
		var t *unwind.Table
		for range 5 {
			begin := time.Now()
			if t, err = unwind.CompileObject(o); err != nil {
				return err
			}
			took = append(took, float64(time.Since(begin).Microseconds())/1000)
		}
		source, of := fmt.Sprintf("%.0f", float64(t.Source)/1024), fmt.Sprintf("%.0f", 100*float64(t.Size())/float64(max(1, t.Source)))
		if o.HasGoSection() {
			source, of = source+" and Go's own tables", "–"
		}
		fmt.Fprintf(b, "| %s | %s | %.0f | %s | %d | %s |\n", filepath.Base(path), source, float64(t.Size())/1024, of, t.Rows, took.text("%.1f"))
		if err := o.Close(); err != nil {
			return err
		}
	}
	fmt.Fprintln(b)
	return nil
}
