package main

import (
	"encoding/json"
	"fmt"
	"math"
	"net/http"
	"net/http/cookiejar"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"entelon/cmd/entelon/comparing"
	"entelon/cmd/entelon/option"
	"entelon/cmd/entelon/reading"
)

const (
	older = "../../demo/takes/engraved-3.4.0-1.take"
	newer = "../../demo/takes/engraved-3.5.0-1.take"
)

// TestEveryOutputConserves: the table, the JSON and the stacks of one take
// tell the same numbers.
func TestEveryOutputConserves(t *testing.T) {
	hot := parse[reading.HotJSON](t, "hot", "--json", newer)
	if hot.Measure != "cpu" || hot.Unit != "ns" {
		t.Errorf("%s in %s", hot.Measure, hot.Unit)
	}
	var self int64
	var share float64
	for _, f := range hot.Functions {
		self += f.Self
		share += f.SelfShare
		if f.TotalShare > 1 || math.Abs(f.SelfShare-float64(f.Self)/float64(hot.Total)) > 1e-12 {
			t.Errorf("%s: shares %v and %v", f.Name, f.SelfShare, f.TotalShare)
		}
	}
	if self != hot.Total || math.Abs(share-1) > 1e-9 {
		t.Errorf("self costs sum to %d and %v, the total is %d", self, share, hot.Total)
	}
	samples := 0
	onStack := map[string]int{}
	for line := range strings.Lines(entelon(t, "stacks", newer).stdout) {
		i := strings.LastIndexByte(line, ' ')
		n, err := strconv.Atoi(strings.TrimSpace(line[i:]))
		if err != nil {
			t.Fatal(err)
		}
		samples += n
		seen := map[string]bool{}
		for _, name := range strings.Split(line[:i], ";") {
			if !seen[name] {
				onStack[name] += n
			}
			seen[name] = true
		}
	}
	if int64(samples) != hot.Samples {
		t.Errorf("the stacks have %d samples, the table %d", samples, hot.Samples)
	}
	each := hot.Total / int64(hot.Samples)
	for _, f := range hot.Functions[:20] {
		if want := int64(onStack[f.Name]) * each; want != f.Total {
			t.Errorf("%s: total %d, by its stacks %d", f.Name, f.Total, want)
		}
	}
	facts := parse[reading.FactsJSON](t, "facts", "--json", newer)
	var byThread int64
	for _, th := range facts.Threads {
		byThread += th.Samples
	}
	if byThread != facts.Samples || facts.Samples != int64(hot.Samples) {
		t.Errorf("samples: %d by thread, %d by the facts, %d in the table", byThread, facts.Samples, hot.Samples)
	}
}

func TestOrderAndLimit(t *testing.T) {
	byTotal := parse[reading.HotJSON](t, "hot", "--json", "--by", "total", "--limit", "5", newer)
	if len(byTotal.Functions) != 5 || byTotal.Functions[0].Name != "runtime.goexit" {
		t.Errorf("%d functions, the first is %s", len(byTotal.Functions), byTotal.Functions[0].Name)
	}
	for i := 1; i < 5; i++ {
		if byTotal.Functions[i].Total > byTotal.Functions[i-1].Total {
			t.Error("they are not in order of their totals")
		}
	}
	text := entelon(t, "hot", "--limit", "3", newer).stdout
	if n := strings.Count(text, "\n"); n != 5 || !strings.Contains(text, "100 % = ") || !strings.Contains(text, "slur.go:34") {
		t.Errorf("%d lines:\n%s", n, text)
	}
}

// TestNamesShortAndFull: tables show names to read, in full on demand; JSON has
// both, and the linker's.
func TestNamesShortAndFull(t *testing.T) {
	const file = "../../demo/takes/inkraster-1.3.0-1.take"
	const short, full, linkage = "ink::Page::accumulate", "ink::Page::accumulate(ink::Edge const&, double, double)", "_ZN3ink4Page10accumulateERKNS_4EdgeEdd"
	if text := entelon(t, "hot", file).stdout; !strings.Contains(text, short+"  (") || strings.Contains(text, full) {
		t.Errorf("short:\n%s", text)
	}
	if text := entelon(t, "hot", "--full", file).stdout; !strings.Contains(text, full+"  (") {
		t.Errorf("full:\n%s", text)
	}
	for _, f := range parse[reading.HotJSON](t, "hot", "--json", file).Functions {
		if f.Name == full {
			if f.Short != short || f.Linkage != linkage {
				t.Errorf("%+v", f)
			}
			return
		}
	}
	t.Error("JSON has no " + full)
}

func TestSize(t *testing.T) {
	for text, want := range map[string]int64{"4096": 4096, "16k": 16 << 10, "16K": 16 << 10, "16KiB": 16 << 10, "2G": 2 << 30, "3M": 3 << 20} {
		var s option.Size
		if err := s.Set(text); err != nil || int64(s) != want {
			t.Errorf("%s is %d, %v", text, s, err)
		}
		var again option.Size
		if err := again.Set(s.String()); err != nil || again != s {
			t.Errorf("%s is shown as %s", text, s.String())
		}
	}
	for _, text := range []string{"", "k", "-1", "0", "much", "1.5k", "99999999G"} {
		var s option.Size
		if err := s.Set(text); err == nil {
			t.Errorf("%q is the size %d", text, s)
		}
	}
}

// TestScales: each scale divides both sides as it says.
func TestScales(t *testing.T) {
	find := func(c comparing.JSON) comparing.FunctionRow {
		for _, f := range c.Functions {
			if strings.HasSuffix(f.Name, "spacing.extent") {
				return f
			}
		}
		t.Fatal("spacing.extent is in no comparison")
		return comparing.FunctionRow{}
	}
	raw := compared(t, "--scale", "run", older, newer)
	want := find(raw)
	byTotal := find(compared(t, "--scale", "share", older, newer))
	bySecond := find(compared(t, "--scale", "second", older, newer))
	byCPU := find(compared(t, "--scale", "cpu-second", older, newer))
	near := func(a, b float64) bool { return math.Abs(a-b) <= 1e-9*math.Abs(b) }
	a, b := raw.Baseline.Takes[0], raw.Candidate.Takes[0]
	if !near(byTotal.Total.Candidate, want.Total.Candidate/float64(b.Total)) {
		t.Errorf("as a share it is %v", byTotal.Total.Candidate)
	}
	if !near(bySecond.Self.Baseline, want.Self.Baseline/(float64(a.DurationNS)/1e9)) {
		t.Errorf("for each second it is %v", bySecond.Self.Baseline)
	}
	if !near(byCPU.Self.Baseline, want.Self.Baseline/(float64(a.CPUNS)/1e9)) {
		t.Errorf("for each second of processor time it is %v", byCPU.Self.Baseline)
	}
	for was, is := range map[string]string{"none": "run", "total": "share"} {
		if c := compared(t, "--scale", was, older, newer); c.Scale != is {
			t.Errorf("what was the scale %s is %s", was, c.Scale)
		}
	}
	if raw.Unit != "ns" || raw.Scale != "run" {
		t.Errorf("unscaled figures are in %s by %s", raw.Unit, raw.Scale)
	}
	fails(t, entelon(t, "compare", newer, newer), "is on both sides")
	same := filepath.Join(t.TempDir(), "same.take")
	if b, err := os.ReadFile(newer); err != nil || os.WriteFile(same, b, 0o644) != nil {
		t.Fatal(err)
	}
	self := entelon(t, "compare", newer, same)
	if self.code != 2 || strings.Contains(self.stdout, " slower  ") || strings.Contains(self.stdout, "new  ") {
		t.Errorf("a take differs from itself, exit %d:\n%s", self.code, self.stdout)
	}
	if text := entelon(t, "compare", "--limit", "2", older, newer).stdout; !strings.Contains(text, "3.4.0 → 3.5.0") || !strings.Contains(text, "more; --limit 0 shows all") {
		t.Errorf("it prints\n%s", text)
	}
}

// compared is a comparison as JSON; its exit code is part of what it says.
func compared(t *testing.T, args ...string) comparing.JSON {
	t.Helper()
	r := entelon(t, append([]string{"compare", "--json"}, args...)...)
	out := comparison(t, r)
	if want := map[string]int{"no regression": 0, "regression": 1, "could not tell": 2}[out.Outcome]; r.code != want {
		t.Errorf("it says %q and exits with %d", out.Outcome, r.code)
	}
	return out
}

// comparison reads what entelon compare --json printed.
func comparison(t testing.TB, r result) (out comparing.JSON) {
	t.Helper()
	if err := json.Unmarshal([]byte(r.stdout), &out); err != nil {
		t.Fatalf("%v: %s%s", err, r.stdout, r.stderr)
	}
	return out
}

func TestHelpAndCompletion(t *testing.T) {
	for _, c := range []string{"take", "hot", "facts", "stacks", "compare", "send", "serve", "api"} {
		r := entelon(t, c, "--help")
		if r.code != 0 || !strings.Contains(r.stdout, "Examples:") || !strings.Contains(r.stdout, "entelon "+c) {
			t.Errorf("%s --help has no example:\n%s", c, r.stdout)
		}
	}
	if r := entelon(t, "completion", "bash"); r.code != 0 || !strings.Contains(r.stdout, "entelon") {
		t.Errorf("completion: %s", r.stderr)
	}
	if r := entelon(t, "__complete", "hot", "--by", ""); !strings.Contains(r.stdout, "self") || !strings.Contains(r.stdout, "total") {
		t.Errorf("completing --by offers %q", r.stdout)
	}
	var doc struct{ Paths map[string]any }
	if err := json.Unmarshal([]byte(entelon(t, "api").stdout), &doc); err != nil || doc.Paths["/api/v1/takes/{key}/flame"] == nil {
		t.Errorf("the description: %v, %d paths", err, len(doc.Paths))
	}
}

// visitor is somebody who is signed in, as in a browser.
type visitor struct {
	t       *testing.T
	address string
	client  *http.Client
}

func (s visitor) post(path, body string, answer any) int {
	s.t.Helper()
	resp, err := s.client.Post(s.address+"/api/v1"+path, "application/json", strings.NewReader(body))
	if err != nil {
		s.t.Fatal(err)
	}
	defer resp.Body.Close()
	if resp.StatusCode < 300 {
		if err := json.NewDecoder(resp.Body).Decode(answer); err != nil {
			s.t.Fatal(err)
		}
	}
	return resp.StatusCode
}

// token makes a token.
func (s visitor) token(role string) string {
	s.t.Helper()
	var token struct{ Secret string }
	if status := s.post("/me/tokens", `{"name":"tests","role":"`+role+`"}`, &token); status != http.StatusCreated || len(token.Secret) < 40 {
		s.t.Fatalf("making a token: %d", status)
	}
	return token.Secret
}

// enrolLink makes a link by which a collector can enrol.
func (s visitor) enrolLink(name string) string {
	s.t.Helper()
	var out struct{ Path string }
	if status := s.post("/collectors", `{"name":"`+name+`"}`, &out); status != http.StatusCreated {
		s.t.Fatalf("making a link for a collector: %d", status)
	}
	return s.address + out.Path
}

// enter signs the owner in by a link, as the page does.
func enter(t *testing.T, address, link string) visitor {
	t.Helper()
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	s := visitor{t, address, &http.Client{Jar: jar}}
	var me struct{ Name string }
	secret := link[strings.LastIndexByte(link, '/')+1:]
	if status := s.post("/enter", `{"link":"`+secret+`"}`, &me); status != http.StatusOK || me.Name != "owner" {
		t.Fatalf("entering: %d, %+v", status, me)
	}
	if status := s.post("/enter", `{"link":"`+secret+`"}`, &me); status != http.StatusUnauthorized {
		t.Errorf("the link works twice: %d", status)
	}
	return s
}

// secretIn writes a secret to a file that only this user can read.
func secretIn(t *testing.T, secret string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "token")
	if err := os.WriteFile(path, []byte(secret+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// TestServeSendStop: a server as a user starts it, a take sent to it twice, and
// a clean end.
func TestServeSendStop(t *testing.T) {
	dir, err := os.MkdirTemp("/var/tmp", "entelon-serve-*")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(program("entelon"), serveWords("--listen", "127.0.0.1:0", "--data", filepath.Join(dir, "database"))...)
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	var address, link string
	if _, err := fmt.Fscanf(out, "Entelon is at %s (Ctrl-C ends it)\nSign in, once and within a day, at %s\n", &address, &link); err != nil {
		t.Fatal(err)
	}
	fails(t, entelon(t, "send", older, "--to", address), "nobody is signed in", "token")
	file := secretIn(t, enter(t, address, link).token("work"))
	for _, want := range []string{"sent: " + address + "/takes/", "was there already: " + address + "/takes/"} {
		if r := entelon(t, "send", older, "--to", address, "--token-file", file); r.code != 0 || !strings.Contains(r.stdout, want) {
			t.Errorf("%s%s lacks %q", r.stdout, r.stderr, want)
		}
	}
	harmed := filepath.Join(dir, "harmed.take")
	if err := os.WriteFile(harmed, []byte("no take at all, only words"), 0o644); err != nil {
		t.Fatal(err)
	}
	fails(t, entelon(t, "send", harmed, "--to", address, "--token-file", file), "harmed.take", "not a take")
	fails(t, entelon(t, serveWords("--listen", strings.TrimPrefix(address, "http://"))...), "in use")
	if err := cmd.Process.Signal(syscall.SIGINT); err != nil {
		t.Fatal(err)
	}
	begin := time.Now()
	if err := cmd.Wait(); err != nil {
		t.Errorf("it ended with %v", err)
	}
	if took := time.Since(begin); took > 10*time.Second {
		t.Errorf("it took %v to end", took)
	}
	fails(t, entelon(t, "send", older, "--to", address), "does not answer")
}

// serveWords is a server's command line. As root it gives its rights up.
func serveWords(more ...string) []string {
	words := []string{"serve", "--log-level", "error"}
	if os.Geteuid() == 0 {
		words = append(words, "--user", "7420:7420")
	}
	return append(words, more...)
}
