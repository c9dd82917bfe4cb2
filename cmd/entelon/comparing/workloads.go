package comparing

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// alike leaves both sides takes of one workload where they share one: of several that with
// the most takes on the side that has fewer of it. It returns what is to be said about what
// is left out, "" for nothing. Sides that share none stay as they are.
func (x *Comparison) alike(a, b *measured) (notice string, err error) {
	count, words := map[string][2]int{}, map[string]string{}
	for side, m := range []*measured{a, b} {
		for _, w := range m.in {
			c := count[w.Key]
			c[side]++
			count[w.Key], words[w.Key] = c, w.Words
		}
	}
	var keys []string
	for k, c := range count {
		if x.workload != "" {
			if words[k] == x.workload {
				keys = append(keys, k)
			}
		} else if c[0] > 0 && c[1] > 0 {
			keys = append(keys, k)
		}
	}
	if x.workload != "" && (len(keys) == 0 || count[keys[0]][0] == 0 || count[keys[0]][1] == 0) {
		var names []string
		for _, w := range words {
			names = append(names, fmt.Sprintf("%q", w))
		}
		slices.Sort(names)
		return "", fmt.Errorf("--workload %q: not both sides have takes of it; theirs are %s", x.workload, strings.Join(names[:min(len(names), 8)], ", "))
	}
	if len(keys) == 0 || len(count) == 1 {
		return "", nil
	}
	chosen := slices.MaxFunc(keys, func(k, l string) int {
		c, d := count[k], count[l]
		return cmp.Or(cmp.Compare(min(c[0], c[1]), min(d[0], d[1])), cmp.Compare(c[0]+c[1], d[0]+d[1]), cmp.Compare(words[l], words[k]))
	})
	left := 0
	for _, m := range []*measured{a, b} {
		var kept measured
		for i, t := range m.takes {
			if m.in[i].Key == chosen {
				kept.add(t, m.files[i], m.in[i])
			} else {
				left++
			}
		}
		*m = kept
	}
	what := "takes of other workloads are"
	if left == 1 {
		what = "take of another workload is"
	}
	return fmt.Sprintf("%d %s left out; compared are those of %q (another one with --workload)", left, what, words[chosen]), nil
}
