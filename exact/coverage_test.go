package exact

import (
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"entelon/core/callcounts"
	"entelon/core/calltree"
	"entelon/core/scope"
)

// covered is how often each line was executed, as the compiler's own instrumentation counts it.
func covered(t *testing.T, source string) map[uint32]int64 {
	t.Helper()
	dir := t.TempDir()
	full, err := filepath.Abs(filepath.Join("testdata", source))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range [][]string{{"gcc", "-O0", "-g", "--coverage", "-o", "program", full}, {"./program"}, {"gcov", "program-" + strings.TrimSuffix(source, ".c") + ".gcda"}} {
		cmd := exec.Command(c[0], c[1:]...)
		cmd.Dir = dir
		if b, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%v: %v: %s", c, err, b)
		}
	}
	b, err := os.ReadFile(filepath.Join(dir, source+".gcov"))
	if err != nil {
		t.Fatal(err)
	}
	out := map[uint32]int64{}
	for _, l := range strings.Split(string(b), "\n") {
		words := strings.SplitN(l, ":", 3)
		if len(words) < 3 {
			continue
		}
		line, err1 := strconv.ParseUint(strings.TrimSpace(words[1]), 10, 32)
		n, err2 := strconv.ParseInt(strings.TrimSuffix(strings.TrimSpace(words[0]), "*"), 10, 64)
		if err1 == nil && err2 == nil {
			out[uint32(line)] = n
		}
	}
	return out
}

// TestLinesAgreeWithCoverage: each line was executed as often as the compiler's own
// instrumentation says.
func TestLinesAgreeWithCoverage(t *testing.T) {
	const source = "lines.c"
	want := covered(t, source)
	p := run(t, built(t, "gcc", source, "-O0"), Memory{})
	tr := calltree.New(p)
	calls, executions := callcounts.CallColumns(p)
	counts := callcounts.In(tr, tr.Cost(calls, scope.Scope{}), tr.Cost(executions, scope.Scope{}))
	file := ""
	for f := range p.Functions {
		if name := p.Strings[p.Functions[f].File]; filepath.Base(name) == source {
			file = name
		}
	}
	got := counts.Lines(file)
	if len(want) < 20 {
		t.Fatalf("%d lines were covered", len(want))
	}
	agree := 0
	for line, n := range want {
		switch x, has := got[line]; {
		case !has: // a label, or a head whose instructions are of the line with its brace
		case x.Executed != n:
			t.Errorf("line %d was executed %d times; the compiler counts %d", line, x.Executed, n)
		default:
			agree++
		}
	}
	if agree < len(want)-6 {
		t.Errorf("only %d of %d lines have instructions", agree, len(want))
	}
}
