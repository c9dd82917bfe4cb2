package unwind

import (
	"encoding/binary"
	"reflect"
	"strings"
	"testing"
)

// record encodes a record of .eh_frame with its length before it.
func record(parts ...[]byte) []byte {
	var body []byte
	for _, p := range parts {
		body = append(body, p...)
	}
	for len(body)%4 != 0 {
		body = append(body, cfaNop)
	}
	return append(binary.LittleEndian.AppendUint32(nil, uint32(len(body))), body...)
}

func u32(v uint32) []byte { return binary.LittleEndian.AppendUint32(nil, v) }

// ehFrame makes a section at address 0x9000 with one CIE and one function for
// each program, of 0x100 bytes each from 0x1000 on.
func ehFrame(augmentation string, programs ...[]byte) Section {
	const addr = 0x9000
	cie := record(u32(0), []byte{1}, []byte(augmentation+"\x00"), []byte{1, 0x78, 16, 1, 0x1b},
		[]byte{cfaDefCfa, RSP, 8, cfaOffset | PC, 1})
	out := cie
	for i, p := range programs {
		at := len(out)
		pcrel := uint32(0x1000+0x100*i) - uint32(addr+at+8)
		out = append(out, record(u32(uint32(at+4)), u32(pcrel), u32(0x100), []byte{0}, p)...)
	}
	return Section{Bytes: append(out, 0, 0, 0, 0), Addr: addr}
}

func rows(t *testing.T, s Source) []string {
	t.Helper()
	table := Compile(s)
	if table.Fault != nil {
		t.Fatal(table.Fault)
	}
	return strings.Split(strings.TrimSpace(table.String()), "\n")
}

func TestCompile(t *testing.T) {
	push := []byte{cfaAdvanceLoc | 1, cfaDefCfaOffset, 16, cfaOffset | RBP, 2}
	for name, c := range map[string]struct {
		program []byte
		want    []string
	}{
		"frame pointer": {
			append(append([]byte{}, push...), cfaAdvanceLoc|3, cfaDefCfaRegister, RBP, cfaAdvanceLoc1, 0x80, cfaDefCfa, RSP, 8),
			[]string{"1000 cfa=r7+8 ra=c-8", "1001 cfa=r7+16 ra=c-8 r6=c-16", "1004 cfa=r6+16 ra=c-8 r6=c-16", "1084 cfa=r7+8 ra=c-8 r6=c-16", "1100 none"},
		},
		"remembered": {
			append(append([]byte{cfaRememberState}, push...), cfaAdvanceLoc|4, cfaRestoreState),
			[]string{"1000 cfa=r7+8 ra=c-8", "1001 cfa=r7+16 ra=c-8 r6=c-16", "1005 cfa=r7+8 ra=c-8", "1100 none"},
		},
		"outermost": {
			[]byte{cfaUndefined, PC},
			[]string{"1000 outmost", "1100 none"},
		},
		"expressions": {
			[]byte{cfaDefCfaExpr, 3, opBreg0 + RSP, 0x10, opDeref, cfaExpression, RBX, 2, opBreg0 + RBP, 0x78},
			[]string{"1000 cfa=expr(771006) ra=c-8 r3=*+5", "1100 none"},
		},
		"register and value": {
			[]byte{cfaRegisterOp, RBX, RDX, cfaValOffset, RSP, 2, cfaUndefined, R12, cfaRestoreExt, RBX},
			[]string{"1000 cfa=r7+8 ra=c-8 r7=v-16 r12=x+0", "1100 none"},
		},
		"signed and beyond the function": {
			[]byte{cfaDefCfaSf, RSP, 0x7e, cfaAdvanceLoc2, 0, 2, cfaDefCfaOffset, 99},
			[]string{"1000 cfa=r7+16 ra=c-8", "1100 none"},
		},
	} {
		got := rows(t, Source{EHFrame: ehFrame("zR", c.program)})
		if !reflect.DeepEqual(got, c.want) {
			t.Errorf("%s:\n%s\nwant\n%s", name, strings.Join(got, "\n"), strings.Join(c.want, "\n"))
		}
	}
}

// TestCompileShares: equal rules are kept once, and gaps have none.
func TestCompileShares(t *testing.T) {
	p := []byte{cfaAdvanceLoc | 1, cfaDefCfaOffset, 16}
	table := Compile(Source{EHFrame: ehFrame("zR", p, p, p)})
	if table.Rows != 7 || len(table.segments) != 1 || len(table.segments[0].rules) != 3 {
		t.Errorf("%d rows, %d rules\n%s", table.Rows, len(table.segments[0].rules), table)
	}
	for addr, want := range map[uint64]bool{0xfff: false, 0x1000: true, 0x12ff: true, 0x1300: false, 1 << 40: false} {
		if table.Covers(addr) != want {
			t.Errorf("%#x: covered is %v", addr, !want)
		}
	}
}

func TestCompileSaysWhatIsDamaged(t *testing.T) {
	whole := ehFrame("zR", []byte{cfaAdvanceLoc | 1, cfaDefCfaOffset, 16}, []byte{cfaRestoreState}, []byte{cfaAdvanceLoc | 1, cfaDefCfaOffset, 24})
	table := Compile(Source{EHFrame: whole})
	if table.Fault == nil || !strings.Contains(table.Fault.Error(), "0x1100") {
		t.Errorf("fault is %v", table.Fault)
	}
	if !table.Covers(0x1000) || !table.Covers(0x1200) {
		t.Error("the sound functions around a damaged one are lost")
	}
	for _, augmentation := range []string{"zX", "q"} {
		if table := Compile(Source{EHFrame: ehFrame(augmentation, nil)}); table.Fault == nil || table.Rows > 0 {
			t.Errorf("%q: fault %v, %d rows", augmentation, table.Fault, table.Rows)
		}
	}
}

func TestEvaluate(t *testing.T) {
	var r Registers
	r.Set(RSP, 0x7000)
	r.Set(PC, 0x401026)
	mem := Memory{{Start: 0x7000, Bytes: binary.LittleEndian.AppendUint64(make([]byte, 8), 0xfffffffff0000abc)}}
	plt := []byte{opBreg0 + RSP, 8, opBreg0 + PC, 0, opLit0 + 15, opAnd, opLit0 + 11, opGe, opLit0 + 3, opShl, opPlus}
	for _, c := range []struct {
		expr []byte
		want uint64
		ok   bool
	}{
		{plt, 0x7008, true}, // the sixth byte of an entry of the linkage table: nothing pushed yet
		{[]byte{opBreg0 + RSP, 8, opDeref}, 0xfffffffff0000abc, true},
		{[]byte{opBreg0 + RSP, 8, opDerefSize, 2}, 0x0abc, true},
		{[]byte{opConst1s, 0xff, opLit0 + 3, opSwap, opMinus}, 4, true},
		{[]byte{opLit0 + 7, opLit0 + 2, opMod, opLit0 + 5, opMul, opNeg, opAbs}, 5, true},
		{[]byte{opLit0 + 1, opLit0 + 2, opLit0 + 3, opRot, opDrop, opShl}, 6, true},
		{[]byte{opLit0 + 1, opBra, 1, 0, opLit0 + 9, opLit0 + 4}, 4, true},
		{[]byte{opSkip, 0xfd, 0xff}, 0, false},           // for ever
		{[]byte{opLit0, opLit0, opDiv}, 0, false},        // by zero
		{[]byte{opPlus}, 0, false},                       // of nothing
		{[]byte{opBreg0 + RBX, 0}, 0, false},             // a register that was lost
		{[]byte{opBreg0 + RSP, 0x40, opDeref}, 0, false}, // memory that was not copied
		{[]byte{opConst8u, 1, 2}, 0, false},              // too short
		{[]byte{0xe0}, 0, false},                         // unknown
	} {
		v, ok := evaluate(c.expr, &r, mem, 0, false)
		if ok != c.ok || ok && v != c.want {
			t.Errorf("%x is %#x %v, want %#x %v", c.expr, v, ok, c.want, c.ok)
		}
	}
	r.Set(PC, 0x40102b)
	if v, ok := evaluate(plt, &r, mem, 0, false); !ok || v != 0x7010 {
		t.Errorf("with the number pushed, the linkage table's expression is %#x %v", v, ok)
	}
	if v, ok := evaluate([]byte{opPlusUconst, 0x10}, &r, mem, 0x100, true); !ok || v != 0x110 {
		t.Errorf("an expression over the CFA is %#x %v", v, ok)
	}
}

// TestBeginnings: the functions that the C library's start files put into
// sections of their own are walked without tables.
func TestBeginnings(t *testing.T) {
	body := []byte{0xf3, 0x0f, 0x1e, 0xfa, 0x48, 0x83, 0xec, 0x08, 0xe8, 1, 2, 3, 4, 0x48, 0x83, 0xc4, 0x08, 0xc3}
	table := Compile(Source{Code: []Section{{Bytes: body, Addr: 0x1000}, {Bytes: body[5:], Addr: 0x2000}}})
	for addr, want := range map[uint64]int32{0x1000: 8, 0x1007: 8, 0x1008: 16, 0x1010: 16, 0x1011: 8} {
		if r := table.find(addr); r == nil || r.offset != want || r.register != RSP || r.ra != -8 {
			t.Errorf("%#x: %+v, want %d", addr, r, want)
		}
	}
	if r := table.find(0x2004); r != nil {
		t.Errorf("what begins otherwise has the rule %+v", r)
	}
}
