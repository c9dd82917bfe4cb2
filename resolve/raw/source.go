package raw

// Source gives raw records, whoever makes them. One goroutine asks it for them; Stop may
// be called by another.
type Source interface {
	// Next waits for what comes next and hands it on in the order of time; it returns
	// false when nothing more will come. A visitor must not keep what it is given.
	Next(Visitor) bool
	// Stop ends the collection: Next then hands on what is left, and no more.
	Stop() error
	// Err is what went wrong so far, with what of it was lost.
	Err() error
	// Dropped is how many bytes came faster than they were asked for, and are lost.
	Dropped() int64
	// Close lets go of everything, when Next has returned false or was never called.
	Close() error
}

// Visitor takes raw records.
type Visitor interface {
	// Early is given mappings and code objects as they come, before their turn.
	Early(*Record)
	// Visit is given all records but code objects, in the order of time.
	Visit(*Record)
}
