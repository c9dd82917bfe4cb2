package pairing

import "entelon/core/profile"

// Sink takes what was collected. Append is given the same growing profile
// each time; an error from either ends the collection.
type Sink interface {
	Begin(profile.Settings, profile.Machine) error
	Append(*profile.Profile) error
	Source(profile.Source) error // where Settings.WithSource asks for it, before the last Facts
	Facts(profile.Facts) error
}
