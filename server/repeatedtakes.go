package server

import (
	"errors"
	"fmt"
	"time"

	"entelon/core/compare"
	"entelon/core/profile"
)

// mostTurns is how many takes are made in a row at most.
const mostTurns = 100

// inRow has a take be the first of a row: of so many of one command, or, where
// there is another command to hold it against, of so many of each interleaved, so that
// a drift of the machine meets both alike.
func inRow(set *profile.Settings, against []string, repeat int) error {
	set.Series, set.Turn, set.Turns, set.Side, set.Against = "", 0, 0, "", nil
	if repeat < 0 || repeat > mostTurns {
		return fmt.Errorf("at most %d takes are made in a row", mostTurns)
	}
	turns := repeat
	if len(against) > 0 {
		if len(set.Command) == 0 || len(set.PIDs) > 0 || set.PID != 0 {
			return errors.New("only a command can be held against another one")
		}
		set.Side, set.Command, set.Against = profile.Baseline, against, set.Command
		if turns = 2 * repeat; repeat <= 1 {
			turns = 2 * compare.TakesEach
		}
	}
	if turns > 1 {
		set.Series, set.Turn, set.Turns = fmt.Sprintf("%x", time.Now().UnixNano()), 1, turns
	}
	return nil
}

// nextTurn makes the settings of the take that follows in its row.
func nextTurn(set *profile.Settings) {
	set.Turn++
	switch set.Side {
	case profile.Baseline:
		set.Side = profile.Candidate
	case profile.Candidate:
		set.Side = profile.Baseline
	default:
		return
	}
	set.Command, set.Against = set.Against, set.Command
	set.Build = "" // each has its own
}
