package symbol

import (
	"debug/dwarf"
	"debug/elf"
	"fmt"
	"sort"
)

// lineTables answers for an address which file and line it came from, out of
// DWARF 4 and 5. Compilation units are found by their ranges; each unit's
// line table is decoded when the first address in it is asked for.
type lineTables struct {
	data  *dwarf.Data
	units []unitRange
	cache map[dwarf.Offset]*unitLines
}

type unitRange struct {
	low, high uint64
	entry     *dwarf.Entry
}

type unitLines struct {
	rows      []lineRow // by address; a row with line 0 ends a sequence
	functions map[uint64]lineRow
}

type lineRow struct {
	addr uint64
	file string
	line uint32
}

// openLines returns nil where the file has no line tables, and an error where
// it has some that cannot be read.
func openLines(f *elf.File) (*lineTables, error) {
	if f.Section(".debug_info") == nil && f.Section(".zdebug_info") == nil {
		return nil, nil
	}
	data, err := f.DWARF()
	if err != nil {
		return nil, fmt.Errorf("its line tables are damaged: %w", err)
	}
	t := &lineTables{data: data, cache: map[dwarf.Offset]*unitLines{}}
	r := data.Reader()
	for {
		e, err := r.Next()
		if err != nil {
			return nil, fmt.Errorf("its line tables are damaged: %w", err)
		}
		if e == nil {
			break
		}
		if e.Tag == dwarf.TagCompileUnit || e.Tag == dwarf.TagSkeletonUnit {
			ranges, err := data.Ranges(e)
			if err == nil {
				for _, x := range ranges {
					t.units = append(t.units, unitRange{x[0], x[1], e})
				}
			}
		}
		r.SkipChildren()
	}
	sort.Slice(t.units, func(i, j int) bool { return t.units[i].low < t.units[j].low })
	return t, nil
}

func (t *lineTables) unit(addr uint64) *unitLines {
	i := sort.Search(len(t.units), func(i int) bool { return t.units[i].low > addr })
	if i == 0 || addr >= t.units[i-1].high {
		return nil
	}
	e := t.units[i-1].entry
	if u, ok := t.cache[e.Offset]; ok {
		return u
	}
	u := &unitLines{functions: map[uint64]lineRow{}}
	t.cache[e.Offset] = u
	files := t.readRows(e, u)
	t.readFunctions(e, u, files)
	return u
}

func (t *lineTables) readRows(e *dwarf.Entry, u *unitLines) []*dwarf.LineFile {
	lr, err := t.data.LineReader(e)
	if err != nil || lr == nil {
		return nil
	}
	var row dwarf.LineEntry
	for lr.Next(&row) == nil {
		x := lineRow{addr: row.Address, line: uint32(row.Line)}
		if row.EndSequence {
			x.line = 0
		} else if row.File != nil {
			x.file = row.File.Name
		}
		u.rows = append(u.rows, x)
	}
	// Sequences come in any order; an end sorts before a beginning at the same address.
	sort.SliceStable(u.rows, func(i, j int) bool {
		if u.rows[i].addr != u.rows[j].addr {
			return u.rows[i].addr < u.rows[j].addr
		}
		return u.rows[i].line == 0 && u.rows[j].line != 0
	})
	return lr.Files()
}

// readFunctions notes where each function of the unit is declared. A
// definition may leave that to the declaration that it refers to.
func (t *lineTables) readFunctions(unit *dwarf.Entry, u *unitLines, files []*dwarf.LineFile) {
	r := t.data.Reader()
	r.Seek(unit.Offset)
	if _, err := r.Next(); err != nil {
		return
	}
	for depth := 1; depth > 0; {
		e, err := r.Next()
		if err != nil || e == nil {
			return
		}
		if e.Tag == 0 {
			depth--
			continue
		}
		if e.Tag == dwarf.TagSubprogram {
			if low, ok := e.Val(dwarf.AttrLowpc).(uint64); ok {
				if file, line := t.declared(e, files, 0); file != "" {
					u.functions[low] = lineRow{addr: low, file: file, line: line}
				}
			}
			r.SkipChildren()
			continue
		}
		if e.Children {
			depth++
		}
	}
}

func (t *lineTables) declared(e *dwarf.Entry, files []*dwarf.LineFile, hops int) (string, uint32) {
	file, hasFile := e.Val(dwarf.AttrDeclFile).(int64)
	line, hasLine := e.Val(dwarf.AttrDeclLine).(int64)
	if hasFile && hasLine && file >= 0 && int(file) < len(files) && files[file] != nil {
		return files[file].Name, uint32(line)
	}
	for _, a := range []dwarf.Attr{dwarf.AttrAbstractOrigin, dwarf.AttrSpecification} {
		off, ok := e.Val(a).(dwarf.Offset)
		if !ok || hops > 4 {
			continue
		}
		r := t.data.Reader()
		r.Seek(off)
		if next, err := r.Next(); err == nil && next != nil {
			return t.declared(next, files, hops+1)
		}
	}
	return "", 0
}

// line returns the file and line of an address, or "" and 0.
func (t *lineTables) line(addr uint64) (string, uint32) {
	u := t.unit(addr)
	if u == nil {
		return "", 0
	}
	i := sort.Search(len(u.rows), func(i int) bool { return u.rows[i].addr > addr })
	if i == 0 {
		return "", 0
	}
	return u.rows[i-1].file, u.rows[i-1].line
}

// function returns where the function that begins at addr is declared.
func (t *lineTables) function(addr uint64) (string, uint32) {
	u := t.unit(addr)
	if u == nil {
		return "", 0
	}
	f := u.functions[addr]
	return f.file, f.line
}
