package dwarfinfo

import (
	"debug/dwarf"
)

// InlinedSites counts the places into which a function was inlined, by its own name
// without what it belongs to. means says whether a linker's name is the function's.
func (t *Tables) InlinedSites(function string, means func(linkage string) bool) (n int) {
	wanted := map[dwarf.Offset]bool{}
	r := t.data.Reader()
	var origins []dwarf.Offset
	for {
		e, err := r.Next()
		if e == nil || err != nil {
			break
		}
		switch e.Tag {
		case dwarf.TagSubprogram:
			own, _ := e.Val(dwarf.AttrName).(string)
			linkage, _ := e.Val(dwarf.AttrLinkageName).(string)
			of, specified := e.Val(dwarf.AttrSpecification).(dwarf.Offset)
			if own == function && (linkage == "" || means(linkage)) || specified && wanted[of] {
				wanted[e.Offset] = true
			}
		case dwarf.TagInlinedSubroutine:
			if of, ok := e.Val(dwarf.AttrAbstractOrigin).(dwarf.Offset); ok {
				origins = append(origins, of)
			}
		}
	}
	for _, of := range origins { // a function may be described behind its calls
		if wanted[of] {
			n++
		}
	}
	return n
}
