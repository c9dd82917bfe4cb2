package spans

import (
	"fmt"
	"strings"

	"entelon/core/measure"
)

// String says what became of spans, in one line.
func (a Added) String() string {
	n := func(n int) string { return measure.Amount(int64(n), measure.Count) }
	var parts []string
	for _, p := range []struct {
		n    int
		text string
	}{
		{a.Thread, "of threads of the take"}, {a.Process - a.Thread, "of other threads of its processes"}, {a.Spans - a.Process, "of no process of the take"},
		{a.Links, "that go on from another one"}, {a.Queued, "times in a queue"}, {a.Cut, "cut where the take begins or ends"}, {a.Open, "without an end"}, {a.Unnamed, "of more names than are told apart"},
	} {
		if p.n > 0 {
			parts = append(parts, n(p.n)+" "+p.text)
		}
	}
	spans := " spans"
	if a.Spans == 1 {
		spans = " span"
	}
	text := n(a.Spans) + spans + " added: " + strings.Join(parts, ", ")
	if left := a.Left(); left != "" {
		text += "; left out: " + left
	}
	return text
}

// Left says which spans were left out; "" where none was.
func (a Added) Left() string {
	var left []string
	for _, p := range []struct {
		n    int
		text string
	}{{a.Outside, "before or after the take"}, {a.Reversed, "that end before they begin"}, {a.Nameless, "without a name that can be shown"}} {
		if p.n > 0 {
			left = append(left, measure.Amount(int64(p.n), measure.Count)+" "+p.text)
		}
	}
	return strings.Join(left, ", ")
}

// String says how a clock was wrong, and what was made of that, in two sentences.
func (c Clock) String() string {
	who := c.Service
	if who == "" {
		who = "a program without a name"
	}
	way, by := "ahead", c.AheadNS
	if by < 0 {
		way, by = "behind", -by
	}
	text := fmt.Sprintf("The clock of %.80s was %s %s", who, measure.Amount(by, measure.Nanoseconds), way)
	if ppm := c.Drift * 1e6; ppm >= 0.5 || ppm <= -0.5 {
		text += fmt.Sprintf(" and went %.0f millionths too %s", max(ppm, -ppm), map[bool]string{true: "fast", false: "slow"}[ppm > 0])
	}
	text += fmt.Sprintf(". Its %s spans were moved", measure.Amount(int64(c.Spans), measure.Count))
	if c.WithinNS > 0 {
		return text + ", and are right within " + measure.Amount(c.WithinNS, measure.Nanoseconds) + "."
	}
	return text + ", by no more than it must have been wrong."
}
