package truth

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"
)

type counted struct {
	Functions []struct {
		Name    string
		Calls   int64
		Callers []struct {
			Name  string
			Calls int64
		}
	}
	Calls    int64
	Slowdown float64
	Warnings []struct{ Code string }
}

// countOf runs entelon count and returns what it counted and what the command
// printed.
func countOf(t *testing.T, entelon string, args ...string) (c counted, printed string) {
	t.Helper()
	cmd := exec.Command(entelon, append([]string{"count", "--json"}, args...)...)
	var out, says bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &says
	if err := cmd.Run(); err != nil {
		t.Fatalf("%v: %s", err, says.String())
	}
	if err := json.Unmarshal(out.Bytes(), &c); err != nil {
		t.Fatalf("%v: %s", err, out.String())
	}
	return c, says.String()
}

func (c counted) of(name string) (calls int64, by map[string]int64) {
	by = map[string]int64{}
	for _, f := range c.Functions {
		if f.Name == name {
			calls = f.Calls
			for _, x := range f.Callers {
				by[x.Name] += x.Calls
			}
		}
	}
	return calls, by
}

// TestCounts: exact counts equal the program's own, with their callers: in
// threads and child processes, in a Go program whose stacks move while they
// grow, attached to with many threads, and up to a number of calls.
func TestCounts(t *testing.T) {
	entelon := builtEntelon(t)
	plates := built(t, "plates", "-pthread")
	c, _ := countOf(t, entelon, "--function", "copper", "--function", "malloc", "--", plates)
	if n, by := c.of("copper"); n != 5 || by["main"] != 4 || by["work"] != 1 {
		t.Errorf("copper: %d calls, %v", n, by)
	}
	if n, by := c.of("malloc"); by["copper"] != 1000+700+3*250 || n < by["copper"] {
		t.Errorf("malloc: %d calls, %v", n, by)
	}
	if c.Slowdown <= 0 {
		t.Error("counting is said to cost nothing")
	}

	tower := filepath.Join(t.TempDir(), "tower")
	if err := run("go", "build", "-o", tower, "./truth/programs/tower"); err != nil {
		t.Fatal(err)
	}
	own := func(printed string) int64 {
		t.Helper()
		lines := strings.Fields(strings.TrimSpace(printed))
		n, err := strconv.ParseInt(lines[len(lines)-1], 10, 64)
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	c, printed := countOf(t, entelon, "--function", "main.climb", "--function", "main.rest", "--", tower, "40")
	want := own(printed)
	if n, by := c.of("main.climb"); n != want || by["main.climb"] != want-40 || by["main.main.func1"] != 40 {
		t.Errorf("climb: %d calls, %v; the program made %d", n, by, want)
	}
	if n, by := c.of("main.rest"); n != 1 || by["main.main"] != 1 {
		t.Errorf("rest: %d calls, %v", n, by)
	}

	c, _ = countOf(t, entelon, "--function", "main.climb", "--calls", "777", "--", tower, "40")
	if n, _ := c.of("main.climb"); n != 777 {
		t.Errorf("%d calls were counted where 777 was the bound", n)
	}

	waits := exec.Command(tower, "30", "wait")
	in, err := waits.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	waits.Stdout = &out
	if err := waits.Start(); err != nil {
		t.Fatal(err)
	}
	go func() {
		time.Sleep(1500 * time.Millisecond) // by then it is attached to
		_, _ = in.Write([]byte("\n"))
		_ = waits.Wait() // the count, which is compared below, tells of a failure
	}()
	c, _ = countOf(t, entelon, "--function", "main.climb", "--pid", strconv.Itoa(waits.Process.Pid))
	if n, _ := c.of("main.climb"); n != own(out.String()) {
		t.Errorf("attached: %d calls, the program made %s", n, out.String())
	}

	for name, wants := range map[string]string{"nowhere": "no such function", "main.main.func1": ""} {
		cmd := exec.Command(entelon, "count", "--function", name, "--", tower, "1")
		says, err := cmd.CombinedOutput()
		if wants == "" && err != nil || wants != "" && (err == nil || !strings.Contains(string(says), wants)) {
			t.Errorf("%s: %v, %s", name, err, says)
		}
	}
}

// TestInlinedIsSaid: a function that has no code of its own left cannot be
// counted, and one that is inlined in places says so.
func TestInlinedIsSaid(t *testing.T) {
	entelon := builtEntelon(t)
	source := filepath.Join(t.TempDir(), "x.c")
	program := filepath.Join(t.TempDir(), "x")
	writeFile(t, source, `static inline __attribute__((always_inline)) int tint(int x) { return x * 3 + 1; }
int shade(int x) { return x ^ 7; }
volatile int sink;
__attribute__((noinline)) void page(int x) { sink = tint(x) + shade(x); }
int (*volatile other)(int) = shade;
int main(void) { for (int i = 0; i < 10; i++) page(i); sink = other(3); return 0; }
`)
	if err := run("cc", "-O2", "-g", "-o", program, source); err != nil {
		t.Fatal(err)
	}
	says, err := exec.Command(entelon, "count", "--function", "tint", "--", program).CombinedOutput()
	if err == nil || !strings.Contains(string(says), "is inlined wherever it is called (1 place)") {
		t.Errorf("%v: %s", err, says)
	}
	c, _ := countOf(t, entelon, "--function", "shade", "--", program)
	if n, _ := c.of("shade"); n != 1 || len(c.Warnings) != 1 || c.Warnings[0].Code != "inlined" {
		t.Errorf("%+v", c)
	}
}

func writeFile(t *testing.T, path, text string) {
	t.Helper()
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}
