// Package score reads scores: parts, measures and notes, in a plain text of
// one measure a line.
package score

import (
	"bufio"
	"fmt"
	"io"
	"math/rand/v2"
	"strconv"
	"strings"
)

// Note is one note. Positions are in staff spaces.
type Note struct {
	Pitch    int // steps above the bottom line
	Length   int // in 64ths of a whole note
	Syllable string
	SlurTo   int // index of the note at which a slur from here ends, -1 if none
	X        float64
}

// Measure is one measure.
type Measure struct {
	Notes []Note
	Width float64
}

// Part is what one player sees.
type Part struct {
	Name     string
	Measures []Measure
}

// Score is a whole piece.
type Score struct {
	Title string
	Parts []Part
}

// Read reads a score.
func Read(r io.Reader) (*Score, error) {
	s := &Score{}
	sc := bufio.NewScanner(r)
	sc.Buffer(nil, 1<<20)
	for n := 1; sc.Scan(); n++ {
		word, rest, _ := strings.Cut(sc.Text(), " ")
		switch word {
		case "title":
			s.Title = rest
		case "part":
			s.Parts = append(s.Parts, Part{Name: rest})
		case "measure":
			if len(s.Parts) == 0 {
				return nil, fmt.Errorf("line %d: a measure outside any part", n)
			}
			m, err := readMeasure(rest)
			if err != nil {
				return nil, fmt.Errorf("line %d: %w", n, err)
			}
			p := &s.Parts[len(s.Parts)-1]
			p.Measures = append(p.Measures, m)
		}
	}
	return s, sc.Err()
}

func readMeasure(text string) (Measure, error) {
	var m Measure
	for _, field := range strings.Fields(text) {
		note, err := readNote(field)
		if err != nil {
			return m, err
		}
		m.Notes = append(m.Notes, note)
	}
	return m, nil
}

// readNote reads pitch/length/slur/syllable.
func readNote(text string) (Note, error) {
	f := strings.SplitN(text, "/", 4)
	if len(f) != 4 {
		return Note{}, fmt.Errorf("%q is not a note", text)
	}
	pitch, err := strconv.Atoi(f[0])
	if err != nil {
		return Note{}, fmt.Errorf("%q is not a pitch", f[0])
	}
	length, err := strconv.Atoi(f[1])
	if err != nil || length <= 0 {
		return Note{}, fmt.Errorf("%q is not a length", f[1])
	}
	slur, err := strconv.Atoi(f[2])
	if err != nil {
		return Note{}, fmt.Errorf("%q is not a slur", f[2])
	}
	return Note{Pitch: pitch, Length: length, SlurTo: slur, Syllable: f[3]}, nil
}

var syllables = strings.Fields("ta la mi ro sel ven dor quin la al tam bri no fa ere lu min sa cor del")

// Compose writes a made-up score, the same for the same seed.
func Compose(seed int64) string {
	r := rand.New(rand.NewPCG(uint64(seed), 7))
	var b strings.Builder
	fmt.Fprintf(&b, "title Study %d\n", seed)
	for part := range 4 {
		fmt.Fprintf(&b, "part Voice %d\n", part+1)
		for range 48 {
			b.WriteString("measure")
			n := 6 + r.IntN(8)
			pitch := 2 + r.IntN(6)
			for i := range n {
				pitch = min(14, max(-4, pitch+r.IntN(7)-3))
				slur := -1
				if i+3 < n && r.IntN(3) == 0 {
					slur = i + 2 + r.IntN(n-i-2)
				}
				fmt.Fprintf(&b, " %d/%d/%d/%s", pitch, 4<<r.IntN(3), slur, syllables[r.IntN(len(syllables))])
			}
			b.WriteByte('\n')
		}
	}
	return b.String()
}
