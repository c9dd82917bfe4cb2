package collecting

import (
	"reflect"
	"strings"
	"testing"

	"entelon/core/compare"
	"entelon/core/profile"
)

// TestTurnsAgainstABaseline: both commands come in turns, each with its side, and
// the one of the other side beside it.
func TestTurnsAgainstABaseline(t *testing.T) {
	set := profile.Settings{Command: []string{"new", "--scores", "3"}, Build: "mine", Series: "old row", Turn: 7, Turns: 9, Side: profile.Candidate, Against: []string{"x"}}
	if err := inRow(&set, []string{"old", "--scores", "3"}, 2, ""); err != nil {
		t.Fatal(err)
	}
	var got []string
	series := set.Series
	for ; ; nextTurn(&set) {
		got = append(got, set.Side+" "+set.Command[0]+" against "+set.Against[0])
		if set.Turn == set.Turns {
			break
		}
	}
	want := []string{"baseline old against new", "candidate new against old", "baseline old against new", "candidate new against old"}
	if !reflect.DeepEqual(got, want) || set.Series != series || series == "" || series == "old row" {
		t.Errorf("%q in the row %s", got, series)
	}

	plain := profile.Settings{Command: []string{"new"}, Against: []string{"x"}, Side: profile.Baseline}
	if err := inRow(&plain, nil, 3, ""); err != nil || plain.Turns != 3 || plain.Turn != 1 || plain.Side != "" || plain.Against != nil {
		t.Errorf("%v: %+v", err, plain)
	}
	nextTurn(&plain)
	if plain.Turn != 2 || plain.Command[0] != "new" {
		t.Errorf("the second is %+v", plain)
	}
	if err := inRow(&plain, nil, 1, ""); err != nil || plain.Series != "" || plain.Turns != 0 {
		t.Errorf("a single take is in a row: %+v", plain)
	}
	usual := profile.Settings{Command: []string{"new"}}
	if err := inRow(&usual, []string{"old"}, 0, ""); err != nil || usual.Turns != 2*compare.TakesEach {
		t.Errorf("%v, %d turns", err, usual.Turns)
	}
	for words, set := range map[string]profile.Settings{
		"only a command": {PIDs: []int{4711}, Command: []string{"engraved"}}, "against another": {Machine: true},
	} {
		if err := inRow(&set, []string{"old"}, 2, ""); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%+v: %v", set, err)
		}
	}
	if err := inRow(&usual, nil, maxTurns+1, ""); err == nil {
		t.Error("more turns than are allowed")
	}
}
