package symbol

import (
	"encoding/binary"
	"strings"

	"entelon/symbol/elfimage"
	"entelon/symbol/location"
)

// InlinedSites returns in how many places of the file calls of a function were
// replaced by its own code. The name is as for FunctionsByName, without *. Where
// nothing tells of inlining, there are none.
func InlinedSites(o *Object, name string) (n int) {
	defer func() {
		if p := recover(); p != nil { // damaged information: nothing is known
			n = 0
		}
	}()
	o.Prepare()
	o.once.Do(o.load)
	if o.goTable != nil {
		o.goTable.each(func(f goFunc) { n += f.inlinedCalls(name) })
		return n
	}
	o.onceDW.Do(func() { loadDWARF(o) })
	if o.dwarf == nil {
		return 0
	}
	last := name[strings.LastIndexByte(name, ':')+1:]
	last = withoutParameters(last[strings.LastIndexByte(last, '.')+1:])
	return o.dwarf.InlinedSites(last, func(linkage string) bool {
		return name == last || meant(name, Defined{Name: location.Demangled(linkage), Linkage: linkage})
	})
}

// inlinedCalls counts the entries of the function's inline tree with a name.
func (f goFunc) inlinedCalls(name string) (n int) {
	tree := f.inlineTree()
	table := f.pcdata(pcdataInline)
	if tree == nil || table == 0 {
		return 0
	}
	last := int32(-1) // the largest number in the table is the tree's last
	f.each(table, func(v int32) { last = max(last, v) })
	for i := range int(last + 1) {
		if (i+1)*inlinedCallSize > len(tree) {
			break
		}
		linkage := elfimage.Text(f.t.names, f.t.order.Uint32(tree[i*inlinedCallSize+4:]))
		if meant(name, Defined{Name: goName(linkage), Linkage: linkage}) {
			n++
		}
	}
	return n
}

// each visits the values of one of the function's tables, as value reads it.
func (f goFunc) each(table uint32, visit func(v int32)) {
	if uint64(table) >= uint64(len(f.t.pc)) {
		return
	}
	b := f.t.pc[table:]
	v := int32(-1)
	for first := true; ; first = false {
		dv, n := binary.Uvarint(b)
		if n <= 0 || (dv == 0 && !first) {
			return
		}
		_, m := binary.Uvarint(b[n:])
		if m <= 0 {
			return
		}
		b = b[n+m:]
		v += int32(uint32(dv)>>1) ^ -int32(dv&1)
		visit(v)
	}
}
