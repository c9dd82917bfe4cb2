package unwind

const (
	// searchedWords is how far a return address is looked for: code made at run time has
	// room on the stack for what does not fit into registers.
	searchedWords = 4096
	// maxSearches bounds how many walks of a sample are tried out. Each may meet such code
	// again.
	maxSearches = 12
)

// search finds where code made at run time was called from. It has no tables, its bytes are
// in no file, and often nothing keeps a frame pointer in it: an interpreter enters it with a
// frame of its own on the stack, on which it works. So the nearest word on the stack is
// looked for that code with tables could have left there with a call to a place that it does
// not name, or to what jumps to one, and from which the rest
// of the walk leads to the program's entry or a thread's start; the walk is done then. What
// called each other within such code cannot be distinguished.
func (w *walker) search() bool {
	from, ok := w.code.(Instructed)
	sp, known := w.regs.Get(RSP)
	if !ok || !known {
		return false
	}
	if code, _ := from.Instructions(w.regs.Value[PC]); code != nil {
		return false // it is in a file, and was asked already
	}
	for i := range uint64(searchedWords) {
		at := sp + 8*i
		ra, there := w.s.Memory.Word(at)
		if !there || ra < 1<<16 {
			continue
		}
		if l := w.cache.look(w.code, ra-1); !l.mapped || l.rule == nil {
			continue
		}
		caller, bias := from.Instructions(ra - 1)
		if caller == nil {
			continue
		}
		// A call of which the place is known leads to code in a file; from there a jump may.
		if to, direct, is := caller.CallBefore(ra - bias); !is || direct && !caller.JumpsAnywhere(to) {
			continue
		}
		if w.s.searched++; w.s.searched > maxSearches {
			return false
		}
		try := *w
		try.regs.Known &= afterCall
		try.regs.Set(RSP, at+8)
		try.regs.Set(PC, ra)
		if try.follow(false, TopOfStack) == Entry && len(try.out) > len(w.out) {
			w.out = try.out
			return true
		}
		w.s.Depths = w.s.Depths[:len(w.out)-w.begin]
	}
	return false
}
