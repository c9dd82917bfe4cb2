package request

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"runtime"
	"time"

	"github.com/gin-gonic/gin"

	"entelon/server/gate"
)

// load is how much work a route is.
type load int

const (
	light  load = iota // a question to the database
	Heavy              // opens takes, or computes
	Bulky              // takes in a file
	Asleep             // waits for something, most of the time
	door               // finding out who asks
	Shared             // may be answered already; if not, what works it out is heavy
)

// gates bound how many requests of each kind are worked on at a time.
type gates map[load]*gate.Gate

// NewGates lets through what a server of this machine can do at a time.
func NewGates() gates {
	n := runtime.NumCPU()
	return gates{
		light: gate.New(gate.Options{Inside: 64, Each: 32, Waiting: 512, Wait: 30 * time.Second}),
		// Who only waits for what another one works out keeps nobody from it.
		Shared: gate.New(gate.Options{Inside: 1024, Each: 256, Waiting: 512, Wait: time.Minute}),
		Heavy:  gate.New(gate.Options{Inside: 2 * n, Each: 2 * n, Waiting: 512, Wait: time.Minute}),
		// Whoever makes requests without being anybody waits behind themselves.
		door:  gate.New(gate.Options{Inside: 64, Each: 24, Waiting: 1024, Wait: 30 * time.Second}),
		Bulky: gate.New(gate.Options{Inside: 32, Each: 16, Waiting: 512, Wait: 15 * time.Minute}),
	}
}

// turn lets a request through to its work when it is its turn. leave is nil where
// it was answered.
func (s *Server) turn(c *gin.Context, l load) (leave func()) {
	g := s.Gates[l]
	if g == nil {
		return func() {}
	}
	name := s.asker(c)
	leave, err := g.Enter(c.Request.Context(), name)
	if err != nil {
		s.Fail(c, err)
	}
	return leave
}

// asker is in whose line a request waits: a person's, or an address's.
func (s *Server) asker(c *gin.Context) string {
	if v := Who(c); v != nil {
		return v.name()
	}
	return "from " + SignInRoutes{s}.client(c)
}

// How long a client may take to send and to receive, where it sends or receives
// nothing, and how slow it may be on the whole.
const (
	silentFor   = 30 * time.Second // between two pieces of a large one
	minASecond  = 4 << 10          // bytes, on average, after that
	answerTaken = 2 * time.Minute  // an answer, once it is there
)

// paced reads a body that must come at some speed.
type paced struct {
	io.ReadCloser
	control *http.ResponseController
	began   time.Time // of reading
	n       int64
}

// errSlow is a body that comes too slowly.
var errSlow = fmt.Errorf("it arrives at less than %d bytes a second", minASecond)

func (p *paced) Read(b []byte) (int, error) {
	if err := p.control.SetReadDeadline(time.Now().Add(silentFor)); err != nil {
		return 0, err
	}
	if p.began.IsZero() { // the time for which it was us who made it wait does not count
		p.began = time.Now()
	}
	n, err := p.ReadCloser.Read(b)
	p.n += int64(n)
	took := time.Since(p.began)
	switch {
	case errors.Is(err, os.ErrDeadlineExceeded), err == nil && took > silentFor && float64(p.n) < minASecond*took.Seconds():
		return n, errSlow
	case err != nil: // its end, most of all: the connection may be quiet from here on
		_ = p.control.SetReadDeadline(time.Time{})
	}
	return n, err
}

// pace has a request's body come in time, and its answer be taken in time.
func pace(c *gin.Context, l load) {
	control := http.NewResponseController(c.Writer)
	if l != Asleep && l != Bulky {
		_ = control.SetWriteDeadline(time.Now().Add(answerTaken + time.Minute)) // a connection without deadlines is a test's
	} else {
		_ = control.SetWriteDeadline(time.Time{})
	}
	if c.Request.ContentLength == 0 || c.Request.Body == nil || c.Request.Body == http.NoBody {
		return
	}
	c.Request.Body = &paced{ReadCloser: c.Request.Body, control: control}
}

// Moving writes a long file, of which each piece must be taken in time.
func Moving(w gin.ResponseWriter) io.Writer { return moving{w, http.NewResponseController(w)} }

type moving struct {
	gin.ResponseWriter
	control *http.ResponseController
}

func (m moving) Write(b []byte) (int, error) {
	_ = m.control.SetWriteDeadline(time.Now().Add(silentFor)) // as above
	return m.ResponseWriter.Write(b)
}
