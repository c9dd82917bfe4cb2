package collecting

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"entelon/core/compare"
	"entelon/core/profile"
	"entelon/core/until"
	"entelon/server/request"
	"entelon/store/jobs"
)

// maxTurns is how many takes are made in a row at most.
const maxTurns = 100

// inRow has a take be the first of a row: of so many of one command, or, where
// there is another command to hold it against, of so many of each interleaved, so that
// a drift of the machine meets both alike.
// enough says when that is known; then so many are made at most.
func inRow(set *profile.Settings, against []string, repeat int, enough string) error {
	set.Series, set.Turn, set.Turns, set.Side, set.Against, set.Until = "", 0, 0, "", nil, ""
	if repeat < 0 || repeat > maxTurns {
		return fmt.Errorf("at most %d takes are made in a row", maxTurns)
	}
	if enough != "" {
		u, err := until.Parse(enough)
		if err != nil {
			return err
		}
		if err := u.Fit(set, len(against) > 0, repeat); err != nil {
			return err
		}
		repeat, set.Until = u.Most, u.String()
	}
	turns := repeat
	if len(against) > 0 {
		if len(set.Command) == 0 || len(set.PIDs) > 0 || set.PID != 0 {
			return errors.New("only a command can be compared against another one")
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

// rowState is how far a row is that ends when enough is known. It goes from job to job.
type rowState struct {
	until.SoFar
	Began time.Time `json:"began"`
	Said  string    `json:"said"`
	Over  bool      `json:"over"` // enough is known, or cannot be
}

// rowStateOf reads how far a job's row is.
func rowStateOf(j *jobs.Job) (state rowState, err error) {
	if j.Kind == "take" && j.Settings.Until != "" {
		err = json.Unmarshal(j.Task, &state)
	}
	return state, err
}

// rowGoesOn takes a job's take into what its row has told.
func (s CollectorRoutes) rowGoesOn(ctx context.Context, j *jobs.Job, key string) (state rowState, err error) {
	if state, err = rowStateOf(j); err != nil {
		return state, fmt.Errorf("reading how far the row is: %w", err)
	}
	if state.Began.IsZero() {
		state.Began = j.CreatedAt
	}
	u, err := until.Parse(j.Settings.Until)
	if err != nil {
		return state, err
	}
	side := 0
	if u.Most = j.Settings.Turns; j.Settings.Side != "" {
		u.Most /= 2
	}
	if j.Settings.Side == profile.Candidate {
		side = 1
	}
	row, err := s.Store.Take(ctx, key)
	if err != nil {
		return state, err
	}
	kept, err := s.OpenTake(ctx, row, s.Keep.Get)
	if err != nil {
		return state, fmt.Errorf("reading the take for how far the row is: %w", err)
	}
	defer kept.Release()
	if err := state.Add(&u, side, kept.Value().(*request.Opened).Take); err != nil {
		return state, err
	}
	if j.Settings.Side == profile.Baseline {
		return state, nil // its candidate follows
	}
	said, err := state.Say(&u, time.Since(state.Began))
	if err != nil {
		return state, err
	}
	if said.Text != "" {
		state.Said = said.Text
	}
	state.Over = said.Done
	return state, nil
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
