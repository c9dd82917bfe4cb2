package request

import (
	"sync"
	"time"
)

// silence says when something that goes on may be said again.
type silence struct {
	mu   sync.Mutex
	last time.Time
}

// over reports whether it was last said longer ago, and notes that it is said now.
func (s *silence) over(after time.Duration) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if time.Since(s.last) < after {
		return false
	}
	s.last = time.Now()
	return true
}
