package symbol

import (
	"encoding/binary"
	"errors"
	"hash/crc32"
	"maps"
	"slices"

	"entelon/core/profile"
)

// namesVersion changes whenever names would come out differently.
const namesVersion = 8

// What was found out about the addresses of an object is kept packed: a take of a
// short command waits for it to be read, and reading thousands of names as text took
// most of what a short take cost. It begins with a checksum of the rest; then numbers
// of variable length:
//
//	texts: how many, and for each its length and bytes
//	addresses: how many, and for each its distance from the one before, how many
//	locations it has, and for each of those the numbers of its three texts, its
//	two lines, its marks (inlined 1, unnamed 2, entry 4), its kind, and the
//	address of its function
//
// Whatever is damaged is not used.
const packedNames = 4

// packNames packs what is known of an object.
func packNames(known map[uint64][]Location) []byte {
	var texts []string
	numbers := map[string]uint64{}
	number := func(s string) uint64 {
		n, ok := numbers[s]
		if !ok {
			n = uint64(len(texts))
			numbers[s] = n
			texts = append(texts, s)
		}
		return n
	}
	var rest []byte
	put := func(v ...uint64) {
		for _, v := range v {
			rest = binary.AppendUvarint(rest, v)
		}
	}
	before := uint64(0)
	put(uint64(len(known)))
	for _, at := range slices.Sorted(maps.Keys(known)) {
		put(at-before, uint64(len(known[at])))
		before = at
		for _, l := range known[at] {
			put(number(l.Name), number(l.Linkage), number(l.File), uint64(l.Line), uint64(l.Start),
				marked(l.Inlined, 1)|marked(l.Unnamed, 2)|marked(l.Entry, 4), uint64(l.Kind), l.Function)
		}
	}
	b := binary.AppendUvarint(nil, uint64(len(texts)))
	for _, t := range texts {
		b = append(binary.AppendUvarint(b, uint64(len(t))), t...)
	}
	return sealed(append(b, rest...))
}

// sealed puts the checksum before bytes.
func sealed(b []byte) []byte {
	return append(binary.LittleEndian.AppendUint32(nil, crc32.ChecksumIEEE(b)), b...)
}

func marked(is bool, bit uint64) uint64 {
	if is {
		return bit
	}
	return 0
}

var errDamaged = errors.New("damaged")

// unpackNames reads the packed form. There are never more texts or locations than
// there are bytes, so that what is made is bounded by what is read.
func unpackNames(b []byte) (known map[uint64][]Location, err error) {
	if len(b) < packedNames || crc32.ChecksumIEEE(b[packedNames:]) != binary.LittleEndian.Uint32(b) {
		return nil, errDamaged
	}
	all := string(b[packedNames:]) // one copy, of which the texts are parts
	rest := b[packedNames:]
	next := func() uint64 {
		v, n := binary.Uvarint(rest)
		if n <= 0 {
			err, rest = errDamaged, nil
			return 0
		}
		rest = rest[n:]
		return v
	}
	count := func() int {
		v := next()
		if v > uint64(len(rest)) {
			err = errDamaged
			return 0
		}
		return int(v)
	}
	texts := make([]string, count())
	for i := range texts {
		n := count()
		if err != nil {
			return nil, err
		}
		at := len(all) - len(rest)
		texts[i] = all[at : at+n]
		rest = rest[n:]
	}
	text := func() string {
		n := next()
		if n >= uint64(len(texts)) {
			err = errDamaged
			return ""
		}
		return texts[n]
	}
	n := count()
	known = make(map[uint64][]Location, n)
	at := uint64(0)
	for range n {
		at += next()
		k := count()
		if err != nil || k == 0 {
			return nil, errDamaged
		}
		ls := make([]Location, min(k, len(rest)/8)) // each has eight numbers
		if len(ls) < k {
			return nil, errDamaged
		}
		for i := range ls {
			l := &ls[i]
			l.Name, l.Linkage, l.File = text(), text(), text()
			l.Line, l.Start = uint32(next()), uint32(next())
			marks := next()
			l.Inlined, l.Unnamed, l.Entry = marks&1 != 0, marks&2 != 0, marks&4 != 0
			l.Kind, l.Function = profile.ModuleKind(next()), next()
		}
		known[at] = ls
	}
	return known, err
}

// names reads the resolved addresses of an object; nil where there are none
// that can be used.
func (c *Cache) names(key string) map[uint64][]Location {
	b, ok := c.Get(key)
	if !ok {
		return nil
	}
	known, err := unpackNames(b)
	if err != nil {
		return nil // it is written anew when the object is closed
	}
	return known
}

func (c *Cache) keepNames(key string, known map[uint64][]Location) { c.Keep(key, packNames(known)) }
