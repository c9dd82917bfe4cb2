package main

import (
	"fmt"
	"time"

	"entelon/core/profile"
	"entelon/core/until"
)

// row follows the takes that are made until enough is known.
type row struct {
	so    until.SoFar
	err   error
	began time.Time
}

// readUntil reads when enough was made, and sets at most how many takes there are.
func (f *takeFlags) readUntil(say func(string)) error {
	if f.settings.Until == "" {
		return nil
	}
	u, err := until.Parse(f.settings.Until)
	if err != nil {
		return err
	}
	if f.repeat == 1 {
		f.repeat = 0
	}
	before := f.settings.ForNS
	if err := u.Fit(&f.settings, f.against != "", f.repeat); err != nil {
		return err
	}
	if f.settings.ForNS != before {
		say(fmt.Sprintf("each take lasts %v; set another length with --for", time.Duration(f.settings.ForNS)))
	}
	f.repeat, f.settings.Until, f.until = u.Most, u.String(), &u
	return nil
}

// add returns what takes in each take that was made, on a side.
func (r *row) add(u *until.Rule, side int) func(*profile.Take) {
	r.began = time.Now()
	return func(t *profile.Take) {
		if err := r.so.Add(u, side, t); err != nil {
			r.err = err
		}
	}
}

// enough says how far the row is, and whether that is enough.
func (r *row) enough(u *until.Rule, say func(string)) (done bool, err error) {
	if r.err != nil {
		return true, r.err
	}
	said, err := r.so.Say(u, time.Since(r.began))
	if err != nil {
		return true, fmt.Errorf("--until: %w", err)
	}
	if said.Text != "" {
		say(said.Text)
	}
	if !said.Done && len(r.so.Of[0].Value) >= u.Most {
		say("--repeat allows more takes")
	}
	return said.Done, nil
}
