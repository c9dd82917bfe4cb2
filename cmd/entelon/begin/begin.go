// Package begin keeps the beginning of this program short. Packages are initialised in
// the order of their import paths as far as their imports allow, so this one, which
// needs nothing, comes before those of other modules: they fill some megabytes of
// tables, and the heap is cleared twice for that, which takes a third of the time
// until main begins.
//
// It is done before any goroutine is there.
package begin

import "runtime/debug"

// patient lets the heap grow to 16 MB before it is first cleared.
const patient = 400

func init() { before = debug.SetGCPercent(patient) }

var before int

// Done sets what init changed back to what the user has, once everything is initialised.
func Done() { debug.SetGCPercent(before) }
