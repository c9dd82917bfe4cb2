package unwind

// Code tells what is mapped where in one process, at the time of the sample.
type Code interface {
	// Table returns the table of the module at an address, and what to take
	// from the address to get into the module's own address space. The table
	// is nil where the module has none; mapped is false where the address is
	// not executable.
	Table(addr uint64) (t *Table, bias uint64, mapped bool)
}

// Cache remembers the rules of addresses of one process, until its mappings
// change. The zero value is ready.
type Cache struct {
	lines []line
}

type line struct {
	addr   uint64
	rule   *Rule
	table  *Table
	mapped bool
}

const cacheLines = 1 << 11

// Reset forgets everything.
func (c *Cache) Reset() { clear(c.lines) }

func (c *Cache) look(code Code, addr uint64) *line {
	if c.lines == nil {
		c.lines = make([]line, cacheLines)
	}
	l := &c.lines[(addr^addr>>11)%cacheLines]
	if l.addr == addr && addr != 0 {
		return l
	}
	t, bias, mapped := code.Table(addr)
	*l = line{addr: addr, table: t, mapped: mapped}
	if t != nil {
		l.rule = t.find(addr - bias)
	}
	return l
}

// Sample is what is known of a thread at one moment.
type Sample struct {
	Registers Registers
	Memory    Memory // the first window begins at the stack pointer
	Full      bool   // the first window is as long as was asked for, so the stack may go on behind it
	// Kernel is the walk of the kernel along frame pointers, from the program
	// counter on; empty where it did none.
	Kernel []uint64
	Go     GoStacks
	// Depths is set by Walk: the stack pointer at each step, which is the lower
	// end of that frame's part of the stack, 0 where it is not known.
	Depths   []uint64
	searched int // walks that were tried out
}

// GoStacks is where the Go runtime keeps the places at which a thread left
// its stacks: it runs its own work and C code on a system stack, and all else
// on the stacks of goroutines.
type GoStacks struct {
	Known     bool
	Low, High uint64 // the goroutine's stack
	SP, PC    uint64 // where the goroutine's stack was left, as the scheduler noted it
	BP        uint64
	SystemSP  uint64 // where the system stack was left
}

// walker is one walk.
type walker struct {
	code  Code
	cache *Cache
	s     *Sample
	regs  Registers
	out   []Step
	begin int // of this stack in out
}

// Walk appends the steps of a sample's stack to out, the innermost first, and
// says why it ended. It allocates nothing but room for the steps.
func Walk(code Code, cache *Cache, s *Sample, out []Step) ([]Step, End) {
	w := walker{code: code, cache: cache, s: s, regs: s.Registers, out: out}
	s.Depths, s.searched = s.Depths[:0], 0
	w.begin = len(out)
	end := w.follow(true, Counter)
	return w.out, end
}

// follow walks from the present registers. exact says that the program counter
// is that of the very instruction, how the way to the first frame.
func (w *walker) follow(exact bool, how How) End {
	for {
		pc := w.regs.Value[PC]
		at := pc
		if !exact {
			at--
		}
		l := w.cache.look(w.code, at)
		if !l.mapped {
			if how == Counter {
				w.push(Step{pc, how}, w.regs.Value[RSP])
			}
			return NoCode
		}
		if exact && l.rule == nil {
			// A system call may be the last instruction of a function, and where it returns
			// to is behind it.
			if before := w.cache.look(w.code, pc-1); before.mapped && before.rule != nil {
				l, at = before, pc-1
			}
		}
		signal := l.rule != nil && (l.rule.signal || l.rule.cfa == cfaSignal)
		if signal {
			at = pc // the trampoline was not called, the kernel set its address
		}
		w.push(Step{at, how}, w.regs.Value[RSP])
		if len(w.out)-w.begin >= MaxFrames {
			return TooMany
		}
		next, end, more := w.step(l)
		if !more {
			return end
		}
		how, exact = next, signal
		if signal {
			how = Signal
		}
	}
}

func (w *walker) push(s Step, sp uint64) {
	w.out = append(w.out, s)
	w.s.Depths = append(w.s.Depths, sp)
}

// step changes the registers to those of the caller.
func (w *walker) step(l *line) (how How, end End, more bool) {
	r := l.rule
	if r == nil {
		if w.leaf() {
			return 0, Entry, false
		}
		if w.atEntry() {
			return 0, Entry, false
		}
		if w.byInstructions() {
			return Instructions, 0, true
		}
		how, end, more = w.framePointer(NoTable)
		if !more && end == NoTable && w.search() {
			end = Entry
		}
		return how, end, more
	}
	switch r.cfa {
	case cfaOutmost:
		return 0, Entry, false
	case cfaSwitch:
		return w.change(r)
	case cfaSignal:
		return w.signal()
	}
	cfa, ok := w.frameAddress(l)
	if !ok {
		return 0, NoTable, false
	}
	before := w.regs.Value[RSP]
	next := w.regs
	if r.ra != raSaved {
		ra, ok := w.s.Memory.Word(cfa + uint64(int64(r.ra)))
		if !ok {
			return w.beyond(cfa + uint64(int64(r.ra)))
		}
		next.Value[PC] = ra
	}
	next.Set(RSP, cfa)
	if missing, ok := w.restore(l, cfa, &next); !ok {
		return w.beyond(missing)
	}
	if !r.signal {
		next.Known &= afterCall
		// The first function may have nothing on the stack, not even where it returns to,
		// which is in a register then.
		still := cfa == before && r.ra == raSaved && len(w.out)-w.begin == 1
		if cfa <= before && !still && !w.changedStack(before, cfa) {
			return 0, Circle, false
		}
	}
	w.regs = next
	if next.Value[PC] == 0 {
		return 0, Entry, false // the ABI's mark of the outermost frame
	}
	return r.how, 0, true
}

func (w *walker) frameAddress(l *line) (uint64, bool) {
	r := l.rule
	if r.cfa == cfaExpr {
		return evaluate(l.table.expr(r.offset), &w.regs, w.s.Memory, 0, false)
	}
	v, ok := w.regs.Get(r.register)
	return v + uint64(int64(r.offset)), ok
}

// restore finds the caller's registers. It returns the address of what was
// not copied, where that is needed.
func (w *walker) restore(l *line, cfa uint64, next *Registers) (missing uint64, ok bool) {
	r := l.rule
	for _, s := range l.table.saves[r.first : r.first+uint32(r.count)] {
		var v uint64
		known := true
		at := cfa + uint64(int64(s.offset))
		switch s.kind {
		case saveAt:
			if v, known = w.s.Memory.Word(at); !known && w.popped(at) {
				v, known = w.regs.Get(s.register)
			}
		case saveValue:
			v = at
		case saveRegister:
			v, known = w.regs.Get(uint8(s.offset))
		case saveExprAt:
			if at, known = evaluate(l.table.expr(s.offset), &w.regs, w.s.Memory, cfa, true); known {
				v, known = w.s.Memory.Word(at)
			}
		case saveExprValue:
			v, known = evaluate(l.table.expr(s.offset), &w.regs, w.s.Memory, cfa, true)
		case saveLost:
			known = false
		}
		switch {
		case known:
			next.Set(int(s.register), v)
		case s.register == PC || s.register == RSP:
			return at, false
		default:
			next.Known &^= 1 << s.register
		}
	}
	return 0, true
}

// popped reports whether a place is just below the stack: what was saved there has been
// taken off again, on the way out of the function, and is in its register. Compilers do not
// say so in the tables, since a debugger would still find it below.
func (w *walker) popped(at uint64) bool {
	const most = 256 // more than all registers take
	below := w.regs.Value[RSP] - at
	return below != 0 && below <= most
}

// changedStack reports whether two stack pointers are in different windows.
func (w *walker) changedStack(a, b uint64) bool {
	return w.window(a) != w.window(b)
}

func (w *walker) window(addr uint64) int {
	for i, x := range w.s.Memory {
		if addr-x.Start <= uint64(len(x.Bytes)) && addr >= x.Start {
			return i
		}
	}
	return -1
}

// leaf tries whether code without tables, which a sample hit, has nothing on
// the stack but its return address, as hand-written stubs of the C library
// around system calls have. That is taken for true only if the rest of the
// walk leads to the program's entry or a thread's start, and is then done.
func (w *walker) leaf() bool {
	sp, ok := w.regs.Get(RSP)
	if !ok || len(w.out) != w.begin+1 {
		return false
	}
	ra, ok := w.s.Memory.Word(sp)
	if !ok || !w.cache.look(w.code, ra-1).mapped {
		return false
	}
	try := *w
	try.regs.Known &= afterCall
	try.regs.Set(RSP, sp+8)
	try.regs.Set(PC, ra)
	if try.follow(false, TopOfStack) != Entry || len(try.out) == len(w.out) {
		w.s.Depths = w.s.Depths[:len(w.out)-w.begin]
		return false
	}
	w.out = try.out
	return true
}

// framePointer takes the caller from the frame pointer, where that can be
// one; else the walk ends as otherwise says.
func (w *walker) framePointer(otherwise End) (How, End, bool) {
	fp, ok := w.regs.Get(RBP)
	if !ok || fp < w.regs.Value[RSP] && w.window(fp) == w.window(w.regs.Value[RSP]) {
		return 0, otherwise, false
	}
	up, ok1 := w.s.Memory.Word(fp)
	ra, ok2 := w.s.Memory.Word(fp + 8)
	if !ok1 || !ok2 {
		return w.kernel(otherwise)
	}
	if !w.cache.look(w.code, ra-1).mapped {
		return 0, otherwise, false
	}
	w.regs.Known &= afterCall
	w.regs.Set(RSP, fp+16)
	w.regs.Set(RBP, up)
	w.regs.Set(PC, ra)
	return FramePointer, 0, true
}

// signal takes the registers that the kernel saved when it interrupted the
// program for a handler: struct ucontext, to which the stack pointer points
// when the handler has returned (arch/x86/include/uapi/asm/sigcontext.h).
func (w *walker) signal() (How, End, bool) {
	sp, ok := w.regs.Get(RSP)
	if !ok {
		return 0, NoTable, false
	}
	// Flags, link and the alternate stack come before the registers.
	const registers = 8 + 8 + 24
	var next Registers
	for i, r := range [...]int{R8, R9, R10, R11, R12, R13, R14, R15, RDI, RSI, RBP, RBX, RDX, RAX, RCX, RSP, PC} {
		v, ok := w.s.Memory.Word(sp + registers + 8*uint64(i))
		if !ok {
			return w.beyond(sp + registers)
		}
		next.Set(r, v)
	}
	w.regs = next
	return Signal, 0, true
}

// change goes on from Go code that changes stacks. Its frame is on both: the
// walk came to it on the one, and its caller is on the other.
func (w *walker) change(r *Rule) (How, End, bool) {
	g := &w.s.Go
	sp := w.regs.Value[RSP]
	onGoroutine := sp >= g.Low && sp < g.High
	switch {
	case !g.Known, len(w.out) == w.begin+1, onGoroutine && r.role != roleCallback:
		return w.framePointer(OtherStack)
	case onGoroutine:
		return w.leaveCallback(r)
	}
	if g.High == 0 {
		return 0, Entry, false // the thread runs for no goroutine
	}
	if g.SP < g.Low || g.SP > g.High {
		return 0, OtherStack, false // not the goroutine's place: the walk would come here again
	}
	// From the system stack to where the goroutine's was left.
	if l := w.cache.look(w.code, g.PC); g.PC != 0 && l.mapped && !(l.rule != nil && l.rule.role == roleStandIn) {
		w.regs = Registers{}
		w.regs.Set(PC, g.PC)
		w.regs.Set(RSP, g.SP)
		w.regs.Set(RBP, g.BP)
		return GoTables, 0, true
	}
	// The program counter there is a stand-in, and the code that left the
	// stack may have kept the frame pointer on it before (Go 1.21 and later).
	return w.switchTo(g.SP, 0)
}

// leaveCallback goes from a Go function that C code called to that C code.
// The runtime keeps the system stack's earlier place at the bottom of the
// frame that it has there (runtime.cgocallback).
func (w *walker) leaveCallback(r *Rule) (How, End, bool) {
	g := &w.s.Go
	base := g.SystemSP
	earlier, ok := w.s.Memory.Word(base)
	if !ok {
		return w.beyond(base)
	}
	g.SystemSP = earlier
	g.SP, g.PC = w.regs.Value[RSP]+uint64(int64(r.offset)), 0
	return w.switchTo(base, uint64(r.offset)-8)
}

// switchTo makes the frame at sp the present one, whose return address is
// depth bytes above.
func (w *walker) switchTo(sp, depth uint64) (How, End, bool) {
	ra, ok := w.s.Memory.Word(sp + depth)
	if !ok {
		return w.beyond(sp + depth)
	}
	var next Registers
	if depth >= 8 {
		if bp, ok := w.s.Memory.Word(sp + depth - 8); ok {
			next.Set(RBP, bp)
		}
	} else if !w.cache.look(w.code, ra-1).mapped {
		next.Set(RBP, ra)
		if ra, ok = w.s.Memory.Word(sp + 8); !ok {
			return w.beyond(sp + 8)
		}
		depth = 8
	}
	next.Set(PC, ra)
	next.Set(RSP, sp+depth+8)
	w.regs = next
	return GoTables, 0, true
}

// beyond decides what it means that an address was not copied.
func (w *walker) beyond(addr uint64) (How, End, bool) {
	end := OtherStack
	switch {
	case len(w.s.Memory) == 0:
		end = NoMemory
	case w.s.Full:
		const room = 1 << 30 // more than a stack takes
		last := w.s.Memory[0].Start
		for _, x := range w.s.Memory {
			if x.Start == last {
				last += uint64(len(x.Bytes)) // the copy goes on
			}
		}
		if addr+8 > last && addr < last+room {
			end = Deeper
		}
	}
	return w.kernel(end)
}

// kernel goes on with the kernel's walk, which saw all of the stack. It
// followed frame pointers blindly, so each of its addresses is taken only
// when the code that was called there is known to keep a frame pointer. The
// walk ends here either way.
func (w *walker) kernel(otherwise End) (How, End, bool) {
	i, ok := w.join()
	if !ok {
		return 0, otherwise, false
	}
	for at := w.out[len(w.out)-1].Address; ; i++ {
		l := w.cache.look(w.code, at)
		if !l.mapped {
			return 0, otherwise, false
		}
		if l.rule != nil && l.rule.cfa == cfaOutmost {
			return 0, Entry, false
		}
		if !keepsFramePointer(l.rule) || i >= len(w.s.Kernel) {
			return 0, otherwise, false
		}
		at = w.s.Kernel[i] - 1
		if !w.cache.look(w.code, at).mapped || len(w.out) >= MaxFrames {
			return 0, otherwise, false
		}
		w.push(Step{at, KernelWalk}, 0)
	}
}

// keepsFramePointer reports whether, past a call in code with this rule, the
// frame pointer is that code's own, and leads to its caller.
func keepsFramePointer(r *Rule) bool {
	if r == nil {
		return false
	}
	return r.how == GoTables || r.cfa == cfaSwitch ||
		r.cfa == cfaRegister && r.register == RBP && r.offset == 16
}

// join finds the position in the kernel's walk of the present frame's caller:
// the kernel read it next to the frame pointer that the frame has now.
func (w *walker) join() (int, bool) {
	fp, ok := w.regs.Get(RBP)
	if !ok {
		return 0, false
	}
	// Follow the frame pointers as the kernel did, as far as they were copied.
	at, _ := w.s.Registers.Get(RBP)
	for i := 1; i < len(w.s.Kernel); i++ {
		if at == fp {
			ra, ok := w.s.Memory.Word(at + 8)
			return i, !ok || ra == w.s.Kernel[i]
		}
		ra, ok1 := w.s.Memory.Word(at + 8)
		up, ok2 := w.s.Memory.Word(at)
		if !ok1 || !ok2 || ra != w.s.Kernel[i] {
			return 0, false
		}
		at = up
	}
	return 0, false
}
