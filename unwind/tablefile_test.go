package unwind

import (
	"encoding/binary"
	"hash/crc32"
	"testing"
)

// TestKeptTable: what is kept comes back the same, and no damage to it is
// taken for a table, even where the checksum was made to fit.
func TestKeptTable(t *testing.T) {
	table := Compile(Source{EHFrame: ehFrame("zR",
		[]byte{cfaAdvanceLoc | 1, cfaDefCfaOffset, 16, cfaOffset | RBP, 2},
		[]byte{cfaDefCfaExpr, 3, opBreg0 + RSP, 0x10, opDeref, cfaExpression, RBX, 2, opBreg0 + RBP, 0x78},
		[]byte{cfaUndefined, PC})})
	b := table.Keep()
	again, ok := Kept(b)
	if !ok || again.String() != table.String() || again.Rows != table.Rows || again.Source != table.Source || again.Size() != table.Size() {
		t.Fatalf("%v\n%s\nwant\n%s", ok, again, table)
	}
	for i := 4; i < len(b); i++ {
		harmed := append([]byte(nil), b...)
		harmed[i] ^= 0xff
		if _, ok := Kept(harmed); ok {
			t.Fatalf("damage of byte %d is not noticed", i)
		}
		binary.LittleEndian.PutUint32(harmed, crc32.ChecksumIEEE(harmed[4:]))
		if x, ok := Kept(harmed); ok { // other values in sound places: it must not crash
			var c Cache
			for pc := uint64(fnOutmost); pc < fnGap; pc += 0x11 {
				Walk(layout{x}, &c, at(pc, words(1, 2, 3, fnPlain, fnOutmost+1)), nil)
			}
		}
		if _, ok := Kept(b[:i]); ok {
			t.Fatalf("a table cut off at byte %d is read", i)
		}
	}
}
