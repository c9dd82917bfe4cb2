package unwind

import "slices"

// Part returns a table that has the rules of some addresses only. It is enough to walk
// the stacks again in which these were, on a machine that has not the module.
func (t *Table) Part(addresses []uint64) *Table {
	b := newBuilder()
	sorted := slices.Compact(slices.Sorted(slices.Values(addresses)))
	for i, addr := range sorted {
		b.row(addr, t.draft(t.find(addr)))
		if i+1 == len(sorted) || sorted[i+1] > addr+1 {
			b.row(addr+1, nil)
		}
	}
	return b.finish()
}

// draft is a rule as it was before it was put into the table, nil for none.
func (t *Table) draft(r *Rule) *draft {
	if r == nil {
		return nil
	}
	d := &draft{Rule: *r}
	if r.cfa == cfaExpr {
		d.cfaExpr = t.expr(r.offset)
	}
	for _, s := range t.saves[r.first : r.first+uint32(r.count)] {
		x := draftSave{save: s}
		if s.kind == saveExprAt || s.kind == saveExprValue {
			x.expr = t.expr(s.offset)
		}
		d.saves = append(d.saves, x)
	}
	return d
}
