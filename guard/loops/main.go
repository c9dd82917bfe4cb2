// Command loops runs one of Entelon's own hot loops on the same input each time, to be counted by
// an exact run.
package main

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"

	"entelon/codec/take"
	"entelon/core/calltree"
	"entelon/core/invent"
	"entelon/core/profile"
	"entelon/core/scope"
	"entelon/resolve/replay"
)

// input is the made-up take that trees are built of.
func input() *profile.Take {
	return invent.Take(1, invent.Shape{Functions: 500, Threads: 2, Stacks: 5_000, Samples: 60_000, Depth: 30})
}

// tree builds a tree, adds up its costs, and tells the hot functions.
func tree(string) error {
	t := calltree.New(input().Profile)
	sc, err := scope.Parse("not idle")
	if err != nil {
		return err
	}
	for range 4 {
		c := t.Cost(0, sc)
		if len(calltree.Functions(t, c)) == 0 {
			return fmt.Errorf("no function has a cost")
		}
		calltree.SpreadPoint(t, c, 0.5)
	}
	return nil
}

// walk resolves recorded samples of compiled and interpreted programs, stacks walked included.
func walk(root string) error {
	paths, err := filepath.Glob(filepath.Join(root, "resolve/replay/testdata/*.json.zst"))
	if err != nil || len(paths) < 10 {
		return fmt.Errorf("%d recordings: %w", len(paths), err)
	}
	for _, path := range paths {
		r, err := replay.Read(path)
		if err != nil {
			return err
		}
		for range 3 {
			var facts profile.Facts
			r.Play(&facts, nil)
		}
	}
	return nil
}

// read reads a take and writes it.
func read(root string) error {
	data, err := os.ReadFile(filepath.Join(root, "demo/takes/engraved-3.5.0-1.take"))
	if err != nil {
		return err
	}
	var t *profile.Take
	for range 10 {
		if t, err = take.Read(bytes.NewReader(data), "a take", take.Options{}); err != nil {
			return err
		}
	}
	var b bytes.Buffer
	return take.Write(&b, t)
}

func main() {
	loops := map[string]func(root string) error{"tree": tree, "walk": walk, "read": read}
	if len(os.Args) != 3 || loops[os.Args[1]] == nil {
		fmt.Fprintln(os.Stderr, "loops tree|walk|read FOLDER-OF-THE-REPOSITORY")
		os.Exit(2)
	}
	if err := loops[os.Args[1]](os.Args[2]); err != nil {
		fmt.Fprintln(os.Stderr, "loops:", err)
		os.Exit(1)
	}
}
