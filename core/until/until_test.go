package until

import (
	"math"
	"strings"
	"testing"
	"time"

	"entelon/core/statistics"
)

func TestParseUntil(t *testing.T) {
	for text, want := range map[string]Rule{
		"sure 2%":             {Within: 0.02},
		"sure":                {Within: 0.05},
		"slur.Route sure 5%":  {Function: "slur.Route", Within: 0.05},
		"decided":             {Within: 0.05, Decided: true},
		"decided 3%":          {Within: 0.03, Decided: true},
		" slur.*  decided 1%": {Function: "slur.*", Within: 0.01, Decided: true},
		"sure 2 %":            {Within: 0.02},
	} {
		got, err := Parse(text)
		if err != nil || got != want {
			t.Errorf("%q: %+v, %v", text, got, err)
		}
		if again, err := Parse(got.String()); err != nil || again != got {
			t.Errorf("%q is written as %q: %+v, %v", text, got.String(), again, err)
		}
	}
	for _, text := range []string{"", "2%", "certain 2%", "sure 0%", "sure 99%", "sure NaN%", "a b sure 2%", "sure two%"} {
		if u, err := Parse(text); err == nil {
			t.Errorf("%q: %+v", text, u)
		}
	}
}

// TestLookLevels: all looks together spend the rate of one test, however many there are.
func TestLookLevels(t *testing.T) {
	for _, most := range []int{3, 5, 20, 200} {
		sum := 0.0
		for n := 1; n <= most; n++ {
			l := LevelOf(n, most)
			if (l > 0) != (n >= MinLooks) {
				t.Errorf("look %d of %d has %v", n, most, l)
			}
			sum += l
		}
		if math.Abs(sum-(1-statistics.Confidence)) > 1e-9 {
			t.Errorf("%d looks spend %v", most, sum)
		}
	}
}

// TestTakesThatAreAllAlike: as many samples in each of four takes leave nothing open, and that is said; three
// may be alike by chance.
func TestTakesThatAreAllAlike(t *testing.T) {
	u, err := Parse("sure 0.1%")
	if err != nil {
		t.Fatal(err)
	}
	u.Most = 4
	for _, sides := range []int{1, 2} {
		var s SoFar
		for n := 1; n <= 4; n++ {
			for side := range sides {
				s.Of[side].Add(20e6, 20, time.Unix(int64(n), 0))
			}
			said, err := s.Say(&u, time.Second)
			if err != nil || said.Done != (n == 4) || (said.Text != "") != (n == 4) && n != 1 && n != 2 {
				t.Errorf("%d sides, take %d: %+v, %v", sides, n, said, err)
			}
			if n == 4 && !strings.Contains(said.Text, "known to ±0.0 %") {
				t.Errorf("%d sides: %q", sides, said.Text)
			}
		}
	}
}
