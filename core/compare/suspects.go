package compare

import (
	"math"
	"slices"
	"sort"

	"entelon/core/profile"
	"entelon/core/scales"
	"entelon/core/statistics"
	"entelon/core/yardstick"
)

// Why says in which way a suspect explains a difference.
type Why string

// The ways.
const (
	OwnCode    Why = "own code"          // the function's own code takes more, or less, wherever it runs
	Oftener    Why = "called more often" // all that it does takes more alike: it is called more often, or has more to do
	Seldom     Why = "called less often"
	Heavier    Why = "more per call" // all that it does takes more alike, and it is called as often: counted
	Lighter    Why = "less per call"
	Callees    Why = "callees" // what it calls that is not the program's own, or several things, none of which stands out
	Newly      Why = "new"
	Away       Why = "gone"
	Moved      Why = "moved" // it costs as much as before, elsewhere
	Inlined    Why = "inlined now"
	Outline    Why = "inlined no longer"
	Rewritten  Why = "done differently" // it calls something new, or something no longer, for what it did before
	Throughout Why = "throughout"       // everything in the program takes more alike
)

// Suspect is a place that explains part of a difference: a path, and what the
// function at its end costs there.
type Suspect struct {
	Path                []int32 // functions from the outermost to the suspect
	Why                 Why
	statistics.Estimate         // of what it costs there, without what others explain
	Share               float64 // of the whole difference; less than 0 where it goes the other way
	Via                 int32   // the function that is new or gone, where it is Rewritten; where it is Callees, the one that most of it is in, if there is one; else -1
	Places              int     // on how many paths; Path is the one with the largest difference
	Enters              float64 // candidate to baseline of all that is below the path, 0 where the baseline has none
	Counts              []Count // calls there that were counted
	// Split is what of the difference is of the number of calls, and what of the cost of one;
	// both 0 where the calls of its function were not counted.
	Split [2]float64
}

// How says why, with the name of the function that tells more of it.
func (s *Suspect) How(name func(int32) string) string {
	switch {
	case s.Via < 0:
		return string(s.Why)
	case s.Why == Callees:
		return string(s.Why) + ", mostly in " + name(s.Via)
	}
	return string(s.Why) + ", by " + name(s.Via)
}

// Function is the one at the end of the path, -1 for the whole program.
func (s *Suspect) Function() int32 {
	if len(s.Path) == 0 {
		return -1
	}
	return s.Path[len(s.Path)-1]
}

const (
	// thin is the share of the whole from which on a path is looked at.
	thin = 0.0005
	// minShare is the share of the difference that a suspect explains at least.
	minShare = 0.04
	// part is the share of a function's cost from which on one of its parts says
	// something about the others.
	part = 0.08
	// alikeWithin is by how much the growth of parts may differ to be one growth,
	// as a factor, and growth from where on it is one.
	alikeWithin = 1.35
	growth      = 1.15
	// maxSuspects bounds the list.
	maxSuspects = 12
)

// finder walks the merged tree to the places where cost came in.
type finder struct {
	r     *Result
	whole float64 // the difference that is to be explained, its size
	found []found
	path  []int32
}

// found is one path to a suspect.
type found struct {
	n    *Both
	less []*Both // its parts that others explain
	path []int32
	why  Why
	via  int32
}

// Suspects attributes the difference of the sides to the fewest places that
// explain it. From the root it follows each path on which a good part of the
// difference goes, to where it is in one place no more: a function whose own code
// differs, one whose parts all differ by the same factor, so that it runs more
// often, or one that differs in many small things. Paths into libraries end at
// the program's own function that calls them.
func (r *Result) Suspects() []Suspect {
	root := r.Both(thin)
	f := &finder{r: r, whole: math.Abs(r.Whole.Difference)}
	if moved := shiftedBy(r); r.Scale == scales.ByShare || f.whole < moved/4 {
		f.whole = moved // shares, or growth and shrinking that make up for each other
	}
	if f.whole == 0 {
		return nil
	}
	f.walk(root)
	out := f.suspects()
	sort.SliceStable(out, func(i, j int) bool {
		if a, b := out[i].told(), out[j].told(); a != b {
			return a
		}
		return math.Abs(out[i].Difference) > math.Abs(out[j].Difference)
	})
	if len(out) > maxSuspects {
		out = out[:maxSuspects]
	}
	return out
}

func (s *Suspect) told() bool {
	return s.Verdict == statistics.Slower || s.Verdict == statistics.Faster
}

// suspects puts the paths to one function that differs in one way together.
func (f *finder) suspects() []Suspect {
	type key struct {
		function int32
		why      Why
		via      int32
	}
	groups := map[key][]found{}
	var order []key
	for _, x := range f.found {
		k := key{x.n.Function, x.why, x.via}
		if groups[k] == nil {
			order = append(order, k)
		}
		groups[k] = append(groups[k], x)
	}
	var out []Suspect
	for _, k := range order {
		var total [2]statistics.Quantity
		var all [2]float64
		best := groups[k][0]
		for i, x := range groups[k] {
			c := f.r.figures(x.n, x.less)
			for side := range c {
				if i == 0 {
					total[side] = c[side]
				} else {
					total[side].Samples += c[side].Samples
					for j, v := range c[side].Value {
						total[side].Value[j] += v
					}
				}
				all[side] += x.n.Total[side]
			}
			if math.Abs(difference(x.n)) > math.Abs(difference(best.n)) {
				best = x
			}
		}
		s := Suspect{Path: best.path, Why: k.why, Via: k.via, Places: len(groups[k]), Estimate: statistics.Compare(&total[0], &total[1], f.r.spreads.Of(&total[0], &total[1]), f.r.spreads.Exact)}
		if k.why == Callees && k.function >= 0 {
			s.Via = f.mostly(groups[k])
		}
		s.Judge(f.tells(k.function, k.why, s.P), math.Inf(1))
		whole := f.whole
		if f.r.Whole.Difference < 0 && f.r.Scale != scales.ByShare {
			whole = -whole
		}
		s.Share = s.Difference / whole
		s.Counts = countsAt(f.r, groups[k])
		if s.Itself() {
			calls, each, _ := Split([2]float64{total[0].Mean(), total[1].Mean()}, s.Counts[0].Calls)
			s.Split = [2]float64{calls, each}
		}
		if all[0] > 0 {
			s.Enters = all[1] / all[0]
		}
		out = append(out, s)
	}
	return out
}

// mostly returns the callee that more than half of what some places differ by is
// in, -1 if there is none.
func (f *finder) mostly(places []found) int32 {
	by := map[int32]float64{}
	all := 0.0
	for _, x := range places {
		all += difference(x.n)
		for _, p := range x.less {
			all -= difference(p)
		}
		for _, p := range x.n.Parts {
			if !slices.Contains(x.less, p) {
				by[p.Function] += difference(p)
			}
		}
	}
	most, best := int32(-1), 0.5
	for fn, d := range by { // where some go the other way, several can have more than half
		if share := d / all; fn >= 0 && (share > best || share == best && fn < most) {
			most, best = fn, share
		}
	}
	return most
}

// executing is by how much that differs which a runtime does for a function that it
// interprets: what the function calls of the runtime's own.
func (f *finder) executing(n *Both) float64 {
	sum := 0.0
	for _, p := range n.Parts {
		if row := f.r.row(p.Function); row != nil && row.Kind == profile.KindRuntime && !row.Interpreted {
			sum += p.Self[1] - p.Self[0] + f.executing(p)
		}
	}
	return sum
}

// tells reports whether a suspect's difference is significant. Suspects are
// chosen for their difference, so that their own test alone would tell too often:
// the function must be among those that are told with the rate of false ones held.
// One whose work moved costs what it did before, and its test is held to the
// number of all functions instead.
func (f *finder) tells(function int32, why Why, p float64) bool {
	row := f.r.row(function)
	switch {
	case row == nil:
		return f.r.Whole.Verdict == statistics.Slower || f.r.Whole.Verdict == statistics.Faster
	case why == Moved:
		return p*float64(len(f.r.Rows)) <= 1-statistics.Confidence
	}
	return row.Certain && p <= 1-statistics.Confidence
}

// shiftedBy is how much cost came to functions that have more of it than before.
func shiftedBy(r *Result) float64 {
	sum := 0.0
	for _, row := range r.Rows {
		sum += math.Max(0, row.Self.Difference)
	}
	return sum
}

func difference(n *Both) float64 { return n.Total[1] - n.Total[0] }

// walk looks for what explains a node's difference.
func (f *finder) walk(n *Both) {
	if n.Function >= 0 {
		f.path = append(f.path, n.Function)
		defer func() { f.path = f.path[:len(f.path)-1] }()
		if row := f.r.row(n.Function); row.State == New && row.Certain || row.State == Gone && row.Certain {
			f.add(n, nil)
			return
		}
	}
	if f.byCalls(n) || f.one(n) {
		f.add(n, nil)
		return
	}
	var explained []*Both
	rest, self := difference(n), difference(n)
	for _, p := range n.Parts {
		self -= difference(p)
		if math.Abs(difference(p)) < minShare*f.whole && !f.below(p) || !f.followed(n, p) {
			continue
		}
		explained = append(explained, p)
		rest -= difference(p)
	}
	if p := f.replaced(n, self); p != nil && n.Function >= 0 {
		f.found = append(f.found, found{n, nil, append([]int32(nil), f.path...), Rewritten, p.Function})
		return
	}
	for _, p := range explained {
		f.walk(p)
	}
	if math.Abs(rest) >= minShare*f.whole {
		f.add(n, explained)
	}
}

// below reports whether a part that differs little has parts of which some grew
// and others shrank.
func (f *finder) below(n *Both) bool {
	for _, p := range n.Parts {
		if math.Abs(difference(p)) >= minShare*f.whole {
			return true
		}
	}
	return false
}

// followed reports whether the walk goes on into a part: from own code only into
// own code, and through others' on the way to it.
func (f *finder) followed(n, p *Both) bool {
	if f.own(p) || !f.own(n) && !f.ownAbove() {
		return true
	}
	for _, q := range p.Parts {
		if f.followed(p, q) && (f.own(q) || f.leads(q)) {
			return true
		}
	}
	return false
}

func (f *finder) leads(n *Both) bool {
	for _, p := range n.Parts {
		if math.Abs(difference(p)) >= minShare*f.whole && (f.own(p) || f.leads(p)) {
			return true
		}
	}
	return false
}

func (f *finder) own(n *Both) bool {
	k := f.r.Kind(n.Function)
	return n.Function >= 0 && (k == profile.KindOwn || k == profile.KindInterpreter || k == profile.KindJIT)
}

func (f *finder) ownAbove() bool {
	for _, fn := range f.path {
		if k := f.r.Kind(fn); k == profile.KindOwn || k == profile.KindInterpreter || k == profile.KindJIT {
			return true
		}
	}
	return false
}

// one reports whether all that a function does grew, or shrank, by one factor.
func (f *finder) one(n *Both) bool {
	if n.Total[0] == 0 || n.Total[1] == 0 || math.Abs(difference(n)) < minShare*f.whole {
		return false
	}
	ratio := n.Total[1] / n.Total[0]
	if ratio < growth && ratio > 1/growth {
		return false
	}
	// The parts of weight, the function's own code among them.
	parts, rest := 0, n.Total
	ok := func(a, b float64) bool {
		if math.Max(a/n.Total[0], b/n.Total[1]) < part {
			return true
		}
		parts++
		return a > 0 && b/a/ratio < alikeWithin && b/a/ratio > 1/alikeWithin
	}
	for _, p := range n.Parts {
		rest[0] -= p.Total[0]
		rest[1] -= p.Total[1]
		if !ok(p.Total[0], p.Total[1]) || !f.grewAlong(p, nil, n, ratio) {
			return false
		}
		// A part that is nearly all of it is looked at itself: the place is there.
		if math.Min(p.Total[0]/n.Total[0], p.Total[1]/n.Total[1]) > 1-part {
			return false
		}
	}
	return ok(rest[0], rest[1]) && f.grewAlong(n, n.Parts, n, ratio) && parts >= 2 && f.deeply(n, ratio) && !f.apart(n, ratio)
}

// apart reports whether one part of a node certainly grew by more than another did, and by
// more than by the factor of all: then that part grew, and not all alike. Of parts that nobody
// changed the logarithms differ by yardJitter besides.
func (f *finder) apart(n *Both, ratio float64) bool {
	type grown struct{ log, variance float64 }
	var least, most grown
	first := true
	look := func(p *Both, less []*Both) {
		c := f.r.figures(p, less)
		a, b := c[0].Mean(), c[1].Mean()
		if a <= 0 || b <= 0 || math.Max(a/n.Total[0], b/n.Total[1]) < part {
			return
		}
		g := grown{math.Log(b / a), 1/(c[0].Samples+1) + 1/(c[1].Samples+1) + yardstick.Jitter*yardstick.Jitter}
		if first || g.log < least.log {
			least = g
		}
		if first || g.log > most.log {
			most = g
		}
		first = false
	}
	for _, p := range n.Parts {
		look(p, nil)
	}
	look(n, n.Parts)
	by := most.log - least.log
	return by > math.Abs(math.Log(ratio)) && by > yardstick.Reach*math.Sqrt(least.variance+most.variance)
}

// grewAlong reports whether a part of a node, less some of its own parts, may have grown, or
// shrunk, by at least half as much as the node did, by the samples that it has: where one
// part stayed as it was, no single factor is at work, however small it is. What is no part
// of weight says nothing.
func (f *finder) grewAlong(p *Both, less []*Both, n *Both, ratio float64) bool {
	c := f.r.figures(p, less)
	a, b := c[0].Mean(), c[1].Mean()
	if a <= 0 || b <= 0 || math.Max(a/n.Total[0], b/n.Total[1]) < part {
		return true
	}
	deviation := math.Sqrt(1/(c[0].Samples+1) + 1/(c[1].Samples+1))
	grown, wanted := math.Log(b/a), math.Log(ratio)/2
	if ratio < 1 {
		grown, wanted = -grown, -wanted
	}
	return grown+2*deviation >= wanted
}

// deeply reports whether everything of weight below a node grew by the factor,
// too: a function that is new, or that grew by another, is a place of its own.
func (f *finder) deeply(n *Both, ratio float64) bool {
	var even func(p *Both) bool
	even = func(p *Both) bool {
		for _, q := range p.Parts {
			if math.Max(q.Total[0]/n.Total[0], q.Total[1]/n.Total[1]) < part {
				continue
			}
			if q.Total[0] == 0 || q.Total[1]/q.Total[0]/ratio > alikeWithin || q.Total[1]/q.Total[0]/ratio < 1/alikeWithin || !even(q) {
				return false
			}
		}
		return true
	}
	return even(n)
}

// oftener tells which it is where all that a function does differs alike: how often
// it is called, or, where counting shows that to be less than half of the factor,
// what each call takes.
func (f *finder) oftener(n *Both) Why {
	times, ratio := f.calledTimes(n), n.Total[1]/n.Total[0]
	each := times > 0 && math.Log(times)/math.Log(ratio) < 0.5
	switch {
	case each && ratio > 1:
		return Heavier
	case each:
		return Lighter
	case ratio > 1:
		return Oftener
	}
	return Seldom
}

// add writes a path to a suspect down.
func (f *finder) add(n *Both, less []*Both) {
	f.found = append(f.found, found{n, less, append([]int32(nil), f.path...), f.why(n, less), -1})
}

// replaced returns the part that came, or went, for what a function did before in
// another way: its own code, or calls that are now below that part, differ the
// other way. self is the difference of its own code and of what is thin.
func (f *finder) replaced(n *Both, self float64) *Both {
	for _, p := range n.Parts {
		row := f.r.row(p.Function)
		if row.State != New && row.State != Gone || !row.Certain || math.Abs(difference(p)) < minShare*f.whole {
			continue
		}
		below := map[int32]bool{}
		functions(p, below)
		other := self
		for _, q := range n.Parts {
			if q != p && below[q.Function] {
				other += difference(q)
			}
		}
		if other*difference(p) < 0 && math.Abs(other) >= minShare*f.whole {
			return p
		}
	}
	return nil
}

func functions(n *Both, into map[int32]bool) {
	for _, p := range n.Parts {
		into[p.Function] = true
		functions(p, into)
	}
}

func (f *finder) why(n *Both, less []*Both) Why {
	d := difference(n)
	for _, p := range less {
		d -= difference(p)
	}
	row := f.r.row(n.Function)
	self := n.Self[1] - n.Self[0]
	switch {
	case row == nil && len(less) == 0:
		return Throughout
	case row == nil:
		return Callees
	case row.State == New:
		return Newly
	case row.State == Gone:
		return Away
	case len(less) == 0 && n.Inlined[1] && !n.Inlined[0] && n.Samples[0] > 0:
		return Inlined
	case len(less) == 0 && n.Inlined[0] && !n.Inlined[1] && n.Samples[1] > 0:
		return Outline
	case len(less) == 0 && math.Abs(row.Total.Difference) < 0.2*math.Abs(d):
		return Moved
	case len(less) == 0 && (f.byCalls(n) || f.one(n)):
		return f.oftener(n)
	case self/d > 0.6:
		return OwnCode
	case row.Interpreted && (self+f.executing(n))/d > 0.6 && f.mostly([]found{{n: n, less: less}}) < 0:
		return OwnCode // no callee stands out, and the runtime executes it
	}
	return Callees
}
