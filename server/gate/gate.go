// Package gate lets so many in at a time, and the others wait, each person's in a
// line of its own: who asks for much waits behind themselves and not others
// behind them.
//
// A gate's lock guards who is inside and who waits; nobody holds it while he waits.
package gate

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"
)

// Gate is such a gate. Its methods may be called by many goroutines.
type Gate struct {
	o       Options
	mu      sync.Mutex
	inside  int
	persons map[string]*person
	line    []*person // those who have somebody waiting, the next one first
	waiting int
}

// Options bound a gate.
type Options struct {
	Inside  int           // at a time
	Each    int           // of one person at a time
	Waiting int           // of one person
	Wait    time.Duration // at most
}

type person struct {
	name    string
	inside  int
	waiting []*waiter
}

type waiter struct {
	in chan struct{} // closed when it is let in
}

// Errors of Enter, other than its context's.
var (
	ErrTooMany = errors.New("too many requests of yours are waiting already")
	ErrLate    = errors.New("the server is busy with others' requests")
)

// New returns a gate.
func New(o Options) *Gate { return &Gate{o: o, persons: map[string]*person{}} }

// Load tells how many are inside and how many wait.
func (g *Gate) Load() (inside, waiting int) {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.inside, g.waiting
}

// Enter waits until a person may go in. leave must be called once.
func (g *Gate) Enter(ctx context.Context, name string) (leave func(), err error) {
	g.mu.Lock()
	p := g.persons[name]
	if p == nil {
		p = &person{name: name}
		g.persons[name] = p
	}
	leave = sync.OnceFunc(func() { g.leave(p) })
	if g.inside < g.o.Inside && p.inside < g.o.Each && len(p.waiting) == 0 {
		g.inside++
		p.inside++
		g.mu.Unlock()
		return leave, nil
	}
	if len(p.waiting) >= g.o.Waiting {
		g.mu.Unlock()
		return nil, ErrTooMany
	}
	w := &waiter{make(chan struct{})}
	if len(p.waiting) == 0 {
		g.line = append(g.line, p)
	}
	p.waiting = append(p.waiting, w)
	g.waiting++
	g.mu.Unlock()

	late := time.NewTimer(g.o.Wait)
	defer late.Stop()
	select {
	case <-w.in:
		return leave, nil
	case <-ctx.Done():
		err = ctx.Err()
	case <-late.C:
		err = ErrLate
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if i := slices.Index(p.waiting, w); i >= 0 {
		p.waiting = slices.Delete(p.waiting, i, i+1)
		g.waiting--
		if len(p.waiting) == 0 {
			g.line = slices.DeleteFunc(g.line, func(q *person) bool { return q == p })
		}
		g.forget(p)
		return nil, err
	}
	// It was let in at that very moment.
	g.out(p)
	return nil, err
}

func (g *Gate) leave(p *person) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.out(p)
}

// out notes that somebody has left, and lets in whose turn it is.
func (g *Gate) out(p *person) {
	g.inside--
	p.inside--
	for g.inside < g.o.Inside {
		i := slices.IndexFunc(g.line, func(q *person) bool { return q.inside < g.o.Each })
		if i < 0 {
			break
		}
		q := g.line[i]
		g.line = slices.Delete(g.line, i, i+1)
		w := q.waiting[0]
		q.waiting = q.waiting[1:]
		if len(q.waiting) > 0 {
			g.line = append(g.line, q) // behind all others
		}
		g.inside++
		q.inside++
		g.waiting--
		close(w.in)
	}
	g.forget(p)
}

func (g *Gate) forget(p *person) {
	if p.inside == 0 && len(p.waiting) == 0 {
		delete(g.persons, p.name)
	}
}
