package truth

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"entelon/codec/take"
	"entelon/core/profile"
	"entelon/linux/procfs"
)

// Share is one part of a program: what it measured of itself, and what was
// sampled.
type Share struct {
	Part      string
	Measured  float64 // of the time of all parts
	Sampled   float64 // of the samples in all parts
	Low, High float64 // where the sampled share lies with 99 % probability if the measured one is true
	Hit       bool
}

// Result is one run of one build.
type Result struct {
	Case     Case
	Samples  int64
	Lost     int64
	Complete float64 // share of the stacks that are whole
	Cut      []profile.Cut
	Shares   []Share
	Witness  []Share // Measured is what the runtime's own profiler says
	// Of the stacks with a function whose surroundings are known, how many
	// there are and how many look as they must.
	Known, Right int64
	// Of stacks with an interpreter's functions, how many there are, and how many
	// more were hit while they were being changed.
	Interpreted, Torn int64
	Wrong             string // an example of one that does not
	// Inlines is set where the source says that functions are inlined; Inlined is how
	// many stacks have one that was.
	Inlines bool
	Inlined int64
	// Missing is the share of the clock's ticks that no sample stands for, Stolen how
	// much processor time the host took away meanwhile, as a share of the same.
	Missing, Stolen float64
	Warnings        []profile.Warning
}

// mayMissTicks is the share of the clock's ticks that may be missing in a run.
// Where a virtual machine's processor is taken away for long, the program's own
// clock goes on and its measurement is no truth; such a run is made again.
const (
	mayMissTicks = 0.15
	shortTries   = 3
	fullTries    = 8
)

// Run builds a case in dir, takes a sample of a run of that many seconds, and
// compares. entelon is the path of the command. An error says, too, that the machine
// did not let the program run undisturbed in so many tries; or that ticks are missing
// and it was not the machine's host that took them, which is the sampler's fault.
func Run(c Case, entelon, dir string, seconds float64, tries int) (*Result, error) {
	exe, err := c.build(dir)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", c.Name, err)
	}
	for i := range tries {
		if i > 1 {
			time.Sleep(5 * time.Second) // it may pass
		}
		before := procfs.StolenTime()
		r, missing, cpu, err := once(c, exe, entelon, dir, seconds)
		if err != nil {
			return nil, err
		}
		r.Missing, r.Stolen = missing, float64(procfs.StolenTime()-before)/float64(max(1, cpu))
		switch {
		case missing <= mayMissTicks:
			return r, nil
		case r.Stolen < missing/2:
			return nil, fmt.Errorf("%s: %w: %.1f %% of them, while the host of this machine took %.1f %% away", c.Name, ErrTicks, 100*missing, 100*r.Stolen)
		}
	}
	return nil, fmt.Errorf("%s: %w", c.Name, ErrDisturbed)
}

// Errors of Run.
var (
	ErrDisturbed = errors.New("the host of this machine took the processor away in every attempt, so that nothing can be measured")
	ErrTicks     = errors.New("ticks of the clock are missing")
)

// once makes one run. missing is the share of the clock's ticks that no sample
// stands for; cpu is the processor time that they would stand for.
func once(c Case, exe, entelon, dir string, seconds float64) (r *Result, missing float64, cpu time.Duration, err error) {
	file := filepath.Join(dir, "truth.take")
	args := []string{"take", "--out", file, "--symbol-cache", filepath.Join(dir, "cache")}
	for _, d := range c.debugDirs {
		args = append(args, "--debug-dir", filepath.Join(dir, d))
	}
	command := []string{exe}
	if c.runs != nil {
		command = c.runs(exe)
	}
	args = append(append(append(args, "--"), command...), strconv.FormatFloat(seconds, 'f', -1, 64))
	for _, a := range c.args {
		args = append(args, strings.ReplaceAll(a, "{dir}", dir))
	}
	cmd := exec.Command(entelon, args...)
	var out, says bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &says
	if err := cmd.Run(); err != nil {
		return nil, 0, 0, fmt.Errorf("%s: %w: %s", c.Name, err, says.String())
	}
	t, err := take.ReadFile(file, take.Options{})
	if err != nil {
		return nil, 0, 0, fmt.Errorf("%s: %w", c.Name, err)
	}
	cpu = time.Duration(t.Facts.CPUNS)
	missing = 1 - float64(t.Profile.Total(0))/float64(max(1, t.Facts.CPUNS))
	r = &Result{Case: c, Samples: t.Facts.Samples, Lost: t.Facts.Lost, Complete: t.Facts.CompleteShare(), Cut: t.Facts.CutOff, Warnings: t.Facts.Warnings}
	if c.nameless {
		return r, missing, cpu, nil
	}
	r.Interpreted, r.Torn = t.Facts.Interpreted, t.Facts.Torn
	stacks := unfold(t.Profile, c.authored)
	spent, err := parts(&out, "part")
	if err != nil {
		return nil, 0, 0, fmt.Errorf("%s: %w", c.Name, err)
	}
	r.Shares = shares(stacks, spent)
	if c.witness && seconds >= witnessSeconds {
		if err := r.testify(command, args[len(args)-len(c.args):], stacks); err != nil {
			return nil, 0, 0, fmt.Errorf("%s: %w", c.Name, err)
		}
	}
	source, err := os.ReadFile(c.source)
	if err != nil {
		return nil, 0, 0, err
	}
	for _, p := range patterns(string(source)) {
		if c.plain {
			for i, step := range p.steps {
				p.steps[i] = strings.TrimSuffix(step, "~")
			}
		}
		r.match(stacks, p)
		if slices.ContainsFunc(p.steps, func(step string) bool { return strings.HasSuffix(step, "~") }) {
			r.Inlines = true
		}
	}
	for _, s := range stacks {
		if slices.ContainsFunc(s.frames, func(f frame) bool { return f.inlined }) {
			r.Inlined += s.count
		}
	}
	return r, missing, cpu, nil
}

// parts reads what the program printed of itself; parts of several processes
// are added up.
func parts(out *bytes.Buffer, word string) (map[string]int64, error) {
	spent := map[string]int64{}
	sc := bufio.NewScanner(out)
	for sc.Scan() {
		f := strings.Fields(sc.Text())
		if len(f) != 3 || f[0] != word {
			continue
		}
		n, err := strconv.ParseInt(f[2], 10, 64)
		if err != nil {
			return nil, err
		}
		spent[f[1]] += n
	}
	if len(spent) == 0 {
		return nil, fmt.Errorf("the program measured nothing")
	}
	return spent, nil
}

// frame is a frame of a stack by its bare name.
type frame struct {
	name    string
	inlined bool
	kernel  bool
}

// stack is a distinct stack, the innermost frame first, with its samples.
type stack struct {
	frames []frame
	count  int64
}

// unfold lists the distinct stacks, where authored is set without the
// runtime's own frames.
func unfold(p *profile.Profile, authored bool) []stack {
	counts := map[profile.StackID]int64{}
	for _, s := range p.Samples.Stack {
		counts[s]++
	}
	var out []stack
	for id, n := range counts {
		s := stack{count: n}
		p.Walk(id, func(f profile.FrameID) {
			x := p.Frames[f]
			if authored && p.Functions[x.Function].Kind == profile.KindRuntime {
				return
			}
			s.frames = append(s.frames, frame{bare(p.FunctionName(x.Function)), x.Inlined, p.Functions[x.Function].Kind == profile.KindKernel})
		})
		out = append(out, s)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].count > out[j].count })
	return out
}

// bare cuts a name's parameters and template arguments off. What is the type
// of a trait's method in Rust, in angle brackets at the begin, stays.
func bare(name string) string {
	depth := 0
	var b strings.Builder
	for i, c := range name {
		switch {
		case c == '<' && i > 0:
			depth++
		case c == '>' && depth > 0:
			depth--
		case c == '(' && depth == 0 && i > 0 && !strings.HasPrefix(name[i:], "(anonymous"):
			return b.String()
		case depth == 0:
			b.WriteRune(c)
		}
	}
	return b.String()
}

func (s stack) has(name string) bool {
	for _, f := range s.frames {
		if f.name == name {
			return true
		}
	}
	return false
}

// in reports whether a stack belongs to a part; "A-B" is in A and not in B.
func (s stack) in(part string) bool {
	with, without, minus := strings.Cut(part, "-")
	return s.has(with) && !(minus && s.has(without))
}

// quantile99 is the point of the normal distribution beyond which, to both
// sides, 1 % lies.
const quantile99 = 2.5758

// shares compares the parts. The interval is that of a binomial distribution
// around the measured share, as its normal approximation with a correction for
// whole numbers.
func shares(stacks []stack, spent map[string]int64) (out []Share) {
	var all, n int64
	count := map[string]int64{}
	for part, t := range spent {
		all += t
		for _, s := range stacks {
			if s.in(part) {
				count[part] += s.count
				n += s.count
			}
		}
	}
	for part, t := range spent {
		p := float64(t) / float64(all)
		half := (quantile99*math.Sqrt(float64(n)*p*(1-p)) + 0.5) / float64(n)
		s := Share{Part: part, Measured: p, Sampled: float64(count[part]) / float64(n), Low: p - half, High: p + half}
		s.Hit = s.Sampled >= s.Low && s.Sampled <= s.High
		out = append(out, s)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Measured > out[j].Measured })
	return out
}

// witnessSeconds is how long a run must be to be held against another one: in
// shorter ones much of the time is before the runtime's compilers have begun.
const witnessSeconds = 2

// witnessMayDiffer is by how much of all a part may differ from what the
// runtime's own profiler says: those count the time that they take themselves
// to the functions that are called most often.
const witnessMayDiffer = 0.04

// testify runs the program once more, with its runtime's own profiler.
func (r *Result) testify(command, args []string, stacks []stack) error {
	cmd := exec.Command(command[0], append(append(command[1:len(command):len(command)], "0"), args...)...)
	var out, says bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &says
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("%w: %s", err, says.String())
	}
	spent, err := parts(&out, "witness")
	if err != nil {
		return err
	}
	r.Witness = shares(stacks, spent)
	for i := range r.Witness {
		x := &r.Witness[i]
		x.Low, x.High = x.Low-witnessMayDiffer, x.High+witnessMayDiffer // and by chance
		x.Hit = x.Sampled >= x.Low && x.Sampled <= x.High
	}
	return nil
}

// pattern is what must stand around a function.
type pattern struct {
	name  string
	steps []string // the innermost first
}

func patterns(source string) []pattern {
	var out []pattern
	for line := range strings.Lines(source) {
		rest, ok := strings.CutPrefix(strings.TrimLeft(line, "/#"), " stack ")
		if !ok {
			continue
		}
		name, steps, _ := strings.Cut(strings.TrimSpace(rest), ": ")
		out = append(out, pattern{name, strings.Split(steps, " < ")})
	}
	return out
}

// match counts the stacks that hold the pattern's function, and those that
// look as they must.
func (r *Result) match(stacks []stack, p pattern) {
	for _, s := range stacks {
		at := -1
		for i, f := range s.frames {
			if f.name == p.name {
				at = i
				break
			}
		}
		if at < 0 || (len(s.frames) > 0 && strings.HasPrefix(s.frames[len(s.frames)-1].name, "[cut off")) {
			continue // cut-off stacks are counted as such
		}
		r.Known += s.count
		if p.fits(s, at) {
			r.Right += s.count
		} else if r.Wrong == "" {
			var names []string
			for _, f := range s.frames {
				names = append(names, f.name)
			}
			r.Wrong = fmt.Sprintf("%s: %s", p.name, strings.Join(names, " < "))
		}
	}
}

func (p pattern) fits(s stack, at int) bool {
	own := -1
	for i, step := range p.steps {
		if strings.TrimSuffix(step, "~") == p.name {
			own = i
			break
		}
	}
	if own < 0 || !same(p.steps[own], s.frames[at]) {
		return false
	}
	// Outwards all of the pattern must be there.
	if !follows(p.steps[own+1:], s.frames[at+1:], true) {
		return false
	}
	// Inwards as much as the stack has; the kernel may have interrupted.
	var steps []string
	var inner []frame
	for i := own - 1; i >= 0; i-- {
		steps = append(steps, p.steps[i])
	}
	for i := at - 1; i >= 0 && !s.frames[i].kernel; i-- {
		inner = append(inner, s.frames[i])
	}
	return len(steps) == 0 || follows(steps, inner, false)
}

func same(step string, f frame) bool {
	name, inlined := strings.CutSuffix(step, "~")
	return f.name == name && (!inlined || f.inlined)
}

// follows reports whether the frames begin with the steps. Where not all must
// be there, frames may end early.
func follows(steps []string, frames []frame, all bool) bool {
	for i, step := range steps {
		if step == "..." {
			rest := steps[i+1:]
			if len(rest) == 0 || !all {
				return true
			}
			for j := range frames {
				if follows(rest, frames[j:], all) {
					return true
				}
			}
			return false
		}
		if len(frames) == 0 {
			return !all
		}
		if !same(step, frames[0]) {
			return false
		}
		frames = frames[1:]
	}
	return true
}
