package main

import (
	"errors"
	"fmt"
	"io"
	"os"
	"sync"
)

// repeatedInput gives several runs of a command the same input. A file is read again from where
// it stood; what comes through a pipe reaches the first run as it comes, and is kept in a file for
// the next one; a terminal is asked again.
type repeatedInput struct {
	from *os.File
	at   int64    // of a file: where it stood
	kept *os.File // of a pipe: what has come; nil for all else
	file bool

	mu   sync.Mutex
	over bool     // the first run has ended, and what comes later belongs to no run
	pipe *os.File // from which the first run reads, and to which it is written
	feed *os.File
	bad  error
}

// sameInput prepares an input; once says that there will be one run.
func sameInput(from *os.File, once bool) (*repeatedInput, error) {
	x := &repeatedInput{from: from}
	st, err := from.Stat()
	if err != nil || once || st.Mode()&os.ModeCharDevice != 0 {
		return x, nil // there is none, or it is a terminal
	}
	if x.file = st.Mode().IsRegular(); x.file {
		x.at, err = from.Seek(0, io.SeekCurrent)
		return x, err
	}
	if x.kept, err = os.CreateTemp("", "entelon-input-*"); err != nil {
		return nil, fmt.Errorf("keeping the input for the second run: %w", err)
	}
	if err = os.Remove(x.kept.Name()); err == nil {
		x.pipe, x.feed, err = os.Pipe()
	}
	if err != nil {
		return nil, fmt.Errorf("keeping the input for the second run: %w", errors.Join(err, x.kept.Close()))
	}
	go x.copy()
	return x, nil
}

// copy hands on what comes, until the first run has ended. It ends with the input, or with the
// process.
func (x *repeatedInput) copy() {
	b := make([]byte, 64<<10)
	for {
		n, err := x.from.Read(b)
		x.mu.Lock()
		if x.over {
			x.mu.Unlock()
			return
		}
		if _, failed := x.kept.Write(b[:n]); failed != nil && x.bad == nil {
			x.bad = fmt.Errorf("keeping the input for the second run: %w", failed)
		}
		x.mu.Unlock()
		if n > 0 {
			if _, failed := x.feed.Write(b[:n]); failed != nil {
				return // the command does not read any more
			}
		}
		if err != nil {
			x.feed.Close()
			return
		}
	}
}

// Next is what the next run reads.
func (x *repeatedInput) Next() (*os.File, error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	switch {
	case x.file:
		_, err := x.from.Seek(x.at, io.SeekStart)
		return x.from, err
	case x.kept == nil:
		return x.from, nil
	case !x.over:
		return x.pipe, nil
	case x.bad != nil:
		return nil, x.bad
	}
	_, err := x.kept.Seek(0, io.SeekStart)
	return x.kept, err
}

// Ended says that a run has ended.
func (x *repeatedInput) Ended() {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.kept != nil && !x.over {
		x.over = true
		x.pipe.Close() // so that who still writes to it does not wait
	}
}

// close lets go of what was kept.
func (x *repeatedInput) close() {
	if x.kept != nil {
		x.kept.Close()
	}
}
