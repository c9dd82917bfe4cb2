package resolve

import (
	"entelon/core/profile"
	"entelon/resolve/raw"
	"entelon/runtimes/python"
	"entelon/unwind"
)

// walker walks the stacks of samples that carry registers and memory. What it holds is
// room that is used again; of the sample before, nothing is.
type walker struct {
	sample unwind.Sample
	python pythonStack
}

// copied appends the steps of a sample's stack to out, the innermost first.
func (w *walker) copied(p *Process, s *raw.Sample, out []unwind.Step) ([]unwind.Step, unwind.End) {
	w.python.reset()
	if !s.Known {
		return out, unwind.Entry // a thread of the kernel
	}
	for i := range s.Python {
		w.python.add(&s.Python[i], p.python)
	}
	w.sample = unwind.Sample{Registers: s.Registers, Memory: s.Memory, Full: s.Full, Kernel: s.Chain, Go: s.Go, Depths: w.sample.Depths}
	out, end := unwind.Walk(p, &p.rules, &w.sample, out)
	if !w.python.cut(p.python) {
		end = unwind.Torn
	}
	return out, end
}

// layOut visits the frames of the stack that was just walked, the innermost
// first: those of machine code as steps, and where a step is the interpreter's
// own evaluation of Python code, the frames of that code instead.
func (w *walker) layOut(steps []unwind.Step, native func(unwind.Step), interpreted func(*python.Entry)) {
	runs, depths := w.python.runs, w.sample.Depths
	visit := func(run *python.Run) {
		for i := range run.Frames {
			interpreted(&run.Frames[i])
		}
	}
	for i, s := range steps {
		upper := ^uint64(0)
		if i+1 < len(depths) {
			upper = depths[i+1]
		}
		replaced := false
		for len(runs) > 0 && i < len(depths) && runs[0].At < upper {
			replaced = runs[0].At >= depths[i]
			visit(&runs[0])
			runs = runs[1:]
		}
		if !replaced {
			native(s)
		}
	}
	for ; len(runs) > 0; runs = runs[1:] {
		visit(&runs[0]) // where the machine's stack was cut off before
	}
}

// followChain takes the kernel's walk along frame pointers for the stack.
func followChain(n *names, p *Process, chain []uint64, at uint64, out []unwind.Step) ([]unwind.Step, unwind.End) {
	begun := false
	outermost := func(s unwind.Step) profile.FrameID {
		f, _ := n.at(p, s, at)
		if len(f) == 0 {
			return 0
		}
		return f[len(f)-1]
	}
	for i, ip := range chain {
		s := unwind.Step{Address: ip, How: unwind.Counter}
		if i > 0 {
			s = unwind.Step{Address: ip - 1, How: unwind.FramePointer}
		}
		// Nothing of the program is beyond where it was started, so what the
		// frame pointers still lead to there is no frame.
		entry := n.isEntry(outermost(s))
		if begun && !entry {
			break
		}
		out = append(out, s)
		begun = entry && i > 0
	}
	if len(out) > 0 && !n.isEntry(outermost(out[len(out)-1])) {
		return out, unwind.NoTable
	}
	return out, unwind.Entry
}
