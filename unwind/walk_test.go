package unwind

import (
	"encoding/binary"
	"fmt"
	"reflect"
	"testing"
)

// layout is a process for tests: a module with functions of 0x100 bytes each
// from 0x1000 on, and code without tables at 0x8000.
type layout struct{ table *Table }

func (l layout) Table(addr uint64) (*Table, uint64, bool) {
	const bias = 0x400000
	switch at := addr - bias; {
	case at >= 0x1000 && at < 0x8000:
		return l.table, bias, true
	case at >= 0x8000 && at < 0x9000:
		return nil, 0, true
	}
	return nil, 0, false
}

// The functions of the layout, by what their frames are.
const (
	fnOutmost  = 0x401000 // nothing called it
	fnPlain    = 0x401100 // 0x20 bytes, by the stack pointer
	fnFramed   = 0x401200 // by the frame pointer
	fnLeaf     = 0x401300 // nothing on the stack but the return address
	fnCircle   = 0x401400 // a rule that does not move
	fnHeld     = 0x401500 // nothing on the stack: where it returns to is in a register
	fnPopped   = 0x401600 // as its tables are after it took the frame pointer off the stack
	fnGap      = 0x401700 // in the module, without a rule
	fnNoTables = 0x408000
)

func process() layout {
	return layout{Compile(Source{EHFrame: ehFrame("zR",
		[]byte{cfaUndefined, PC},
		[]byte{cfaDefCfaOffset, 0x28},
		[]byte{cfaDefCfa, RBP, 16, cfaOffset | RBP, 2},
		nil,
		[]byte{cfaDefCfaOffset, 0},
		[]byte{cfaDefCfaOffset, 0, cfaRegisterOp, PC, RDI},
		[]byte{cfaOffset | RBP, 2},
	)})}
}

const stackAt = 0x7ff000

func words(v ...uint64) []byte {
	var b []byte
	for _, x := range v {
		b = binary.LittleEndian.AppendUint64(b, x)
	}
	return b
}

func at(pc uint64, stack []byte) *Sample {
	s := &Sample{Memory: Memory{{Start: stackAt, Bytes: stack}}}
	s.Registers.Set(PC, pc)
	s.Registers.Set(RSP, stackAt)
	s.Registers.Set(RBP, 0)
	return s
}

func walked(s *Sample) string {
	var c Cache
	steps, end := Walk(process(), &c, s, nil)
	var out string
	for _, x := range steps {
		out += fmt.Sprintf("%x %s, ", x.Address, x.How)
	}
	return out + end.String()
}

func TestWalk(t *testing.T) {
	framed := at(fnFramed+9, words(1, 2, 3, stackAt+0x40, fnPlain+5, 6, 7, 8, 0, fnOutmost+5))
	framed.Registers.Set(RBP, stackAt+0x18)
	below := at(fnNoTables+9, words(1, 2, 3, 0, fnOutmost+5))
	below.Registers.Set(RBP, stackAt+0x18)
	foreign := at(fnFramed+9, words(1, 2, 3))
	foreign.Registers.Set(RBP, 0x5000)
	held := at(fnHeld+3, words(fnOutmost+5))
	held.Registers.Set(RDI, fnLeaf+5)
	// Popped, and then the caller's frame by the frame pointer that is in its register.
	popped := at(fnPopped+9, words(fnFramed+5, 7, 0, fnOutmost+5))
	popped.Registers.Set(RBP, stackAt+0x10)
	last := at(fnGap, words(fnOutmost+5))
	full := at(fnPlain+9, words(1, 2))
	full.Full = true
	for _, c := range []struct {
		name string
		s    *Sample
		want string
	}{
		{"by the stack pointer", at(fnPlain+9, words(1, 2, 3, 4, fnLeaf+5, fnOutmost+5)), "401109 counter, 401304 tables, 401004 tables, entry"},
		{"by the frame pointer", framed, "401209 counter, 401104 tables, 401004 tables, entry"},
		{"no tables, a frame pointer", below, "408009 counter, 401004 frame-pointer, entry"},
		{"no tables, no frame pointer", at(fnNoTables+9, words(1, 2)), "408009 counter, no-table"},
		{"a stub without tables", at(fnGap+9, words(fnLeaf+5, fnOutmost+5)), "401709 counter, 401304 top-of-stack, 401004 tables, entry"},
		{"a stub whose caller leads nowhere", at(fnGap+9, words(fnLeaf+5, 77)), "401709 counter, no-table"},
		{"a return address in a register", held, "401503 counter, 401304 tables, 401004 tables, entry"},
		{"a register that is off the stack again", popped, "401609 counter, 401204 tables, 401004 tables, entry"},
		{"behind the last instruction of a function", last, "4016ff counter, 401004 tables, entry"},
		{"the end of the copy", full, "401109 counter, deeper"},
		{"another stack", foreign, "401209 counter, other-stack"},
		{"no memory", &Sample{Registers: framed.Registers}, "401209 counter, no-memory"},
		{"a return to no code", at(fnLeaf+1, words(5)), "401301 counter, no-code"},
		{"no code at all", at(0x10, words(5)), "10 counter, no-code"},
		{"a circle", at(fnCircle+1, words(fnCircle+1)), "401401 counter, no-memory"},
		{"a return to 0", at(fnLeaf+1, words(0)), "401301 counter, entry"},
	} {
		if c.name == "a circle" {
			c.s.Memory[0] = Window{Start: stackAt - 8, Bytes: words(fnCircle+1, fnCircle+1)}
			c.want = "401401 counter, circle"
		}
		if got := walked(c.s); got != c.want {
			t.Errorf("%s: %s\nwant %s", c.name, got, c.want)
		}
	}
}

// TestWalkGoesOnWithTheKernel: where the copy ends in code that keeps a frame
// pointer, the kernel's walk is taken as far as all code keeps one.
func TestWalkGoesOnWithTheKernel(t *testing.T) {
	s := at(fnFramed+9, words(1, stackAt+0x100, fnFramed+0x15, 3))
	s.Full = true
	s.Registers.Set(RBP, stackAt+8)
	s.Kernel = []uint64{fnFramed + 9, fnFramed + 0x15, fnFramed + 0x25, fnPlain + 5, fnOutmost + 5}
	const want = "401209 counter, 401214 tables, 401224 kernel-walk, 401104 kernel-walk, deeper"
	if got := walked(s); got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
	s.Kernel[3] = fnOutmost + 5
	if got := walked(s); got != "401209 counter, 401214 tables, 401224 kernel-walk, 401004 kernel-walk, entry" {
		t.Errorf("to the entry: %s", got)
	}
	s.Kernel[1] = fnFramed + 0x16 // not what is on the stack: the kernel walked something else
	if got := walked(s); got != "401209 counter, 401214 tables, deeper" {
		t.Errorf("of another stack: %s", got)
	}
}

// signalFrame is what the kernel puts on the stack for a handler, from where
// the stack pointer is when the handler has returned.
func signalFrame(r map[int]uint64) []byte {
	b := make([]byte, 40) // flags, link, the alternate stack
	for _, n := range []int{R8, R9, R10, R11, R12, R13, R14, R15, RDI, RSI, RBP, RBX, RDX, RAX, RCX, RSP, PC} {
		b = binary.LittleEndian.AppendUint64(b, r[n])
	}
	return b
}

// TestWalkThroughSignals: the handler runs on a stack of its own; the
// instructions that return from it are found without any tables.
func TestWalkThroughSignals(t *testing.T) {
	code := append(make([]byte, 0x40), sigreturn[0]...)
	table := Compile(Source{
		EHFrame: ehFrame("zR", []byte{cfaUndefined, PC}, []byte{cfaDefCfaOffset, 0x28}, nil, nil),
		Code:    []Section{{Bytes: code, Addr: 0x1600}},
	})
	const trampoline, interrupted = 0x401640, 0x500000
	s := at(fnLeaf+3, append(words(trampoline), signalFrame(map[int]uint64{PC: fnPlain + 0x30, RSP: interrupted, RBX: 5})...))
	s.Memory = append(s.Memory, Window{Start: interrupted, Bytes: words(1, 2, 3, 4, fnOutmost+5)})
	var c Cache
	steps, end := Walk(layout{table}, &c, s, nil)
	want := []Step{{fnLeaf + 3, Counter}, {trampoline, Tables}, {fnPlain + 0x30, Signal}, {fnOutmost + 4, Tables}}
	if end != Entry || !reflect.DeepEqual(steps, want) {
		t.Errorf("%x %v, want %x", steps, end, want)
	}
	s.Memory = s.Memory[:1]
	if _, end := Walk(layout{table}, &c, s, nil); end != OtherStack {
		t.Errorf("without the interrupted stack the walk ends with %v", end)
	}
}

// The functions of a Go program, in the order of their places.
const (
	goExit     = 0x401000
	goMain     = 0x401100 // 0x18 bytes and the frame pointer
	goSystem   = 0x401200 // changes to the system stack
	goCallback = 0x401300 // runs Go code for C code, 0x18 bytes and the frame pointer
	goStandIn  = 0x401400
	goWork     = 0x401500
)

func goProcess() layout {
	return layout{Compile(Source{GoFrames: func(visit func(GoFunction)) {
		f := func(start uint64, g GoFunction, depth int32) {
			g.Start, g.End = start-0x400000, start-0x400000+0x100
			g.Rows = []GoRow{{g.Start, 0}, {g.Start + 4, depth}}
			visit(g)
		}
		f(goExit, GoFunction{Outmost: true}, 0)
		f(goMain, GoFunction{}, 0x20)
		f(goSystem, GoFunction{Switches: true}, 8)
		f(goCallback, GoFunction{Switches: true, Callback: true}, 0x20)
		f(goStandIn, GoFunction{StandIn: true}, 0)
		f(goWork, GoFunction{}, 8)
	}})}
}

func TestWalkOfGoStacks(t *testing.T) {
	const system, goroutine = stackAt, 0xc000100000
	// On the goroutine's stack: main called the function that changes stacks,
	// which kept main's frame pointer.
	left := words(0x11, goMain+0x20, 1, 2, 3, 0x12, goExit+5)
	work := words(0x22, goSystem+0x30)
	for _, c := range []struct {
		name  string
		s     *Sample
		goes  GoStacks
		extra Window
		want  []uint64
		end   End
	}{
		{"from the system stack back", at(goWork+9, work), GoStacks{Known: true, Low: goroutine - 0x1000, High: goroutine + 0x1000, SP: goroutine, PC: goStandIn + 1},
			Window{goroutine, left}, []uint64{goWork + 9, goSystem + 0x2f, goMain + 0x1f, goExit + 4}, Entry},
		{"from where a stack grew", at(goWork+9, work), GoStacks{Known: true, Low: goroutine - 0x1000, High: goroutine + 0x1000, SP: goroutine + 16, PC: goMain + 0x21},
			Window{goroutine, left}, []uint64{goWork + 9, goSystem + 0x2f, goMain + 0x20, goExit + 4}, Entry},
		{"for no goroutine", at(goWork+9, work), GoStacks{Known: true}, Window{}, []uint64{goWork + 9, goSystem + 0x2f}, Entry},
		{"a place that is not the goroutine's", at(goWork+9, work), GoStacks{Known: true, Low: goroutine - 0x1000, High: goroutine + 0x1000, SP: system, PC: goWork + 9},
			Window{}, []uint64{goWork + 9, goSystem + 0x2f}, OtherStack},
		{"unknown", at(goWork+9, work), GoStacks{}, Window{}, []uint64{goWork + 9, goSystem + 0x2f}, OtherStack},
		{"a callback", at(goWork+9, append(words(0x22, goCallback+0x30), words(1, 2, 3, 4, goStandIn+1, 0x11, goMain+0x20, 1, 2, 3, 0x12, goExit+5)...)),
			GoStacks{Known: true, Low: stackAt - 0x1000, High: stackAt + 0x1000, SystemSP: 0x600000},
			Window{0x600000, words(0x600100, 2, 3, 0x77, goWork+0x30, 0x33, goSystem+0x30)},
			[]uint64{goWork + 9, goCallback + 0x2f, goWork + 0x2f, goSystem + 0x2f, goMain + 0x1f, goExit + 4}, Entry},
	} {
		c.s.Go = c.goes
		if c.extra.Bytes != nil {
			c.s.Memory = append(c.s.Memory, c.extra)
		}
		var cache Cache
		steps, end := Walk(goProcess(), &cache, c.s, nil)
		var got []uint64
		for _, x := range steps {
			got = append(got, x.Address)
		}
		if end != c.end || !reflect.DeepEqual(got, c.want) {
			t.Errorf("%s: %x %v\nwant %x %v", c.name, got, end, c.want, c.end)
		}
	}
}

func TestWalkDoesNotAllocate(t *testing.T) {
	var c Cache
	s := at(fnPlain+9, words(1, 2, 3, 4, fnLeaf+5, fnOutmost+5))
	steps := make([]Step, 0, 16)
	code := Code(process())
	if n := testing.AllocsPerRun(100, func() {
		if _, end := Walk(code, &c, s, steps); end != Entry {
			t.Fatal(end)
		}
	}); n > 0 {
		t.Errorf("a walk allocates %v times", n)
	}
}

// FuzzCompile: no bytes may crash the compiler, keep it busy, or make a table
// that crashes the walk.
func FuzzCompile(f *testing.F) {
	f.Add(ehFrame("zR", []byte{cfaAdvanceLoc | 1, cfaDefCfaOffset, 16}, []byte{cfaDefCfaExpr, 3, opBreg0 + RSP, 0x10, opDeref}).Bytes, words(1, 2, fnPlain))
	f.Add(ehFrame("zRS", []byte{cfaRememberState, cfaUndefined, PC, cfaAdvanceLoc | 9, cfaRestoreState}).Bytes, words(fnOutmost+1))
	f.Fuzz(func(t *testing.T, b, stack []byte) {
		table := Compile(Source{EHFrame: Section{b, 0x9000}, DebugFrame: Section{b, 0}})
		if table.Rows > 4*len(b)+4 {
			t.Fatalf("%d bytes made %d rows", len(b), table.Rows)
		}
		var c Cache
		for pc := uint64(fnOutmost); pc < fnGap; pc += 0x41 {
			steps, end := Walk(layout{table}, &c, at(pc, stack), nil)
			if len(steps) == 0 || len(steps) > MaxFrames || end >= EndCount {
				t.Fatalf("%d steps, %v", len(steps), end)
			}
		}
	})
}
