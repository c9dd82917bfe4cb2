package tree

// keyTable finds the node of a key, with open addressing in one slice: for the
// millions of nodes of a large tree it takes a fraction of a map's time. Keys
// are pairs of 32 bits; the pair of zeros is not a key.
type keyTable struct {
	keys  []uint64
	nodes []NodeID
	used  int
	mask  uint64
}

func newKeyTable(expected int) *keyTable {
	size := 1 << 10
	for size < 2*expected {
		size *= 2
	}
	return &keyTable{make([]uint64, size), make([]NodeID, size), 0, uint64(size - 1)}
}

// slot returns where a key is, or where it would be put.
func (t *keyTable) slot(key uint64) uint64 {
	h := key * 0x9e3779b97f4a7c15 // Fibonacci hashing
	for i := h >> 32 & t.mask; ; i = (i + 1) & t.mask {
		if t.keys[i] == key || t.keys[i] == 0 {
			return i
		}
	}
}

// get returns the node of a key; ok is false where it has none.
func (t *keyTable) get(key uint64) (n NodeID, ok bool) {
	i := t.slot(key)
	return t.nodes[i], t.keys[i] != 0
}

// put gives a key that has none a node.
func (t *keyTable) put(key uint64, n NodeID) {
	if 2*t.used >= len(t.keys) {
		old := *t
		*t = *newKeyTable(len(old.keys))
		for i, k := range old.keys {
			if k != 0 {
				j := t.slot(k)
				t.keys[j], t.nodes[j] = k, old.nodes[i]
			}
		}
		t.used = old.used
	}
	i := t.slot(key)
	t.keys[i], t.nodes[i] = key, n
	t.used++
}
