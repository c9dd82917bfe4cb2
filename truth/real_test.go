package truth

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"gonum.org/v1/gonum/stat/distuv"

	"entelon/bench/section"
	"entelon/core/profile"
	"entelon/core/samplingcost"
)

var (
	realDoc   = flag.String("real", "", "take all real programs and write their table into this file")
	realPairs = flag.Int("pairs", 3, "pairs of runs with and without sampling, with -real")
	listReal  = flag.Bool("packages", false, "print the Debian packages of the real programs")
)

// realFacts is what `entelon facts --json` says.
type realFacts struct {
	DurationNS    int64             `json:"duration_ns"`
	Samples       int64             `json:"samples"`
	Lost          int64             `json:"lost"`
	CompleteShare float64           `json:"complete_share"`
	Bare          *profile.Bare     `json:"bare"`
	Counters      []profile.Counter `json:"counters"`
	CutOff        []profile.Cut     `json:"cut_off"`
	Measures      []struct {
		Name   string `json:"name"`
		Total  int64  `json:"total"`
		Lost   int64  `json:"lost"`
		Events int64  `json:"events"`
	} `json:"measures"`
}

func (f *realFacts) counter(names ...string) (sum int64) {
	for _, c := range f.Counters {
		for _, n := range names {
			if c.Name == n {
				sum += c.Value
			}
		}
	}
	return sum
}

// measured is what one program came to.
type measured struct {
	of            *realProgram
	samples, lost int64
	whole         float64
	unnamed       float64
	cut           string
	cost          [2]string   // at 99 and 997 a second
	spent         [2][2]int64 // for these, without and with sampling, ns
	faults        [2]int64    // ours, and the kernel's
	partial       int64       // events that were told to be missing
	calls         int64
	longest       float64 // of a thread in system calls, as a share of the run
}

// realRun runs one program in its ways.
type realRun struct {
	t       *testing.T
	entelon string
	dir     string
	p       *realProgram
	pid     string // of a server
}

func (r *realRun) shell(script string, wait bool) *exec.Cmd {
	cmd := exec.Command("bash", "-c", script)
	cmd.Dir = r.dir
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if wait {
		if out, err := cmd.CombinedOutput(); err != nil {
			r.t.Errorf("%s: %s: %v: %s", r.p.name, script, err, out)
		}
	}
	return cmd
}

// take makes a take and returns its facts.
func (r *realRun) take(args ...string) (f realFacts) {
	file := filepath.Join(r.dir, "x.take")
	_ = os.Remove(file) // of the take before
	args = append([]string{"take", "--out", file}, args...)
	var load *exec.Cmd
	if r.p.server {
		load = r.shell(r.p.command+" >/dev/null 2>&1", false)
		if err := load.Start(); err != nil {
			r.t.Fatal(err)
		}
		time.Sleep(200 * time.Millisecond)
		args = append(args, "--pid", r.pid, "--for", "2s")
	} else {
		if r.p.direct {
			args = append(append(args, "--"), strings.Fields(r.p.command)...)
		} else {
			// Into a file: some programs stop early where nobody reads what they write.
			args = append(args, "--", "bash", "-c", "exec "+r.p.command+" > written")
		}
	}
	cmd := exec.Command(r.entelon, args...)
	cmd.Dir = r.dir
	out, err := cmd.CombinedOutput() // what the program says is not of interest where it goes well
	if _, there := os.Stat(file); there != nil {
		r.t.Errorf("%s: there is no take: %v: %.2000s", r.p.name, err, out)
		return f
	}
	if load != nil {
		_ = syscall.Kill(-load.Process.Pid, syscall.SIGKILL)
		_ = load.Wait() // it was killed, or had ended
	}
	b, err := exec.Command(r.entelon, "facts", "--json", file).Output()
	if err == nil {
		err = json.Unmarshal(b, &f)
	}
	if err != nil {
		r.t.Errorf("%s: reading the facts: %v", r.p.name, err)
	}
	return f
}

// unnamed is the share of processor time in functions without a name.
func (r *realRun) unnamed() float64 {
	b, err := exec.Command(r.entelon, "hot", "--json", filepath.Join(r.dir, "x.take")).Output()
	var hot struct {
		Total     int64
		Functions []struct {
			Name, Module string
			Self         int64
		}
	}
	if err == nil {
		err = json.Unmarshal(b, &hot)
	}
	if err != nil {
		r.t.Errorf("%s: reading the hot functions: %v", r.p.name, err)
		return 0
	}
	var sum int64
	for _, f := range hot.Functions {
		if base, place, ok := strings.Cut(f.Name, "+0x"); ok && base != "" && place != "" || strings.HasPrefix(f.Name, "[anonymous]") {
			sum += f.Self
		}
	}
	return float64(sum) / float64(max(1, hot.Total))
}

// longest is the most that one thread spent in the first measure of the last take, as a
// share of how long that took.
func (r *realRun) longest(f *realFacts) float64 {
	b, err := exec.Command(r.entelon, "hot", "--json", "--rows", "thread", filepath.Join(r.dir, "x.take")).Output()
	var hot struct {
		Rows []struct{ Self int64 }
	}
	if err == nil {
		err = json.Unmarshal(b, &hot)
	}
	if err != nil || len(hot.Rows) == 0 {
		return 0
	}
	return float64(hot.Rows[0].Self) / float64(max(1, f.DurationNS))
}

// costWords is a cost in processor time with its interval, in percent.
func costWords(b *profile.Bare) string {
	if b == nil {
		return ""
	}
	cpu, _, ok := samplingcost.Of(b)
	if !ok {
		return "cannot be told"
	}
	return fmt.Sprintf("%+.1f (%+.1f to %+.1f)", 100*cpu.Share, 100*cpu.Low, 100*cpu.High)
}

// together is the processor time of all pairs of a take's runs, without and with sampling.
func together(b *profile.Bare) (sum [2]int64) {
	if b == nil {
		return sum
	}
	for _, p := range b.Pairs {
		sum[0], sum[1] = sum[0]+p.BareCPUNS, sum[1]+p.SampledCPUNS
	}
	return sum
}

// acrossWords is the cost of a typical program: the median over all of them with its
// interval of 95 %, whose ends are those of its values between which the median is by the
// binomial distribution.
func acrossWords(all []measured, rate int) string {
	var costs []float64
	for _, m := range all {
		if s := m.spent[rate]; s[0] > 0 && s[1] > 0 {
			costs = append(costs, float64(s[1])/float64(s[0])-1)
		}
	}
	n := len(costs)
	if n < 6 { // of fewer no two values are an interval of 95 %
		return "cannot be told"
	}
	sort.Float64s(costs)
	low := distuv.Binomial{N: float64(n), P: 0.5}
	k := 0
	for low.CDF(float64(k)) <= 0.025 {
		k++
	}
	return fmt.Sprintf("%+.1f %% (%+.1f to %+.1f, by %d programs)", 50*(costs[(n-1)/2]+costs[n/2]), 100*costs[k-1], 100*costs[n-k], n)
}

func (r *realRun) run(pairs int) (m measured) {
	m.of = r.p
	if r.p.before != "" {
		r.shell(r.p.before, true)
	}
	if r.p.server {
		b, err := os.ReadFile(filepath.Join(r.dir, "pid"))
		if err != nil {
			r.t.Errorf("%s: %v", r.p.name, err)
			return m
		}
		r.pid = strings.TrimSpace(string(b))
		if pid, err := strconv.Atoi(r.pid); err == nil {
			defer func() {
				_ = syscall.Kill(pid, syscall.SIGTERM)
				if r.p.after != "" {
					r.shell(r.p.after, true)
				}
			}()
		}
	}
	var first []string
	if pairs > 0 && !r.p.server {
		first = []string{"--bare-first", strconv.Itoa(pairs)}
		slow := r.take(append(first, "--rate", "99")...)
		m.cost[0], m.spent[0] = costWords(slow.Bare), together(slow.Bare)
	}
	f := r.take(append(first, "--rate", "997")...)
	m.spent[1] = together(f.Bare)
	m.cost[1], m.samples, m.lost, m.whole, m.unnamed = costWords(f.Bare), f.Samples, f.Lost, f.CompleteShare, r.unnamed()
	if len(f.CutOff) > 0 {
		m.cut = fmt.Sprintf("%s (%d)", f.CutOff[0].Words(), f.CutOff[0].Stacks)
	}
	if f = r.take("-m", "faults"); len(f.Measures) != 1 {
		return m
	}
	m.faults = [2]int64{f.Measures[0].Total, f.counter("page faults")}
	m.partial = f.Measures[0].Lost
	if f = r.take("-m", "syscalls"); len(f.Measures) != 2 {
		return m
	}
	m.calls, m.longest = f.Measures[1].Total, r.longest(&f)
	return m
}

// wrong says what a program does not hold, "" for nothing.
func (m *measured) wrong() string {
	var out []string
	if m.samples < 50 {
		out = append(out, fmt.Sprintf("%d samples", m.samples))
	}
	if m.whole < 0.995 && !m.of.interpreted {
		out = append(out, fmt.Sprintf("%.2f %% of the stacks are whole: %s", 100*m.whole, m.cut))
	}
	// Attached to, the kernel's counter begins a moment before or after.
	if d := m.faults[0] + m.partial - m.faults[1]; !m.of.server && d != 0 {
		out = append(out, fmt.Sprintf("%d page faults and %d missing, the kernel counted %d", m.faults[0], m.partial, m.faults[1]))
	}
	if m.longest > 1.02 {
		out = append(out, fmt.Sprintf("a thread was in system calls for %.2f of the run", m.longest))
	}
	if m.lost > 0 {
		out = append(out, fmt.Sprintf("%d samples lost", m.lost))
	}
	return strings.Join(out, "; ")
}

// TestReal takes programs that nobody here wrote: all of them with -real, which make truth
// does, and else some that are everywhere.
func TestReal(t *testing.T) {
	if *listReal {
		seen := map[string]bool{}
		for _, p := range realPrograms {
			if p.debian != "" && !seen[p.debian] {
				seen[p.debian] = true
				fmt.Println("package:", p.debian)
			}
		}
		return
	}
	entelon := builtEntelon(t)
	everywhere := map[string]bool{"sort": true, "sed": true, "gzip": true, "dash": true, "gcc": true, "perl": true}
	var all []measured
	for i := range realPrograms {
		p := &realPrograms[i]
		if *realDoc == "" && !everywhere[p.name] || !strings.Contains(p.name, *only) {
			continue
		}
		pairs := *realPairs
		if *realDoc == "" {
			pairs = 0
		}
		m := (&realRun{t: t, entelon: entelon, dir: t.TempDir(), p: p}).run(pairs)
		t.Logf("%-18s %5d samples, %.2f %% whole, %.0f %% unnamed, cost %s and %s, %d of %d faults, %d calls %s", p.name, m.samples, 100*m.whole, 100*m.unnamed, m.cost[0], m.cost[1], m.faults[0], m.faults[1], m.calls, m.cut)
		if w := m.wrong(); w != "" {
			t.Errorf("%s: %s", p.name, w)
		}
		all = append(all, m)
	}
	if *realDoc != "" {
		if err := section.Write(*realDoc, "real programs", "make truth", realTable(all)); err != nil {
			t.Fatal(err)
		}
	}
}

// realTable is the section of docs/truth.md.
func realTable(all []measured) string {
	var b strings.Builder
	whole, compiled, costs := 0, 0, []string{}
	for _, m := range all {
		if !m.of.interpreted {
			compiled++
			if m.whole >= 0.995 {
				whole++
			}
		}
		costs = append(costs, m.cost[1])
	}
	sort.Strings(costs)
	fmt.Fprintf(&b, `Measured on %s: %d programs from Debian's packages, at work for about a second each. %d of %d compiled ones have at least 99.5 %% of their stacks whole. Costs are of processor time, in percent with the 95 %% interval of %d interleaved pairs of runs; servers are attached to, so that there are none. Of one program these are wide where the machine is not alone; the median over all of them is %s at 99/s and %s at 997/s. Page faults are Entelon's count and the kernel's own; of a server the kernel's begins a moment apart.

| program | samples | whole | most frequent reason | unnamed | lost | cost at 99/s | cost at 997/s | page faults, and by the kernel | system calls |
|---|---|---|---|---|---|---|---|---|---|
`, time.Now().Format("2006-01-02"), len(all), whole, compiled, *realPairs, acrossWords(all, 0), acrossWords(all, 1))
	for _, m := range all {
		partial := ""
		if m.partial > 0 {
			partial = fmt.Sprintf(" (%d told to be missing)", m.partial)
		}
		fmt.Fprintf(&b, "| %s | %d | %.2f %% | %s | %.0f %% | %d | %s | %s | %d, %d%s | %d |\n", m.of.name, m.samples, 100*m.whole, m.cut, 100*m.unnamed, m.lost, m.cost[0], m.cost[1], m.faults[0], m.faults[1], partial, m.calls)
	}
	return b.String()
}
