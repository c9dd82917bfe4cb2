package unwind

import (
	"math/rand/v2"
	"testing"
)

// TestFindsEachRow: dense code, whose rows are in blocks, and code with large gaps are
// found as by looking at one row after the other, also after they were kept.
func TestFindsEachRow(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for name, gap := range map[string]int{"dense": 12, "blocks without rows": 400, "gaps": 10_000, "hardly any rows": 1_000_000, "one row at each address": 1} {
		b := newBuilder()
		type row struct {
			at   uint64
			rule *draft
		}
		var rows []row
		at := uint64(0x40_0000)
		for range 3000 {
			var d *draft
			if r.IntN(8) > 0 {
				d = &draft{Rule: Rule{cfa: cfaRegister, register: RSP, offset: int32(r.IntN(40))}}
			}
			b.row(at, d)
			rows = append(rows, row{at, d})
			at += uint64(1 + r.IntN(gap))
		}
		table := b.finish()
		if s := table.segments[0]; (s.near != nil) != (gap < 1000) || (s.far != nil) != (gap == 10_000) {
			t.Errorf("%s: near %v, far %v", name, s.near != nil, s.far != nil)
		}
		again, ok := Kept(table.Keep())
		if !ok {
			t.Fatalf("%s: what was kept cannot be read", name)
		}
		for _, x := range []*Table{table, again} {
			k := 0
			for a := rows[0].at - 300; a < at+2000; a += uint64(1 + r.IntN(gap/4+1)) {
				for k+1 < len(rows) && rows[k+1].at <= a {
					k++
				}
				got := x.find(a)
				want := rows[k].rule
				if a < rows[0].at {
					want = nil
				}
				if (got == nil) != (want == nil) || got != nil && got.offset != want.offset {
					t.Fatalf("%s: at %#x there is %+v, want %+v", name, a, got, want)
				}
			}
		}
	}
}
