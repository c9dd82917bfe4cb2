package profile

import (
	"errors"
	"sort"
)

// Attributes are what else is known of intervals, a column each.
type Attributes []Attribute

// Attribute is one thing of the intervals that have it.
type Attribute struct {
	Name     StringID // one of those below, or what a tracepoint or who asked for it calls it
	Type     AttributeType
	Interval []uint32 // ascending
	Value    []int64
}

// AttributeType says what the values of an attribute are.
type AttributeType uint8

// The types. The order is part of the take file format.
const (
	AttributeNumber  AttributeType = iota // of anything
	AttributeText                         // a StringID
	AttributeBytes                        // an amount of bytes
	AttributeTime                         // nanoseconds
	AttributeAddress                      // in memory: unsigned
	attributeTypesEnd
)

// Valid reports whether t is one of the types above.
func (t AttributeType) Valid() bool { return t < attributeTypesEnd }

// The names of attributes.
const (
	AttributeResult    = "result"    // of a system call, what it returned: below 0 the error's number
	AttributeParent    = "parent"    // of a span, the position of the one that it is a part of, among all intervals
	AttributeLink      = "link"      // of a span, the position of the one that it goes on from, as what took work out of a queue from what put it there
	AttributeOpen      = "open"      // 1: of a span that had no end when the take ended
	AttributeProcessor = "processor" // on which the thread went on when the interval ended, or the event was

	AttributeMoved  = "bytes"     // that a system call or a request to a disk moved, or an allocation asked for
	AttributeError  = "error"     // text: of a system call that failed, why: "ENOENT"
	AttributeFile   = "file"      // text: what a system call was about, or is mapped where a page was missing: a path, or who is at the other end of a socket
	AttributeSort   = "file-type" // text: of that: "file", "folder", "socket", "pipe", "device"
	AttributeDevice = "device"    // text: of a request, the disk
	AttributeMemory = "address"   // of a page fault, which was missing
	AttributeArea   = "area"      // text: of memory that is no file's: "heap", "stack"
)

// positional reports whether the values of an attribute are positions among the intervals.
func positional(name string) bool { return name == AttributeParent || name == AttributeLink }

// Attribute gives the interval that was added last a number.
func (b *Builder) Attribute(name string, value int64) { b.AttributeOf(name, AttributeNumber, value) }

// AttributeOf gives the interval that was added last an attribute of a type; ok is false where there is
// no room for another one: there are MaxAttributes. Those of one name and different types are different.
func (b *Builder) AttributeOf(name string, t AttributeType, value int64) (ok bool) {
	v := &b.p.Intervals
	id, at := b.Intern(name), uint32(v.Len()-1)
	for i := range v.Attributes {
		if a := &v.Attributes[i]; a.Name == id && a.Type == t {
			a.Interval, a.Value = append(a.Interval, at), append(a.Value, value)
			return true
		}
	}
	if len(v.Attributes) >= MaxAttributes {
		return false
	}
	v.Attributes = append(v.Attributes, Attribute{id, t, []uint32{at}, []int64{value}})
	return true
}

// AttributeNamed returns the column of an attribute; it is empty where no interval has it.
func (p *Profile) AttributeNamed(name string) Attribute {
	for _, a := range p.Intervals.Attributes {
		if p.Strings[a.Name] == name {
			return a
		}
	}
	return Attribute{}
}

// MaxAttributes is how many attributes a take can have.
const MaxAttributes = 250

// check reports the first broken promise of a column, of a profile with n intervals.
func (a *Attribute) check(p *Profile, n int) error {
	if int(a.Name) >= len(p.Strings) || !a.Type.Valid() || len(a.Value) != len(a.Interval) || !ascending(a.Interval, n) {
		return errIntervals
	}
	if a.Type == AttributeText {
		for _, id := range a.Value {
			if id < 0 || id >= int64(len(p.Strings)) {
				return errors.New("an attribute is a text that the take does not have")
			}
		}
	}
	return nil
}

// At is the value of an interval; has is false where it has none.
func (a *Attribute) At(i int) (value int64, has bool) {
	n := sort.Search(len(a.Interval), func(k int) bool { return int(a.Interval[k]) >= i })
	if n == len(a.Interval) || int(a.Interval[n]) != i {
		return 0, false
	}
	return a.Value[n], true
}
