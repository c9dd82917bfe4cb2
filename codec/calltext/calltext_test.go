package calltext

import (
	"bytes"
	"strconv"
	"strings"
	"testing"
	"unicode/utf8"

	"entelon/core/calltree"
	"entelon/core/invent"
	"entelon/core/scope"
)

func plain(s string) string { return s }

// TestTreeConserves: the lines of the first step add up to all, whatever the least share.
func TestTreeConserves(t *testing.T) {
	for seed := range uint64(20) {
		p := invent.Profile(seed, invent.Small)
		tr := calltree.New(p)
		c := tr.Cost(0, scope.Scope{})
		for _, least := range []float64{0, 0.05, 0.4} {
			var b bytes.Buffer
			if err := WriteTree(&b, tr, c, Options{Least: least, Whole: true, Name: plain}); err != nil {
				t.Fatal(err)
			}
			sum, lines := 0.0, strings.Split(strings.TrimSpace(b.String()), "\n")[1:]
			for _, l := range lines {
				if len(l) < 31 || l[29] == ' ' && l[30] == ' ' {
					continue // further in
				}
				v, err := strconv.ParseFloat(strings.Fields(l)[0], 64)
				if err != nil {
					t.Fatalf("%q: %v", l, err)
				}
				sum += v
			}
			if sum < 99.9 || sum > 100.1 {
				t.Errorf("seed %d, from %v on: the first step adds up to %.2f %%\n%s", seed, least, sum, b.String())
			}
			if least == 0 && strings.Contains(b.String(), "smaller") {
				t.Errorf("seed %d: something is left out of nothing", seed)
			}
		}
	}
}

// TestFlameFits: no row is wider than it may be, nor are there more rows, and names are in
// their boxes.
func TestFlameFits(t *testing.T) {
	for seed := range uint64(20) {
		p := invent.Profile(seed, invent.Small)
		tr := calltree.New(p)
		c := tr.Cost(0, scope.Scope{})
		for _, columns := range []int{1, 20, 80, 200} {
			var b bytes.Buffer
			if err := WriteFlame(&b, tr, c, columns, 12, plain); err != nil {
				t.Fatal(err)
			}
			rows := strings.Split(strings.TrimSuffix(b.String(), "\n"), "\n")
			if len(rows) > 13 {
				t.Errorf("%d rows", len(rows))
			}
			for _, r := range rows {
				if n := utf8.RuneCountInString(r); n > columns {
					t.Errorf("seed %d: %d columns of %d: %q", seed, n, columns, r)
				}
			}
			if columns > 20 && !strings.HasPrefix(rows[0], "▏all") {
				t.Errorf("it begins with %q", rows[0])
			}
		}
	}
	if got := box("slur.Route", 6, false); got != "▏slur…" {
		t.Errorf("%q", got)
	}
}
