package scope

import (
	"errors"
	"strings"
	"testing"

	"entelon/core/measure"
	"entelon/core/profile"
)

// spanned is a profile with a span of a thread, from 100 to 200, and two of a goroutine: from 0 to 60 and from
// 300 to 400; the thread carries it from 50 to 350.
func spanned() *profile.Profile {
	b := profile.NewBuilder()
	b.Column(measure.Column{Name: "cpu", Unit: measure.Nanoseconds})
	process := b.Process(1)
	thread, routine := b.Thread(process, 10), b.Goroutine(process, 7)
	span := func(name string) profile.StackID {
		return b.Push(0, b.Mark(profile.Span, profile.SpanKey(name)))
	}
	for at := range int64(50) {
		b.Sample(at*10, thread, 0, 1)
	}
	b.Interval(profile.Interval{Start: 100, Duration: 100, Thread: thread, Kind: profile.IntervalSpan, Stack: span("draw")})
	b.Interval(profile.Interval{Start: 0, Duration: 60, Thread: routine, Kind: profile.IntervalSpan, Stack: span("page.Place")})
	b.Interval(profile.Interval{Start: 300, Duration: 100, Thread: routine, Kind: profile.IntervalSpan, Stack: span("page.Place")})
	b.Interval(profile.Interval{Start: 50, Duration: 300, Thread: routine, Kind: profile.IntervalCarried, Ended: true, By: thread})
	return b.Profile()
}

func TestDuringASpan(t *testing.T) {
	p := spanned()
	for text, want := range map[string][2]int{ // how many samples, and the first
		"during span draw":                                                {10, 10},
		"during span draw longer than 99 ns":                              {10, 10},
		"during span draw longer than 100 ns":                             {0, 0},
		"during span draw shorter than 100 ns":                            {0, 0},
		"during span page.Place":                                          {6, 5},
		"during span page.*, draw":                                        {16, 5},
		"during span page.Place longer than 60 ns shorter than 101 ns":    {5, 30},
		"not during span draw and time from 0.0000001 s to 0.00000025 s":  {5, 20},
		"during span draw longer than 50ns and time from 0.00000015 s":    {5, 15},
		"during span none":                                                {0, 0},
		"(during span draw or during span page.Place) and thread is 10":   {16, 5},
		"during span draw longer than 0.05 µs and not during span page.*": {10, 10},
	} {
		sc, err := Parse(text)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		again, err := Parse(sc.String())
		if err != nil || again.String() != sc.String() {
			t.Errorf("%s becomes %s, and that %s, %v", text, sc, again, err)
		}
		if !sc.During() {
			t.Errorf("%s asks for no span", text)
		}
		n, first := 0, 0
		for i, is := range sc.Select(p) {
			if is {
				if n++; n == 1 {
					first = i
				}
			}
			if is != again.Contains(p)(i) {
				t.Errorf("%s holds sample %d, and does not", text, i)
			}
		}
		// Lenses take a scope apart.
		for _, ordered := range []bool{false, true} {
			each := 0
			sc.Sieve(p, ordered).Each(p, func(i int) {
				if each++; !sc.Contains(p)(i) {
					t.Errorf("%s, taken apart, holds sample %d, and does not", text, i)
				}
			})
			if each != want[0] {
				t.Errorf("%s, taken apart, holds %d samples, want %d", text, each, want[0])
			}
		}
		if n != want[0] || n > 0 && first != want[1] {
			t.Errorf("%s: %d samples from %d on, want %v", text, n, first, want)
		}
	}
	for text, says := range map[string]string{
		"during draw":                          `"span"`,
		"during span":                          "the name of a span",
		"during span draw longer":              `"than"`,
		"during span draw longer than":         "a number with its unit",
		"during span draw longer than 5 KiB":   "a time with its unit",
		"during span draw longer than 0 ms":    "a time with its unit",
		"during span draw shorter than 5 x":    "",
		"during span draw longer than 5 ms is": "",
	} {
		_, err := Parse(text)
		var wrong *SyntaxError
		if !errors.As(err, &wrong) || !strings.Contains(wrong.Problem, says) {
			t.Errorf("%s: %v, want %s", text, err, says)
		}
	}
}
