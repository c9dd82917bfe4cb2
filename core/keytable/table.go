// Package keytable is a hash table from pairs of 32 bits to nodes of a tree. A table belongs to who
// made it.
package keytable

// Table finds the node of a key, with open addressing in one slice: for the
// millions of nodes of a large tree it takes a fraction of a map's time. Keys
// are pairs of 32 bits; the pair of zeros is not a key. A key stands beside its
// node, so that finding both is one access to memory that is not in the cache.
type Table struct {
	entries []keyEntry
	used    int
	mask    uint64
}

type keyEntry struct {
	key  uint64
	node uint32
}

// New makes a table with room for so many keys.
func New(expected int) *Table {
	size := 1 << 10
	for full(expected, size) {
		size *= 2
	}
	return &Table{make([]keyEntry, size), 0, uint64(size - 1)}
}

// full reports whether so many keys are too many for a size.
func full(keys, size int) bool { return 4*keys >= 3*size }

// slot returns where a key is, or where it would be put.
func (t *Table) slot(key uint64) uint64 {
	h := key * 0x9e3779b97f4a7c15 // Fibonacci hashing
	for i := h >> 32 & t.mask; ; i = (i + 1) & t.mask {
		if k := t.entries[i].key; k == key || k == 0 {
			return i
		}
	}
}

// Find returns the node of a key; one that has none gets next, and is fresh.
func (t *Table) Find(key uint64, next uint32) (n uint32, fresh bool) {
	e := &t.entries[t.slot(key)]
	if e.key == key {
		return e.node, false
	}
	if full(t.used+1, len(t.entries)) {
		t.grow()
		e = &t.entries[t.slot(key)]
	}
	*e = keyEntry{key, next}
	t.used++
	return next, true
}

func (t *Table) grow() {
	old := t.entries
	*t = Table{make([]keyEntry, 2*len(old)), t.used, uint64(2*len(old) - 1)}
	for _, e := range old {
		if e.key != 0 {
			t.entries[t.slot(e.key)] = e
		}
	}
}
