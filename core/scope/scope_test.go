package scope_test

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"testing"

	"entelon/core/invent"
	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/core/scope"
)

func parse(t testing.TB, text string) scope.Scope {
	t.Helper()
	s, err := scope.Parse(text)
	if err != nil {
		t.Fatalf("%s: %v", text, err)
	}
	return s
}

func count(p *profile.Profile, s scope.Scope) (n int) {
	in, selected := s.Contains(p), s.Select(p)
	for i := range p.Samples.Len() {
		if in(i) {
			n++
		}
		if in(i) != selected[i] {
			panic(s.String() + ": one by one and all at once differ")
		}
	}
	return n
}

func TestAdjacentTimesShareNoSample(t *testing.T) {
	p := invent.Profile(1, invent.Small)
	_, last := p.Span()
	cuts := []int64{0, 1, 300e6, 300e6 + 1, 900e6, last, 0}
	counted := 0
	for i := 0; i+1 < len(cuts); i++ {
		counted += count(p, scope.Between(cuts[i], cuts[i+1]))
	}
	if counted != p.Samples.Len() {
		t.Errorf("the pieces of the time hold %d samples, the whole %d", counted, p.Samples.Len())
	}
}

// Every condition with its opposite holds each sample once, however it is
// written, and so does the text that comes out of it again.
func TestConditionAndOpposite(t *testing.T) {
	p := invent.Profile(2, invent.Small)
	about := scope.About{Program: "made", Build: "1"}
	for _, text := range []string{
		"thread is worker", "thread is 101, 102", "thread is wor*", `thread matches "^work"`, "process is made", "process is 7",
		"function is fn3", "function is fn1, fn2", "top is fn4", `top matches "fn[0-3]$"`, "module is lib1.so.1", "module is *lib2*",
		"code is own", "code is kernel, library", "path is fn1 > fn2", "path is fn1 > fn1 > fn3", "time from 0.2 s to 0.9 s", "time to 500ms",
		"cpu over 1 ms", "cpu at least 0.5 ms", "calls at most 1", "calls under 2", "idle", "program is made", "build is 2", "span is draw", `span matches "^pl"`, `label "page" is 4`, "label page is not 1, 2", `not label page matches "[0-2]"`, "label voice is viola", "thread is 100 and span is draw or label page is 3",
		"function is fn3 and not top is fn3", "thread is 100 or thread is 101 and code is own", "(thread is 100 or thread is 101) and code is own",
		"not (function is fn1 or path is fn2 > fn3) and time from 0.1 s", "not not idle", "thread is not 100", "path is not fn1 > fn2",
	} {
		s := parse(t, text).Of(about)
		n := count(p, s)
		opposite := parse(t, "not ("+text+")").Of(about)
		if m := count(p, opposite); n+m != p.Samples.Len() {
			t.Errorf("%s: %d samples, its opposite %d, all %d", text, n, m, p.Samples.Len())
		}
		again := parse(t, s.String()).Of(about)
		if m := count(p, again); m != n {
			t.Errorf("%s: %d samples, written as %s: %d", text, n, s, m)
		}
		if again.String() != s.String() {
			t.Errorf("%s becomes %s and then %s", text, s, again)
		}
		parts := scope.Scope{}.Of(about)
		for _, part := range s.Parts() {
			parts = parts.And(parse(t, part.Text))
		}
		if m := count(p, parts); m != n {
			t.Errorf("%s: %d samples, by its parts %q: %d", text, n, parts, m)
		}
	}
}

func labelled(p *profile.Profile, i int, name string) string {
	for s := p.Samples.Labels[i]; s != 0; s = p.LabelSets.Parent[s] {
		if p.Strings[p.LabelSets.Name[s]] == name {
			return p.Strings[p.LabelSets.Value[s]]
		}
	}
	return ""
}

// What the language says of a stack is what one sees by walking it.
func TestAgainstWalking(t *testing.T) {
	p := invent.Profile(3, invent.Small)
	stack := func(i int) (names []string) { // the root first
		p.Walk(p.Samples.Stack[i], func(f profile.FrameID) {
			names = append([]string{p.FunctionName(p.Frames[f].Function)}, names...)
		})
		return names
	}
	inOrder := func(names []string, steps ...string) bool {
		for _, n := range names {
			if len(steps) > 0 && n == steps[0] {
				steps = steps[1:]
			}
		}
		return len(steps) == 0
	}
	for text, want := range map[string]func(i int) bool{
		"function is fn3":          func(i int) bool { return inOrder(stack(i), "fn3") },
		"top is fn5":               func(i int) bool { n := stack(i); return n[len(n)-1] == "fn5" },
		"path is fn3 > fn5":        func(i int) bool { return inOrder(stack(i), "fn3", "fn5") },
		"code is kernel":           func(i int) bool { return p.Functions[p.FunctionOf(p.Samples.Stack[i])].Kind == profile.KindKernel },
		"cpu over 1 ms":            func(i int) bool { return p.Samples.Values[0][i] > 1e6 },
		"thread is 101":            func(i int) bool { return p.Threads[p.Samples.Thread[i]].TID == 101 },
		"label page is 3":          func(i int) bool { return labelled(p, i, "page") == "3" },
		"span is not draw":         func(i int) bool { return labelled(p, i, "span") != "draw" },
		"top is fn5 or top is fn6": func(i int) bool { n := stack(i); return n[len(n)-1] == "fn5" || n[len(n)-1] == "fn6" },
		"not function is fn3 and time from 0.5 s": func(i int) bool {
			return !inOrder(stack(i), "fn3") && p.Samples.Time[i] >= 5e8
		},
	} {
		in := parse(t, text).Contains(p)
		some, none := false, false
		for i := range p.Samples.Len() {
			if in(i) != want(i) {
				t.Fatalf("%s: sample %d with %v: %v", text, i, stack(i), in(i))
			}
			some, none = some || in(i), none || !in(i)
		}
		if !some || !none {
			t.Errorf("%s: the test does not tell anything", text)
		}
	}
}

func TestErrorsPointAtTheCharacter(t *testing.T) {
	for _, c := range []struct {
		text       string
		at         int
		correction string
	}{
		{"tread is worker", 0, "thread is worker"},
		{"thread = worker", 7, "thread is worker"},
		{"thread iss worker", 7, "thread is worker"},
		{"thread is worker adn idle", 17, "thread is worker and idle"},
		{"thread is worker && idle", 17, "thread is worker and idle"},
		{"thread is", 9, ""},
		{"thread", 6, ""},
		{"(thread is worker", 17, "(thread is worker)"},
		{"thread is worker)", 16, ""},
		{`thread is "worker`, 10, `thread is "worker"`},
		{"code is kernl", 8, "code is kernel"},
		{"code over 3", 0, ""},
		{"cpu over many", 9, ""},
		{"cpu over 5 parsecs", 11, ""},
		{"time from 5 s to 3 s", 17, ""},
		{"time from 5", 10, ""},
		{"time", 4, ""},
		{"not", 3, ""},
		{"idle idle", 5, ""},
		{"thread is and", 10, ""},
		{`function matches "("`, 17, ""},
		{"in event where kind is disk", 3, "in events where kind is disk"},
		{"in events where duration is 5", 16, ""},
		{"in events where kind over 5", 16, ""},
		{"in events where duration over 5", 30, ""},
		{"in events where idle", 16, ""},
		{"woken by clerk", 9, ""},
		{"idle, thread is x", 4, ""},
		{"top is fn1 and\nfunktion is fn2", 15, "top is fn1 and\nfunction is fn2"},
	} {
		_, err := scope.Parse(c.text)
		var e *scope.SyntaxError
		if !errors.As(err, &e) {
			t.Errorf("%s: %v", c.text, err)
			continue
		}
		if e.At != c.at || e.Correction != c.correction || e.Problem == "" {
			t.Errorf("%s: at %d (want %d), %q, correction %q (want %q)", c.text, e.At, c.at, e.Problem, e.Correction, c.correction)
		}
		if c.correction != "" {
			if _, err := scope.Parse(c.correction); err != nil {
				t.Errorf("%s: the correction is wrong too: %v", c.text, err)
			}
		}
		if !strings.Contains(err.Error(), fmt.Sprintf("at character %d", c.at+1)) || strings.Contains(err.Error(), "\n") && !strings.Contains(c.text, "\n") {
			t.Errorf("%s: %v", c.text, err)
		}
	}
	if _, err := scope.Parse(strings.Repeat("(", 5000) + "idle" + strings.Repeat(")", 5000)); err == nil {
		t.Error("five thousand brackets were read")
	}
	if _, err := scope.Parse(strings.Repeat("x", 1<<20)); err == nil {
		t.Error("a word of a megabyte was read")
	}
}

func TestComplete(t *testing.T) {
	p := invent.Profile(4, invent.Small)
	n := scope.NewNames(p, scope.About{Program: "engraved", Build: "3.5.0"}, scope.Weights{})
	for _, c := range []struct {
		text, want string // | is the cursor; want is the text with the first proposal, or what must be among them
	}{
		{"thr|", "thread"}, {"thread |", "is"}, {"thread is |", "worker"}, {"thread is wo|", "worker"}, {"thread is worker |", "and"},
		{"function is fn1|", "fn1"}, {"build is |", "3.5.0"}, {"code is |", "own"}, {"path is fn1 |", ">"}, {"path is fn1 > |", "fn2"},
		{"time |", "from"}, {"time from 3 |", "s"}, {"time from 3 s |", "to"}, {"cp|", "cpu"}, {"cpu |", "over"}, {"cpu at |", "least"},
		{"(idle |", ")"}, {"not |", "idle"}, {"module is lib1|", "lib1.so.1"}, {"thread is worker and fun|", "function"}, {"fun| is fn2", "function"},
		{"label |", "page"}, {"label page |", "matches"}, {"label page is |", "3"}, {"span is dr|", "draw"}, {"label span is not |", "place"},
	} {
		at := strings.IndexByte(c.text, '|')
		text := strings.Replace(c.text, "|", "", 1)
		found := false
		for _, x := range n.Complete(text, at) {
			if x.Text == c.want {
				found = true
				if x.From > at || x.To != at || !strings.HasPrefix(x.Text, text[x.From:at]) {
					t.Errorf("%s: %q replaces %d to %d", c.text, x.Text, x.From, x.To)
				}
			}
		}
		if !found {
			t.Errorf("%s: %q is not among %v", c.text, c.want, n.Complete(text, at))
		}
	}
	absent := n.Absent(parse(t, "thread is worer and function is fn2, fnn3 and cpu over 1 ms and time to 3 s and code is own and label page is 2 and span is drew and label pge is 1"))
	if len(absent) != 4 || !strings.Contains(absent[2], `no value of the label span "drew"; the nearest is draw`) || !strings.Contains(absent[3], `no label "pge"; the nearest is page`) || !strings.Contains(absent[0], "the nearest is worker") || !strings.Contains(absent[1], "the nearest is fn3") {
		t.Errorf("absent: %q", absent)
	}
}

// Deciding early never contradicts what is found later.
func TestEarly(t *testing.T) {
	p := invent.Profile(5, invent.Small)
	decided := 0
	for _, text := range []string{
		"thread is worker", "thread is 101", "process is other", "code is kernel", "code is own", "not code is kernel", "thread is 101 and function is fn3",
		"thread is 101 or function is fn3", "not (thread is 101 and idle)", "time to 0.4 s and code is kernel, own", "", "code is k*",
	} {
		s := parse(t, text)
		in := s.Contains(p)
		for i := range p.Samples.Len() {
			th := p.Threads[p.Samples.Thread[i]]
			pr := p.Processes[th.Process]
			v := s.Early(scope.Early{
				Process: p.Strings[pr.Name], Thread: p.Strings[th.Name], PID: pr.PID, TID: th.TID, Time: p.Samples.Time[i],
				Kernel: p.Functions[p.FunctionOf(p.Samples.Stack[i])].Kind == profile.KindKernel,
			})
			if v == scope.In && !in(i) || v == scope.Out && in(i) {
				t.Fatalf("%s: sample %d is decided as %d, and is then %v", text, i, v, in(i))
			}
			if v != scope.Unknown {
				decided++
			}
		}
	}
	if decided < p.Samples.Len() {
		t.Errorf("only %d were decided early", decided)
	}
}

// A profile that grows is asked about samples that were not there before.
func TestGrowing(t *testing.T) {
	b := profile.NewBuilder()
	b.Measure("cpu", "ns", measure.Sum)
	m := b.Module(profile.Module{Path: b.Intern("/srv/engraved"), Kind: profile.KindOwn})
	frame := func(name string) profile.FrameID {
		return b.Frame(profile.Frame{Function: b.Function(profile.Function{Name: b.Intern(name), Module: m, Kind: profile.KindOwn})})
	}
	in := parse(t, "path is main.main > slur.Route and thread is worker").Contains(b.Profile())
	for i := range 50 {
		name := "worker"
		if i%2 == 1 {
			name = "drawer"
		}
		th := b.Thread(b.Process(1), uint32(i))
		b.NameThread(th, "unnamed")
		b.Sample(int64(i), th, 0, 1)
		if in(2 * i) {
			t.Errorf("sample %d of a thread without its name", i)
		}
		b.NameThread(th, name)
		s := b.Push(b.Push(0, frame("main.main")), frame(fmt.Sprint("step", i)))
		if i%3 == 0 {
			s = b.Push(s, frame("slur.Route"))
		}
		b.Sample(int64(i), th, s, 1)
		if want := i%3 == 0 && i%2 == 0; in(2*i+1) != want {
			t.Errorf("sample %d: %v", i, !want)
		}
	}
}

func TestPatterns(t *testing.T) {
	for pattern, names := range map[string]map[string]bool{
		"worker-*":       {"worker-1": true, "worker-": true, "worker": false, "a worker-1": false},
		"*Route*":        {"slur.Route": true, "Route": true, "slur.RouteAll": true, "slur.route": false},
		"a*b*c":          {"abc": true, "aXbYbZc": true, "acb": false, "ab": false},
		"w?rk":           {"work": true, "wörk": true, "wrk": false},
		"slur.(*Line).*": {"slur.(*Line).At": true, "slur.(Line).At": false, "slur.(*Line)x": false},
		"*":              {"": true, "x": true}, // a thread without a name has its number
		"a*a*a*a*a*a*b":  {"aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa": false},
	} {
		for name, want := range names {
			b := profile.NewBuilder()
			b.Measure("cpu", "ns", measure.Sum)
			th := b.Thread(b.Process(1), 1)
			b.NameThread(th, name)
			b.Sample(0, th, 0, 1)
			if got := parse(t, "thread is "+strconv.Quote(pattern)).Contains(b.Profile())(0); got != want {
				t.Errorf("%s is %s: %v", name, pattern, got)
			}
		}
	}
}

func TestIdle(t *testing.T) {
	b := profile.NewBuilder()
	b.Measure("waiting", "ns", measure.Sum)
	m := b.Module(profile.Module{Path: b.Intern("/srv/engraved"), Kind: profile.KindOwn})
	push := func(names ...string) (s profile.StackID) {
		for _, n := range names {
			if n[0] == '[' {
				s = b.Push(s, b.Mark(profile.MarkNamed(n), n[1:len(n)-1]))
				continue
			}
			s = b.Push(s, b.Frame(profile.Frame{Function: b.Function(profile.Function{Name: b.Intern(n), Module: m, Kind: profile.KindOwn})}))
		}
		return s
	}
	th := b.Thread(b.Process(1), 1)
	want := []bool{true, false, true, false, true, false}
	for _, s := range []profile.StackID{
		push("main.main", "[sleeps]"), push("main.main", "[waits for a lock]"), push("runtime.mcall", "runtime.findRunnable", "[waits for a lock]"),
		push("main.main", "sleeps"), push("start", "pthread_cond_wait@@GLIBC_2.3.2", "[waits for a lock]"), push("main.main", "[waits for the disk]"),
	} {
		b.Sample(0, th, s, 1)
	}
	in := parse(t, "idle").Contains(b.Profile())
	for i, w := range want {
		if in(i) != w {
			t.Errorf("stack %d is idle: %v", i, in(i))
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"thread is worker-* and not idle", `path is "a b" > c or (time from 3 s)`, "cpu at least 5ms", "function matches \"^a+$\"", "not not (idle)"} {
		f.Add(s)
	}
	p := invent.Profile(6, invent.Small)
	n := scope.NewNames(p, scope.About{}, scope.Weights{})
	f.Fuzz(func(t *testing.T, text string) {
		n.Complete(text, len([]rune(text))/2)
		s, err := scope.Parse(text)
		if err != nil {
			var e *scope.SyntaxError
			if !errors.As(err, &e) || e.At < 0 || e.At > len([]rune(e.Text)) || e.Problem == "" {
				t.Fatalf("%q: %#v", text, err)
			}
			return
		}
		again, err := scope.Parse(s.String())
		if err != nil || again.String() != s.String() {
			t.Fatalf("%q becomes %q and then %q: %v", text, s, again, err)
		}
		if a, b := count(p, s), count(p, again); a != b {
			t.Fatalf("%q holds %d samples, written as %q: %d", text, a, s, b)
		}
		n.Absent(s)
	})
}
