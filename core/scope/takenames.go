package scope

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"sort"
	"strings"

	"entelon/core/profile"
	"entelon/core/scope/language"
)

// Names are what a take has to be chosen by, for completing expressions and for
// noticing names that it does not have.
type Names struct {
	of map[string][]named // by field, those with most samples first
}

type named struct {
	name    string
	also    []string // under which it is found, too
	samples int64
}

// Weights are how many samples what a name stands for has: names with many are
// proposed first. Columns that are nil weigh nothing.
type Weights struct {
	Self, Total []int64 // by function
	Thread      []int64 // by thread
}

// NewNames lists the names of a profile.
func NewNames(p *profile.Profile, about About, w Weights) *Names {
	at := func(column []int64, i int) int64 {
		if i < len(column) {
			return column[i]
		}
		return 0
	}
	n := &Names{of: map[string][]named{}}
	gather := func(field string, each func(add func(name string, samples int64, also ...string))) {
		known := map[string]int{}
		each(func(name string, samples int64, also ...string) {
			if name == "" {
				return
			}
			i, ok := known[name]
			if !ok {
				i = len(n.of[field])
				known[name] = i
				n.of[field] = append(n.of[field], named{name: name})
			}
			x := &n.of[field][i]
			x.samples += samples
			for _, a := range also {
				if a != "" && a != name && !slices.Contains(x.also, a) {
					x.also = append(x.also, a)
				}
			}
		})
		sort.SliceStable(n.of[field], func(a, b int) bool { return n.of[field][a].samples > n.of[field][b].samples })
	}
	gather("thread", func(add func(string, int64, ...string)) {
		for i, t := range p.Threads {
			add(p.Strings[t.Name], at(w.Thread, i), number(t.TID))
		}
	})
	gather("process", func(add func(string, int64, ...string)) {
		for i, t := range p.Threads {
			pr := p.Processes[t.Process]
			add(p.Strings[pr.Name], at(w.Thread, i), number(pr.PID))
		}
	})
	functions := func(weights []int64) func(add func(string, int64, ...string)) {
		return func(add func(string, int64, ...string)) {
			for i := 1; i < len(p.Functions); i++ {
				name := p.FunctionName(profile.FunctionID(i))
				add(profile.Short(name), at(weights, i), name, p.Strings[p.Functions[i].Linkage])
			}
		}
	}
	gather("function", functions(w.Total))
	gather("path", functions(w.Total))
	gather("top", functions(w.Self))
	gather("module", func(add func(string, int64, ...string)) {
		for i := 1; i < len(p.Functions); i++ {
			f := profile.FunctionID(i)
			whole := p.ModulePath(f)
			add(path.Base(whole), at(w.Self, i), whole, p.Home(f), p.Area(f))
		}
	})
	gather("code", func(add func(string, int64, ...string)) {
		for i := 1; i < len(p.Functions); i++ {
			add(p.Functions[i].Kind.String(), at(w.Self, i))
		}
	})
	gather("state", func(add func(string, int64, ...string)) {
		for i := 1; i < len(p.Functions); i++ {
			if is := p.Functions[i].Mark.State(); is != "" {
				add(is, at(w.Self, i))
			}
		}
	})
	eventNames(p, gather)
	gather(language.DuringField, func(add func(string, int64, ...string)) { spanNames(p, add) })
	sets := make([]int64, p.LabelSets.Len()) // samples
	for i := range p.Samples.Labels {
		sets[p.Samples.Labels[i]]++
	}
	gather("label", func(add func(string, int64, ...string)) {
		eachLabel(p, sets, func(name, _ string, n int64) { add(name, n) })
	})
	for _, name := range n.all("label") {
		gather(language.LabelField(name), func(add func(string, int64, ...string)) {
			eachLabel(p, sets, func(is, value string, n int64) {
				if is == name {
					add(value, n)
				}
			})
		})
	}
	n.of["span"] = n.of[language.LabelField(profile.SpanLabel)]
	gather("program", func(add func(string, int64, ...string)) { add(about.Program, int64(p.Samples.Len())) })
	gather("build", func(add func(string, int64, ...string)) { add(about.Build, int64(p.Samples.Len())) })
	gather("workload", func(add func(string, int64, ...string)) { add(about.Workload, int64(p.Samples.Len())) })
	gather("", func(add func(string, int64, ...string)) { // the measures stand where a field could
		for i := range p.Measures {
			add(p.Words(i).Name, p.Total(i))
		}
	})
	return n
}

// eachLabel goes through the labels of sets with their samples.
func eachLabel(p *profile.Profile, samples []int64, do func(name, value string, samples int64)) {
	for i := range samples {
		for s := profile.LabelSetID(i); s != 0 && samples[i] > 0; s = p.LabelSets.Parent[s] {
			do(p.Strings[p.LabelSets.Name[s]], p.Strings[p.LabelSets.Value[s]], samples[i])
		}
	}
}

// Absent says which names of an expression the take does not have, each in one
// sentence with the nearest that it has.
func (n *Names) Absent(s Scope) []string {
	out := []string{}
	var look func(expression)
	absent := func(field string, ps []pattern) {
		for _, p := range ps {
			if n.has(field, p) {
				continue
			}
			text := fmt.Sprintf("The take has no %s %q", what(field), p.source)
			if name, ok := strings.CutPrefix(field, language.EventField("")); ok {
				text = strings.TrimSpace(fmt.Sprintf("No event of the take has the %s", name)) + fmt.Sprintf(" %q", p.source)
				if name == "" {
					text = fmt.Sprintf("No event of the take has %q", p.source)
				}
			}
			if p.regular() {
				text = fmt.Sprintf("The take has no %s that matches %q", what(field), p.source)
			}
			if near := language.Nearest(p.source, n.all(field)); near != "" {
				text += fmt.Sprintf("; the nearest is %s", language.Quote(near))
			}
			out = append(out, text+".")
		}
	}
	look = func(x expression) {
		switch x := x.(type) {
		case all:
			for _, c := range x {
				look(c)
			}
		case any_:
			for _, c := range x {
				look(c)
			}
		case not:
			look(x.of)
		case field:
			absent(x.name, x.is)
		case label:
			if !n.has("label", pattern{source: x.name}) {
				absent("label", []pattern{{source: x.name}})
				return
			}
			absent(language.LabelField(x.name), x.is)
		case during:
			absent(language.DuringField, x.spans)
		case pathExpr:
			absent("path", x.steps)
		case amount:
			absent("", []pattern{literal(x.measure)})
		case inEvents:
			look(x.where)
		case about:
			switch {
			case x.name != language.EventKind && x.name != language.EventName && x.name != language.EventDuration && !n.has(language.EventField(""), pattern{source: x.name}):
				absent(language.EventField(""), []pattern{{source: x.name}})
			case len(x.is) > 0 && len(n.of[language.EventField(x.name)]) > 0:
				absent(language.EventField(x.name), x.is)
			}
		case woken:
			absent("thread", x.by)
		}
	}
	if s.root != nil {
		look(s.root)
	}
	return out
}

func what(field string) string {
	switch field {
	case "":
		return "measure"
	case "path":
		return "function"
	case "top":
		return "function on top of a stack"
	case "code":
		return "code of the kind"
	case "state":
		return "thread in the state"
	case language.DuringField:
		return "span"
	}
	if name, ok := strings.CutPrefix(field, language.EventField("")); ok {
		return cmp.Or(name, "event")
	}
	if name, ok := strings.CutPrefix(field, language.LabelField("")); ok {
		return fmt.Sprintf("value of the label %s", language.Quote(name))
	}
	return field
}

func (n *Names) has(field string, p pattern) bool {
	for _, x := range n.of[field] {
		if p.fits(x.name) {
			return true
		}
		for _, a := range x.also {
			if p.fits(a) {
				return true
			}
		}
	}
	return false
}

func (n *Names) all(field string) []string {
	var out []string
	for _, x := range n.of[field] {
		out = append(out, x.name)
	}
	return out
}

// Proposal is a way to go on with an expression.
type Proposal struct {
	Text    string // the piece that is put in
	From    int    // the characters that it replaces
	To      int
	Samples int64 // of a name; 0 for a word of the language
}

// maxProposals is how many are made at once.
const maxProposals = 12

// Complete proposes what may stand at a place of an expression, counted in
// characters: words of the language, and names of the take that hold what stands
// there already, those that begin with it first.
func (n *Names) Complete(text string, at int) []Proposal {
	rs := []rune(text)
	at = max(0, min(at, len(rs)))
	head := string(rs[:at])
	place, begun, typed, _ := language.Begun(head)
	from := at - len([]rune(begun))
	out := []Proposal{}
	names := func(field string) {
		for pass := range 2 { // first those that begin with it
			for _, x := range n.of[field] {
				begins := hasPrefixFold(x.name, typed)
				for _, a := range x.also {
					begins = begins || hasPrefixFold(a, typed) && typed != ""
				}
				within := strings.Contains(strings.ToLower(x.name), strings.ToLower(typed))
				if begins == (pass == 0) && (begins || within) && len(out) < maxProposals {
					out = append(out, Proposal{language.Quote(x.name), from, at, x.samples})
				}
			}
		}
	}
	if place.WantsName() {
		names(place.Field)
	}
	for _, w := range place.Words() {
		if hasPrefixFold(w, begun) && len(out) < maxProposals+4 {
			out = append(out, Proposal{Text: w, From: from, To: at})
		}
	}
	if place.WantsCondition() && begun != "" {
		if place.Event {
			names(language.EventField(""))
		}
		names("")
	}
	return out
}

func hasPrefixFold(s, prefix string) bool {
	return len(s) >= len(prefix) && strings.EqualFold(s[:len(prefix)], prefix)
}
