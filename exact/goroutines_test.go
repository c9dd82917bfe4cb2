package exact

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// TestGoroutines: each call stands under the goroutine that made it, however their stacks were
// moved and whoever went on in between, on one thread and on several; of programs for both processors.
func TestGoroutines(t *testing.T) {
	for _, processor := range []string{"amd64", "arm64"} {
		t.Run(processor, func(t *testing.T) { goroutines(t, processor) })
	}
}

func goroutines(t *testing.T, processor string) {
	program := filepath.Join(t.TempDir(), "goroutines")
	build := exec.Command("go", "build", "-o", program, "testdata/goroutines.go")
	build.Env = append(os.Environ(), "GOARCH="+processor, "CGO_ENABLED=0")
	if b, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, b)
	}
	for _, env := range [][]string{{"GOMAXPROCS=1", "GODEBUG=asyncpreemptoff=1"}, {"GOMAXPROCS=4", "GODEBUG=asyncpreemptoff=1"}, {"GOMAXPROCS=2", "GOGC=5"}} {
		var out bytes.Buffer
		r, err := Once(Options{Command: []string{program}, Env: env, Stdout: &out})
		if err != nil || r.Code != 0 {
			t.Fatalf("%v, %+v", err, r)
		}
		want, err := strconv.ParseInt(strings.TrimSpace(out.String()), 10, 64)
		if err != nil {
			t.Fatal(err)
		}
		p := Profile(filepath.Base, r.Processes, Memory{}, opened(t))
		var calls, lost, all int64
		for i, s := range p.Samples.Stack {
			if p.FunctionName(p.FunctionOf(s)) != "main.leaf" {
				continue
			}
			calls += p.Samples.Values[1][i]
			all += p.Samples.Values[0][i]
			root := ""
			for at := s; at != 0; at = p.Stacks.Parent[at] {
				if name := p.FunctionName(p.FunctionOf(at)); strings.HasPrefix(name, "main.worker") || strings.HasPrefix(name, "main.deep.func1") || name == "main.deep.gowrap1" {
					root = name
				}
			}
			if root == "" {
				lost += p.Samples.Values[0][i]
			}
		}
		if calls != want {
			t.Errorf("%v: %d calls of leaf, and the program made %d", env, calls, want)
		}
		// One that is interrupted by a signal goes on where nothing tells.
		most := int64(0)
		if env[1] == "GOGC=5" {
			most = all / 50
		}
		if lost > most || all == 0 {
			t.Errorf("%v: %d of %d instructions of leaf stand under nobody; %d stacks went on of which nothing was known", env, lost, all, r.Processes[0].Broken)
		}
	}
}
