package cache

import (
	"encoding/binary"
	"errors"
	"hash/crc32"
	"maps"
	"slices"
	"sort"
	"unsafe"

	"entelon/core/profile"
	"entelon/symbol/location"
)

// NamesVersion changes whenever names would come out differently.
const NamesVersion = 9

// What was found out about the addresses of an object is kept packed, and only what is asked for
// is unpacked: a take of a short command waits for it, and names of all addresses that were ever
// met in a C library took a quarter of what such a take cost. All of it is little endian:
//
//	checksum of the rest, how many texts and how many addresses there are: 4 bytes each
//	where each text ends, in the bytes of all: 4 bytes each; these bytes
//	the addresses, in their order: 8 bytes each
//	where each address's record ends, in those of all: 4 bytes each; these records
//
// A record is of numbers of variable length: how many locations there are, and for each of those
// the numbers of its three texts, its two lines, its marks (inlined 1, unnamed 2, entry 4), its
// kind, and the address of its function.
//
// Whatever is damaged is not used.
const packedHead = 12

// Packed are names in their packed form.
type Packed struct {
	texts              string
	textEnds           []byte
	addresses          []byte
	recordEnds, record []byte
}

// packNames packs what is known of an object.
func packNames(known map[uint64][]location.Location) []byte {
	le := binary.LittleEndian
	numbers := map[string]uint64{}
	var texts, textEnds, addresses, records, recordEnds []byte
	number := func(s string) uint64 {
		n, ok := numbers[s]
		if !ok {
			n = uint64(len(numbers))
			numbers[s] = n
			texts = append(texts, s...)
			textEnds = le.AppendUint32(textEnds, uint32(len(texts)))
		}
		return n
	}
	put := func(v ...uint64) {
		for _, v := range v {
			records = binary.AppendUvarint(records, v)
		}
	}
	for _, at := range slices.Sorted(maps.Keys(known)) {
		addresses = le.AppendUint64(addresses, at)
		put(uint64(len(known[at])))
		for _, l := range known[at] {
			put(number(l.Name), number(l.Linkage), number(l.File), uint64(l.Line), uint64(l.Start),
				marked(l.Inlined, 1)|marked(l.Unnamed, 2)|marked(l.Entry, 4), uint64(l.Kind), l.Function)
		}
		recordEnds = le.AppendUint32(recordEnds, uint32(len(records)))
	}
	if max(len(texts), len(records)) > maxPacked {
		return nil
	}
	head := le.AppendUint32(le.AppendUint32(nil, uint32(len(numbers))), uint32(len(known)))
	return sealed(slices.Concat(head, textEnds, texts, addresses, recordEnds, records))
}

// maxPacked bounds texts and records, in bytes each: places in them have 32 bits.
const maxPacked = 1 << 30

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

// openNames reads the outline of the packed form, of bytes that nobody changes any more.
func openNames(b []byte) (*Packed, error) {
	le := binary.LittleEndian
	if len(b) < packedHead || crc32.ChecksumIEEE(b[4:]) != le.Uint32(b) {
		return nil, errDamaged
	}
	rest := b[packedHead:]
	bad := false
	take := func(n uint64) []byte {
		if bad = bad || n > uint64(len(rest)); bad {
			return nil
		}
		part := rest[:n]
		rest = rest[n:]
		return part
	}
	// sized is a part whose length stands at the end of the ends of what is in it.
	sized := func(ends []byte) []byte {
		last := uint32(0)
		for i := 0; i < len(ends); i += 4 {
			end := le.Uint32(ends[i:])
			bad = bad || end < last // parts that overlap would be more than there is
			last = end
		}
		return take(uint64(last))
	}
	n := &Packed{}
	n.textEnds = take(4 * uint64(le.Uint32(b[4:])))
	texts := sized(n.textEnds)
	n.addresses = take(8 * uint64(le.Uint32(b[8:])))
	n.recordEnds = take(4 * uint64(le.Uint32(b[8:])))
	n.record = sized(n.recordEnds)
	if bad || len(rest) > 0 {
		return nil, errDamaged
	}
	n.texts = unsafe.String(unsafe.SliceData(texts), len(texts))
	return n, nil
}

// len is how many addresses there are.
func (n *Packed) len() int {
	if n == nil {
		return 0
	}
	return len(n.addresses) / 8
}

func (n *Packed) address(i int) uint64 { return binary.LittleEndian.Uint64(n.addresses[8*i:]) }

// Find returns what is known of an address; nil where that is nothing.
func (n *Packed) Find(address uint64) []location.Location {
	i := sort.Search(n.len(), func(i int) bool { return n.address(i) >= address })
	if i == n.len() || n.address(i) != address {
		return nil
	}
	return n.at(i)
}

// between is where a part lies, by the ends of all.
func between(ends []byte, i int) (from, to uint32) {
	if i > 0 {
		from = binary.LittleEndian.Uint32(ends[4*(i-1):])
	}
	return from, binary.LittleEndian.Uint32(ends[4*i:])
}

// at returns the locations of an address by its place; nil where they are damaged.
func (n *Packed) at(i int) []location.Location {
	from, to := between(n.recordEnds, i)
	rest, ok := n.record[from:to], true
	next := func() uint64 {
		v, size := binary.Uvarint(rest)
		if size <= 0 {
			ok, rest = false, nil
			return 0
		}
		rest = rest[size:]
		return v
	}
	text := func() string {
		number := next()
		if number >= uint64(len(n.textEnds)/4) {
			ok = false
			return ""
		}
		from, to := between(n.textEnds, int(number))
		return n.texts[from:to]
	}
	k := next()
	if k == 0 || k > uint64(len(rest)/8) { // each has eight numbers
		return nil
	}
	ls := make([]location.Location, k)
	for i := range ls {
		l := &ls[i]
		l.Name, l.Linkage, l.File = text(), text(), text()
		l.Line, l.Start = uint32(next()), uint32(next())
		marks := next()
		l.Inlined, l.Unnamed, l.Entry = marks&1 != 0, marks&2 != 0, marks&4 != 0
		l.Kind, l.Function = profile.ModuleKind(next()), next()
	}
	if !ok || len(rest) > 0 {
		return nil
	}
	return ls
}

// Names reads the resolved addresses of an object; nil where there are none
// that can be used.
func (c *Cache) Names(key string) *Packed {
	b, ok := c.Get(key)
	if !ok {
		return nil
	}
	known, err := openNames(b)
	if err != nil {
		return nil // it is written anew when the object is closed
	}
	return known
}

// KeepNames keeps what was learned of an object, with what was known before.
func (c *Cache) KeepNames(key string, learned map[uint64][]location.Location, before *Packed) {
	for i := range before.len() {
		at := before.address(i)
		if _, ok := learned[at]; !ok {
			if ls := before.at(i); ls != nil {
				learned[at] = ls
			}
		}
	}
	if b := packNames(learned); b != nil {
		c.Keep(key, b)
	}
}
