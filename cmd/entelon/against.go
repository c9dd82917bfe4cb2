package main

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"entelon/core/compare"
	"entelon/core/profile"
)

// inTurns takes a baseline and the command one after the other, several times, so
// that a drift of the machine meets both alike.
func (f takeFlags) inTurns(ctx context.Context, say func(string)) error {
	if f.repeat == 1 {
		f.repeat = compare.TakesEach
	}
	var r row
	baseline, candidate := f, f
	words := strings.Fields(f.against)
	if len(words) == 1 {
		words = append(words, f.settings.Command[1:]...)
	}
	baseline.settings.Command, baseline.settings.Against, baseline.settings.Build = words, f.settings.Command, f.againstBuild
	candidate.settings.Against = words
	if f.until != nil {
		baseline.made, candidate.made = r.add(f.until, 0), r.add(f.until, 1)
	}
	series := seriesName()
	named := func(side string, turn int) string {
		if f.out == "" {
			return ""
		}
		ext := filepath.Ext(f.out)
		return numbered(strings.TrimSuffix(f.out, ext)+"-"+side+ext, turn)
	}
	for turn := 1; turn <= f.repeat; turn++ {
		for i, side := range []*takeFlags{&baseline, &candidate} {
			name := [2]string{profile.Baseline, profile.Candidate}[i]
			side.settings.Side, side.settings.Series, side.settings.Turn, side.settings.Turns = name, series, 2*turn-1+i, 2*f.repeat
			side.out = named(name, turn)
			say(fmt.Sprintf("%s, take %d of %d", name, turn, f.repeat))
			if err := side.one(ctx, say); err != nil {
				return err
			}
		}
		if f.until != nil {
			if done, err := r.enough(f.until, say); err != nil {
				return err
			} else if done {
				break
			}
		}
	}
	if f.out != "" {
		ext := filepath.Ext(f.out)
		stem := strings.TrimSuffix(f.out, ext)
		say(fmt.Sprintf("compare them with: entelon compare --baseline '%s-baseline-*%s' --candidate '%s-candidate-*%s'", stem, ext, stem, ext))
	}
	return nil
}
