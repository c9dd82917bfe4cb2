package symbol

import (
	"debug/elf"
	"entelon/symbol/elfimage"
	"errors"
	"fmt"
)

// FrameSource is what an object holds for finding callers.
type FrameSource struct {
	EHFrame, DebugFrame Part
	Code                []Part
}

// Part is a section's bytes and its place in the object's own address space.
type Part struct {
	Bytes []byte
	Addr  uint64
}

// Frames returns the sections that tell how to find callers. .debug_frame is
// taken from the separate debug file where the object has none.
func (o *Object) Frames() (FrameSource, error) {
	var s FrameSource
	if o.file.Machine != elf.EM_X86_64 || o.file.Class != elf.ELFCLASS64 {
		return s, fmt.Errorf("%s: code for %v is not walked by tables", o.Path, o.file.Machine)
	}
	var err error
	part := func(im *elfimage.Image, name string) (p Part) {
		if sec := im.ELF.Section(name); sec != nil {
			var e error
			p.Bytes, e = im.Section(name)
			p.Addr = sec.Addr
			err = errors.Join(err, e)
		}
		return p
	}
	s.EHFrame = part(o.image, ".eh_frame")
	debug := func(im *elfimage.Image) {
		b, e := im.DebugSection("frame")
		s.DebugFrame.Bytes = b
		err = errors.Join(err, e)
	}
	debug(o.image)
	if s.EHFrame.Bytes == nil && s.DebugFrame.Bytes == nil && !o.HasGoSection() {
		if o.Prepare(); o.debug != nil { // may wait until it is fetched, so only where nothing else helps
			debug(o.debug)
		}
	}
	for _, sec := range o.file.Sections {
		if sec.Type == elf.SHT_PROGBITS && sec.Flags&elf.SHF_EXECINSTR != 0 && sec.Flags&elf.SHF_COMPRESSED == 0 {
			b, e := o.image.Content(sec)
			s.Code = append(s.Code, Part{b, sec.Addr})
			err = errors.Join(err, e)
		}
	}
	if err != nil {
		err = fmt.Errorf("%s: %w", o.Path, err)
	}
	return s, err
}
