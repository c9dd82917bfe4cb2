package store_test

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"entelon/core/invent"
	"entelon/core/measure"
	"entelon/core/profile"
)

// TestManyMeasures: a small file with very many measures, or with very long names, is
// refused or kept within the same room as any other.
func TestManyMeasures(t *testing.T) {
	with := func(n, functions int, name string) []byte {
		tk := invent.Take(8, invent.Small)
		b := profile.NewBuilder()
		for i := range n {
			b.Column(measure.Column{Name: fmt.Sprint(name, i), Unit: "count"})
		}
		th := b.Thread(b.Process(1), 1)
		values := make([]int64, n)
		for i := range values {
			values[i] = 1
		}
		for f := range functions {
			fn := b.Function(profile.Function{Name: b.Intern(fmt.Sprint("fn", f)), Kind: profile.KindOwn})
			b.Sample(int64(f), th, b.Push(0, b.Frame(profile.Frame{Function: fn})), values...)
		}
		tk.Settings.Program, tk.Profile = "many measures", b.Profile()
		return encoded(t, tk)
	}
	for what, b := range map[string][]byte{"too many": with(10_000, 1, "m"), "too long": with(1, 1, strings.Repeat("x", 1<<20))} {
		if _, _, err := st.Add(ctx, bytes.NewReader(b), "x.take", limit); err == nil || !strings.Contains(err.Error(), "measure") {
			t.Errorf("%s: %v", what, err)
		}
	}
	before, err := st.Exact(ctx, "function_figures")
	if err != nil {
		t.Fatal(err)
	}
	got := add(t, with(150, 3000, strings.Repeat("long ", 2000)))
	after, err := st.Exact(ctx, "function_figures")
	if err != nil || after-before > 60_000 {
		t.Errorf("a file of %d bytes gave %d figures, %v", got.Size, after-before, err)
	}
	ms, err := st.LedgerMeasures(ctx, "many measures", 0)
	if err != nil || len(ms) == 0 || len(ms[0].Name) > 1100 {
		t.Errorf("%d measures, %v", len(ms), err)
	}
}
