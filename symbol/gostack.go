package symbol

import (
	"encoding/binary"
	"strings"

	"entelon/symbol/elfimage"
)

// GoFunction is what the Go linker's function table tells of a function's
// stack frames.
type GoFunction struct {
	Name       string
	Start, End uint64
	Outmost    bool // the outer end of every stack that it is in (abi.FuncFlagTopFrame)
	Switches   bool // it writes the stack pointer (abi.FuncFlagSPWrite)
	Rows       []GoRow
}

// GoRow says how many bytes the frame takes from Addr on: how far the stack
// pointer is below the return address.
type GoRow struct {
	Addr  uint64
	Depth int32
}

// Flags of a function's record (internal/abi.FuncFlag), byte 41.
const (
	goFlagAt       = 41
	goFlagTopFrame = 1
	goFlagSPWrite  = 2
)

// HasGoSection reports whether the object has a function table of the Go linker.
func (o *Object) HasGoSection() bool { return goSection(o.file) != nil }

// GoFrames calls visit for every Go function in order of address. The rows are
// reused between calls.
func (o *Object) GoFrames(visit func(GoFunction)) {
	openGo(o)
	t := o.goTable
	if t == nil {
		return
	}
	var rows []GoRow
	for i := range t.n {
		start := t.text + uint64(t.order.Uint32(t.funcs[8*i:]))
		rec := uint64(t.order.Uint32(t.funcs[8*i+4:]))
		end := t.text + uint64(t.order.Uint32(t.funcs[8*i+8:]))
		if rec+goFuncFixed > uint64(len(t.funcs)) || end <= start {
			continue
		}
		f := goFunc{t, start, t.funcs[rec:]}
		rows = f.depths(rows[:0], end)
		flags := f.b[goFlagAt]
		visit(GoFunction{Name: strings.TrimSuffix(elfimage.Text(t.names, f.word(1)), ".abi0"), Start: start, End: end, Outmost: flags&goFlagTopFrame != 0, Switches: flags&goFlagSPWrite != 0, Rows: rows})
	}
}

// depths decodes the function's table of stack depths, which is built like
// that of value.
func (f goFunc) depths(rows []GoRow, end uint64) []GoRow {
	table := f.word(4)
	if table == 0 || uint64(table) >= uint64(len(f.t.pc)) {
		return rows
	}
	b := f.t.pc[table:]
	at, v := f.entry, int32(-1)
	for first := true; at < end; first = false {
		dv, n := binary.Uvarint(b)
		if n <= 0 || (dv == 0 && !first) {
			break
		}
		b = b[n:]
		dpc, n := binary.Uvarint(b)
		if n <= 0 {
			break
		}
		b = b[n:]
		v += int32(uint32(dv)>>1) ^ -int32(dv&1)
		rows = append(rows, GoRow{at, v})
		if dpc == 0 || dpc > end-at {
			break
		}
		at += dpc * f.t.minLC
	}
	return rows
}
