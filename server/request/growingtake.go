package request

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"

	"github.com/gin-gonic/gin"

	"entelon/codec/take"
	"entelon/core/profile"
	"entelon/store"
	"entelon/store/jobs"
)

// growing follows a take that is being made. It goes from what was opened of the take to
// what is opened of it when it has grown, so that nothing is read twice.
type growing struct {
	mu       sync.Mutex
	follower *take.Follower
	broken   bool
}

// openGrowing reads a take that is being made, as far as it has come.
func (s *Server) openGrowing(c *gin.Context, id string) (*Opened, *store.Take, error) {
	j, err := s.Store.Job(c.Request.Context(), id)
	if err != nil {
		return nil, nil, err
	}
	row := &store.Take{Program: store.Program{Name: j.Settings.Program}, Build: store.Build{Name: j.Settings.Build}, Key: JobPrefix + id, DurationNS: max(1, j.ElapsedNS), Settings: j.Settings}
	if j.State == jobs.JobDone || j.State == jobs.JobFailed {
		return s.Open(c, j.TakeKey)
	}
	if j.Size == 0 {
		return nil, nil, unavailable{errors.New("nothing has arrived yet")}
	}
	prefix := keyGrowing + id + " "
	key := fmt.Sprintf("%s%d", prefix, j.Size)
	g := &growing{}
	before := s.Keep.Find(func(old string) bool { return strings.HasPrefix(old, prefix) })
	if before != nil {
		g = before.Value().(*Opened).grown
		before.Release()
	}
	// What has come before is of no use any more.
	s.Keep.Forget(func(old string) bool { return strings.Contains(old, prefix) && !strings.Contains(old, key) })
	o, err := s.openAs(c, s.Keep.Get, key, min(s.Keep.Limit()/2, 100*j.Samples+40*j.Size), func(ctx context.Context) (*Opened, error) {
		t, err := g.until(ctx, s, id, j.Size)
		if err != nil {
			return nil, err
		}
		o := newOpened(t)
		o.grown = g
		return o, nil
	})
	return o, row, err
}

// until reads on to a size.
func (g *growing) until(ctx context.Context, s *Server, id string, size int64) (*profile.Take, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.follower == nil || g.broken {
		g.follower, g.broken = take.NewFollower("the growing take", take.Options{Salvage: true, Limits: s.Limits()}), false
	}
	if g.follower.Offset() < size {
		pieces := s.Store.GrownFile(ctx, id, g.follower.Offset())
		defer pieces.Close()
		if err := g.follower.Feed(bufio.NewReaderSize(pieces, piecewise)); err != nil {
			var broken *take.Error
			g.broken = errors.As(err, &broken) // it is read anew the next time
			return nil, err
		}
	}
	return g.follower.Take()
}

// JobPrefix begins the key of a take that is being made; its job's number follows.
const JobPrefix = "job-"
