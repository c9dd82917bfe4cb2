package callgraph_test

import (
	"fmt"
	"runtime"
	"strings"
	"testing"

	"entelon/core/callgraph"
	"entelon/core/calltree"
	"entelon/core/invent"
	"entelon/core/parallel"
	"entelon/core/scope"
)

// TestSharedAmongProcessorsItIsTheSame: what several processors come to in pieces
// is what one comes to alone.
func TestSharedAmongProcessorsItIsTheSame(t *testing.T) {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(0))
	p := invent.Profile(3, invent.Shape{Functions: 300, Threads: 5, Stacks: parallel.Worth + 20_000, Samples: 300_000, Depth: 24})
	var first string
	for i, processors := range []int{1, 4} {
		runtime.GOMAXPROCS(processors)
		tr := calltree.New(p)
		var got strings.Builder
		for _, text := range []string{"", "function is fn7", "code is own and thread is 101", "path is fn1 > fn2", "label page is 2"} {
			sc, err := scope.Parse(text)
			if err != nil {
				t.Fatal(err)
			}
			c := tr.Cost(0, sc)
			rows := calltree.Functions(tr, c)
			fmt.Fprintln(&got, text, rows, calltree.Search(tr, c, 0, "fn1"), callgraph.Leaves(tr, c, nil)[:20])
			for _, r := range rows[:3] {
				fmt.Fprintln(&got, callgraph.Around(tr, c, r.Function, 3, 5))
			}
		}
		if i == 0 {
			first = got.String()
		} else if first != got.String() || len(first) < 10_000 {
			t.Errorf("on %d processors it comes to something else, or to nothing: %d bytes", processors, len(first))
		}
	}
}
