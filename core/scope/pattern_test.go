package scope

import (
	"math/rand/v2"
	"testing"
)

// TestPartsBetweenStars: looking for the parts of a pattern one after the other comes
// to the same as going through it character by character.
func TestPartsBetweenStars(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 2))
	text := func(letters string, most int) string {
		b := make([]byte, rnd.IntN(most+1))
		for i := range b {
			b[i] = letters[rnd.IntN(len(letters))]
		}
		return string(b)
	}
	fits := 0
	for range 20_000 {
		p, name := literal(text("ab*(*", 7)), text("ab(*", 9)
		if p.parts == nil {
			continue
		}
		if got, want := p.fits(name), wildly(p.source, name); got != want {
			t.Fatalf("%s is %s: %v, want %v", name, p.source, got, want)
		} else if got {
			fits++
		}
	}
	if fits < 1000 {
		t.Errorf("%d names fit", fits)
	}
}
