package profile

import (
	"path"
	"strings"
)

// Unnamed reports whether a function's name is only a place: the file that it is in, and
// where in it, since nothing named its code when the take was made.
func (p *Profile) Unnamed(id FunctionID) bool {
	name, place, ok := strings.Cut(p.FunctionName(id), "+0x")
	if !ok || place == "" || strings.Trim(place, "0123456789abcdef") != "" {
		return false
	}
	switch name {
	case path.Base(p.ModulePath(id)), "[unmapped]", "[anonymous]", "[kernel]":
		return true
	}
	return false
}

// Innermost returns the innermost frame of a stack that is code, and not what Entelon says
// of it; 0 where there is none.
func (p *Profile) Innermost(s StackID) FrameID {
	for ; s != 0; s = p.Stacks.Parent[s] {
		f := p.Stacks.Frame[s]
		if p.Functions[p.Frames[f].Function].Kind != KindMark {
			return f
		}
	}
	return 0
}
