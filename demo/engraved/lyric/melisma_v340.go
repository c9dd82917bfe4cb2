//go:build !v350

package lyric

import "entelon/demo/engraved/score"

// melisma draws no lines in this build.
func melisma([]score.Note, int) float64 { return 0 }
