package reading

import (
	"fmt"
	"sort"
	"strings"

	"entelon/core/calltree"
	"entelon/core/profile"
	"entelon/core/scope"
)

// nature is what a part of the cost looks like by the names of the functions
// that it is spent below. It is a guess from names, and is said as one.
type nature struct {
	text  string
	begin []string // of names, without a leading package
	hold  []string // anywhere in names
}

// natures are in the order in which they are tried: the outermost function of
// any of them takes what is below it.
var natures = []nature{
	{"allocating and freeing memory", []string{"malloc", "calloc", "realloc", "free", "__libc_malloc", "__libc_free", "__libc_calloc", "__libc_realloc", "_int_malloc", "_int_free", "cfree", "operator new", "operator delete", "runtime.mallocgc", "runtime.newobject", "runtime.growslice", "runtime.makeslice", "runtime.gcBgMarkWorker", "runtime.gcAssistAlloc", "runtime.gcStart", "runtime.bgsweep", "gc_collect_main", "PyObject_Malloc", "PyObject_Free", "_PyObject_Malloc", "PyMem_Malloc", "v8::internal::Heap::", "v8::internal::Scavenger", "alloc::alloc::"}, nil},
	{"locking", []string{"pthread_mutex_", "__pthread_mutex_", "__lll_lock_", "__lll_unlock_", "___pthread_mutex_", "pthread_rwlock_", "sync.(*Mutex)", "sync.(*RWMutex)", "runtime.lock2", "runtime.unlock2", "runtime.semacquire", "std::mutex", "futex_"}, nil},
	{"copying memory", []string{"memcpy", "__memcpy", "memmove", "__memmove", "memset", "__memset", "runtime.memmove", "runtime.memclr", "runtime.typedmemmove", "copy_page", "clear_page", "copy_user"}, nil},
	{"logging", []string{"syslog", "log.(*Logger)", "slog.", "std::clog", "logging."}, []string{"spdlog::", "log4"}},
	{"formatting and parsing text", []string{"printf", "vfprintf", "__vfprintf", "__printf", "sprintf", "snprintf", "vsnprintf", "fmt.", "strconv.", "encoding/json.", "json.", "std::ostream::", "std::to_string", "strtod", "core::fmt::", "PyUnicode_Format", "v8::internal::NumberToString"}, nil},
}

// natureAt returns which nature a function has, -1 for none.
func natureAt(name string) int {
	short := name
	if i := strings.LastIndexByte(name, '/'); i >= 0 && !strings.ContainsAny(name[:i], " (<") {
		short = name[i+1:]
	}
	for k, n := range natures {
		for _, b := range n.begin {
			if strings.HasPrefix(short, b) || strings.HasPrefix(name, b) {
				return k
			}
		}
		for _, h := range n.hold {
			if strings.Contains(name, h) {
				return k
			}
		}
	}
	return -1
}

// notable is the share from which on a nature is said.
const notable = 0.05

// part is a node whose cost is of one nature, and that is not below another such.
type part struct {
	node   calltree.NodeID
	nature int8
}

// classify finds what looks like housekeeping, whatever it costs: the topmost
// nodes of each nature, and all nodes that idle.
func classify(t *calltree.Tree) (parts []part, idling []calltree.NodeID) {
	of := make([]int8, len(t.Profile.Functions))
	for f := range of {
		of[f] = -1
		if k := t.Profile.Functions[f].Kind; f != 0 && k != profile.KindOwn && k != profile.KindMark {
			of[f] = int8(natureAt(t.Profile.FunctionName(profile.FunctionID(f))))
		}
	}
	idle := scope.Idle(t.Profile)
	idles := make([]bool, t.Len())
	for n := calltree.NodeID(1); int(n) < t.Len(); n++ {
		f := t.Function[n]
		if idles[n] = idle(f) || idles[t.Parent[n]] && t.Profile.Functions[f].Kind != profile.KindOwn; idles[n] {
			idling = append(idling, n)
		} else if k := of[f]; k >= 0 {
			parts = append(parts, part{n, k})
			n = t.End(n) - 1
		}
	}
	return parts, idling
}

// looksLike says which parts of the cost look like housekeeping rather than work.
func (r *Reader) looksLike(c *calltree.Cost) []Part {
	t, total := r.tree, c.Total(0)
	var idling int64
	for _, n := range r.idling {
		idling += c.Self(n)
	}
	sum := make([]int64, len(natures))
	most := make([]map[profile.FunctionID]int64, len(natures))
	for _, x := range r.parts {
		v := c.Total(x.node)
		if v == 0 {
			continue
		}
		sum[x.nature] += v
		if most[x.nature] == nil {
			most[x.nature] = map[profile.FunctionID]int64{}
		}
		most[x.nature][t.Function[x.node]] += v
	}
	order := make([]int, 0, len(natures))
	for k, v := range sum {
		if float64(v) >= notable*float64(total) {
			order = append(order, k)
		}
	}
	var rest []Part
	if float64(idling) >= notable*float64(total) {
		rest = append(rest, Part{Text: fmt.Sprintf(" %s is idling, which i leaves out.", percent(float64(idling)/float64(total)))})
	}
	if len(order) == 0 {
		return rest
	}
	sort.SliceStable(order, func(i, j int) bool { return sum[order[i]] > sum[order[j]] })
	out := []Part{{Text: " About "}}
	for i, k := range order {
		switch {
		case i > 0 && i == len(order)-1:
			out = append(out, Part{Text: " and "})
		case i > 0:
			out = append(out, Part{Text: ", "})
		}
		best, value := profile.FunctionID(0), int64(0)
		for f, v := range most[k] {
			if v > value || v == value && f < best {
				best, value = f, v
			}
		}
		out = append(out, Part{Text: fmt.Sprintf("%s looks like %s (", percent(float64(sum[k])/float64(total)), natures[k].text)}, Part{profile.Short(t.Profile.FunctionName(best)), best}, Part{Text: ")"})
	}
	return append(append(out, Part{Text: ", judging by function names."}), rest...)
}

// ownership says whose code the cost is in: what the program's own functions
// cost themselves, and what they spend in what they call.
func ownership(p *profile.Profile, total int64, rows []calltree.FunctionCost) []Part {
	var self [16]int64
	for _, r := range rows {
		self[p.Functions[r.Function].Kind&15] += r.Self
	}
	own := float64(self[profile.KindOwn]) / float64(total)
	if own > 0.995 || own == 0 {
		return nil
	}
	others := []struct {
		kind profile.ModuleKind
		text string
	}{{profile.KindLibrary, "libraries"}, {profile.KindRuntime, "the language runtime"}, {profile.KindKernel, "the kernel"}, {profile.KindUnknown, "unknown code"}}
	sort.SliceStable(others, func(i, j int) bool { return self[others[i].kind] > self[others[j].kind] })
	out := fmt.Sprintf(" %s is in the program's own code", percent(own))
	if first := others[0]; float64(self[first.kind]) >= notable*float64(total) {
		out += fmt.Sprintf(", %s in %s", percent(float64(self[first.kind])/float64(total)), first.text)
		if second := others[1]; float64(self[second.kind]) >= notable*float64(total) {
			out += fmt.Sprintf(", %s in %s", percent(float64(self[second.kind])/float64(total)), second.text)
		}
	}
	return []Part{{Text: out + "."}}
}
