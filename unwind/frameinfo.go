package unwind

import (
	"encoding/binary"
	"errors"
	"fmt"
)

// function is the call-frame information of one stretch of code, undecoded.
type function struct {
	start, end uint64
	section    *frameSection // nil: a stretch that needs no program
	cie        *cie
	program    []byte
	fixed      *draft // the rule, where there is no section
	rank       uint8  // of two for the same code the lower one counts
}

// frameSection is a .eh_frame or .debug_frame section. Both are a sequence of
// records: a length, then either common information (CIE), to which functions
// refer, or a function's description (FDE). They differ in how a record says
// which of the two it is and in how addresses are encoded.
type frameSection struct {
	data  []byte
	addr  uint64 // where the section is in the module's own address space
	eh    bool
	cies  map[uint64]*cie
	rank  uint8
	fault error
}

// cie is what many functions have in common.
type cie struct {
	codeAlign   uint64
	dataAlign   int64
	raColumn    uint64
	encoding    byte // of addresses (DW_EH_PE_*)
	augmented   bool // FDEs carry the length of their augmentation
	signal      bool
	addressSize byte
	initial     *state // after the initial instructions; nil where these are not understood
}

// Encodings of addresses in .eh_frame (Linux Standard Base, section 10.5.1).
const (
	peAbsptr  = 0x00
	peUleb128 = 0x01
	peUdata2  = 0x02
	peUdata4  = 0x03
	peUdata8  = 0x04
	peSleb128 = 0x09
	peSdata2  = 0x0a
	peSdata4  = 0x0b
	peSdata8  = 0x0c
	pePcrel   = 0x10
	peOmit    = 0xff
)

var errShort = errors.New("it ends too early")

// cursor reads a section. After a fault everything is zero.
type cursor struct {
	b   []byte
	at  uint64 // position in the section, for addresses relative to it
	err error
}

func (c *cursor) take(n uint64) []byte {
	if n > uint64(len(c.b)) {
		if c.err == nil {
			c.err = errShort
		}
		c.b = nil
		return nil
	}
	b := c.b[:n]
	c.b = c.b[n:]
	c.at += n
	return b
}

func (c *cursor) u8() byte {
	if b := c.take(1); b != nil {
		return b[0]
	}
	return 0
}

func (c *cursor) u16() uint16 {
	if b := c.take(2); b != nil {
		return binary.LittleEndian.Uint16(b)
	}
	return 0
}

func (c *cursor) u32() uint32 {
	if b := c.take(4); b != nil {
		return binary.LittleEndian.Uint32(b)
	}
	return 0
}

func (c *cursor) u64() uint64 {
	if b := c.take(8); b != nil {
		return binary.LittleEndian.Uint64(b)
	}
	return 0
}

func (c *cursor) uleb() uint64 {
	var v uint64
	for shift := 0; ; shift += 7 {
		b := c.u8()
		if shift < 64 {
			v |= uint64(b&0x7f) << shift
		}
		if b&0x80 == 0 {
			return v
		}
	}
}

func (c *cursor) sleb() int64 {
	var v int64
	for shift := 0; ; {
		b := c.u8()
		if shift < 64 {
			v |= int64(b&0x7f) << shift
		}
		shift += 7
		if b&0x80 == 0 {
			if shift < 64 && b&0x40 != 0 {
				v |= -1 << shift
			}
			return v
		}
	}
}

func (c *cursor) text() string {
	for i, x := range c.b {
		if x == 0 {
			return string(c.take(uint64(i) + 1)[:i])
		}
	}
	c.take(uint64(len(c.b)) + 1)
	return ""
}

// pointer reads an encoded address; section is where the section is.
func (c *cursor) pointer(encoding byte, section uint64) uint64 {
	at := section + c.at
	var v uint64
	switch encoding & 0x0f {
	case peAbsptr, peUdata8, peSdata8:
		v = c.u64()
	case peUleb128:
		v = c.uleb()
	case peUdata2:
		v = uint64(c.u16())
	case peUdata4:
		v = uint64(c.u32())
	case peSleb128:
		v = uint64(c.sleb())
	case peSdata2:
		v = uint64(int64(int16(c.u16())))
	case peSdata4:
		v = uint64(int64(int32(c.u32())))
	default:
		c.err = fmt.Errorf("it has an address in the unknown encoding 0x%x", encoding)
	}
	switch encoding & 0x70 {
	case 0:
	case pePcrel:
		v += at
	default:
		c.err = fmt.Errorf("it has an address in the unknown encoding 0x%x", encoding)
	}
	return v
}

// functions reads all descriptions of a section. What follows a damaged
// record whose length is plausible is still read; the first fault is kept.
func (s *frameSection) functions(out []function) []function {
	s.cies = map[uint64]*cie{}
	for at := uint64(0); at+4 <= uint64(len(s.data)); {
		c := cursor{b: s.data[at:], at: at}
		length := uint64(c.u32())
		wide := length == 1<<32-1
		if wide {
			length = c.u64()
		}
		if length == 0 {
			if s.eh {
				break // the end mark
			}
			at += 4
			continue
		}
		if length > uint64(len(c.b)) {
			s.note(at, errShort)
			break
		}
		next := c.at + length
		c.b = c.b[:length]
		f, isFunction, err := s.record(&c, wide && !s.eh)
		if err != nil {
			s.note(at, err)
		} else if isFunction && f.start < f.end {
			out = append(out, f)
		}
		at = next
	}
	return out
}

func (s *frameSection) note(at uint64, err error) {
	if s.fault == nil {
		s.fault = fmt.Errorf("its call-frame information is damaged at byte %d: %w", at, err)
	}
}

// record reads one record after its length.
func (s *frameSection) record(c *cursor, wide bool) (f function, isFunction bool, err error) {
	idAt := c.at
	var id uint64
	if wide {
		id = c.u64()
	} else {
		id = uint64(c.u32())
	}
	if c.err != nil {
		return f, false, c.err
	}
	var owner uint64
	if s.eh {
		if id == 0 {
			return f, false, nil // common information, read when a function refers to it
		}
		owner = idAt - id // counted back from here
	} else {
		if id == 1<<32-1 && !wide || id == 1<<64-1 {
			return f, false, nil
		}
		owner = id
	}
	common, err := s.common(owner)
	if err != nil {
		return f, false, err
	}
	f = function{section: s, cie: common, rank: s.rank}
	if common.encoding == peOmit {
		return f, false, nil
	}
	f.start = c.pointer(common.encoding, s.addr)
	f.end = f.start + c.pointer(common.encoding&0x0f, s.addr)
	if f.end < f.start {
		return f, false, errors.New("a function ends before it begins")
	}
	if common.augmented {
		c.take(c.uleb())
	}
	f.program = c.b
	return f, true, c.err
}

// common reads the CIE at a place in the section.
func (s *frameSection) common(at uint64) (*cie, error) {
	if x, ok := s.cies[at]; ok {
		if x == nil {
			return nil, errors.New("it refers to damaged common information")
		}
		return x, nil
	}
	s.cies[at] = nil
	if at >= uint64(len(s.data)) {
		return nil, errors.New("a function refers to a place outside")
	}
	c := cursor{b: s.data[at:], at: at}
	length := uint64(c.u32())
	wide := length == 1<<32-1
	if wide {
		length = c.u64()
	}
	if length > uint64(len(c.b)) {
		return nil, errShort
	}
	c.b = c.b[:length]
	if wide && !s.eh {
		c.u64()
	} else if id := c.u32(); s.eh && id != 0 {
		return nil, errors.New("a function refers to something that is not common information")
	}
	x := &cie{encoding: peAbsptr, addressSize: 8}
	version := c.u8()
	if version != 1 && version != 3 && version != 4 {
		return nil, fmt.Errorf("its version %d is not known", version)
	}
	augmentation := c.text()
	if version == 4 {
		x.addressSize = c.u8()
		c.u8() // segment selector size
	}
	if augmentation == "eh" {
		c.u64() // a pointer of a form that went out of use before x86-64
		augmentation = ""
	}
	x.codeAlign, x.dataAlign = c.uleb(), c.sleb()
	if version == 1 {
		x.raColumn = uint64(c.u8())
	} else {
		x.raColumn = c.uleb()
	}
	if err := x.augment(&c, augmentation); err != nil {
		return nil, err
	}
	if c.err != nil {
		return nil, c.err
	}
	if x.raColumn != PC || x.addressSize != 8 {
		return nil, errors.New("it is for another processor")
	}
	x.prepare(c.b)
	s.cies[at] = x
	return x, nil
}

// augment reads the letters that say what a CIE and its functions carry.
func (x *cie) augment(c *cursor, letters string) error {
	if letters == "" {
		return nil
	}
	if letters[0] != 'z' {
		return fmt.Errorf("its augmentation %q is not known", letters)
	}
	x.augmented = true
	data := cursor{at: 0}
	length := c.uleb()
	data.at = c.at
	data.b = c.take(length)
	for _, l := range letters[1:] {
		switch l {
		case 'R':
			x.encoding = data.u8()
		case 'P':
			if e := data.u8(); e != peOmit {
				data.pointer(e&0x0f, 0) // a function that is not called here
			}
		case 'L':
			data.u8()
		case 'S':
			x.signal = true
		case 'B', 'G': // pointer authentication and tagged memory of other processors
		default:
			return fmt.Errorf("its augmentation %q is not known", letters)
		}
	}
	return data.err
}
