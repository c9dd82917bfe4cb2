package compare

import "entelon/core/match"

// WithoutFarOff compares once more without the takes that are far off the others of their
// side. It returns these by their IDs; the result is nil where there are none, or where too
// little is left.
func (r *Result) WithoutFarOff(o Options) (without *Result, ids []string) {
	off := [2]map[int]bool{{}, {}}
	for _, m := range r.Remarks {
		if m.Code == "far-off" {
			off[m.Side][m.Run] = true
		}
	}
	if len(off[0])+len(off[1]) == 0 {
		return nil, nil
	}
	var kept [2][]match.Run
	for side, runs := range [][]match.Run{r.a, r.b} {
		for i := range runs {
			if off[side][i] {
				ids = append(ids, runs[i].ID)
			} else {
				kept[side] = append(kept[side], runs[i])
			}
		}
	}
	o.Scale, o.OrShares = r.Scale, false
	without, err := Compare(kept[0], kept[1], o)
	if err != nil {
		return nil, ids // what is left cannot be compared, so there is nothing to put beside
	}
	return without, ids
}
