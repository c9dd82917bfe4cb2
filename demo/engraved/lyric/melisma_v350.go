//go:build v350

package lyric

import "entelon/demo/engraved/score"

// melisma returns where the line of a syllable ends that is sung over the
// notes of a slur.
func melisma(notes []score.Note, i int) float64 {
	if to := notes[i].SlurTo; to > i && to < len(notes) {
		return notes[to].X + 0.7
	}
	return 0
}
