package api

import "entelon/core/profile"

// JobIn is a take to make: with settings, or as another take was made. What a
// take says of itself is not an order: one that no job on this server's record
// made is made again only by settings that somebody has seen and sends along.
type JobIn struct {
	Collector string            `json:"collector"` // "": the only one
	Settings  *profile.Settings `json:"settings,omitempty"`
	Again     string            `json:"again"`  // the key of a take
	Repeat    int               `json:"repeat"` // make as many takes in a row; 0 is one
	// Against is the command of a baseline that is interleaved with the settings'
	// own: Repeat takes of each.
	Against []string `json:"against,omitempty"`
	// Until ends the row when enough is known: "sure 2%", "slur.Route sure 5%", or with a
	// baseline "decided 3%"; Repeat is then how many takes, or pairs, are made at most,
	// and 0 is as many as are usual.
	Until string `json:"until,omitempty"`
}

// JobOut is a take that is being made, or was.
type JobOut struct {
	ID        string           `json:"id"`
	State     string           `json:"state"` // waiting, running, stopping, done or failed
	Collector string           `json:"collector"`
	Settings  profile.Settings `json:"settings"`
	Who       string           `json:"who"`
	CreatedAt string           `json:"created_at"`
	ElapsedNS int64            `json:"elapsed_ns"`
	Samples   int64            `json:"samples"`
	Lost      int64            `json:"lost"`
	Size      int64            `json:"size"` // bytes that have come
	Take      string           `json:"take"` // its key, once it is kept
	Error     string           `json:"error"`
	Remedy    string           `json:"remedy"`
	Broken    string           `json:"broken"`   // what of it cannot be shown, "" for nothing
	Silent    bool             `json:"silent"`   // nothing was heard of its collector for a while
	AgainOf   string           `json:"again_of"` // the take whose settings these are, "" for none
	Digest    string           `json:"digest"`   // SHA-256 of the file that was kept, hexadecimal
	Said      string           `json:"said"`     // how far a row is that ends when enough is known, "" while nothing is known
	RowOver   bool             `json:"row_over"` // no other take of such a row follows
}

// JobsOut are takes that are being made, or were, the newest first.
type JobsOut struct {
	Jobs []JobOut `json:"jobs"`
}
