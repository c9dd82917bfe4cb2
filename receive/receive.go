// Package receive takes in the spans that programs tell of themselves while a take is made, by
// OpenTelemetry's protocol: over HTTP as protobuf or JSON, and over gRPC, all at one address.
//
// Source: https://opentelemetry.io/docs/specs/otlp.
package receive

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log"
	"net"
	"net/http"
	"slices"
	"sync"
	"time"
	"unsafe"

	"golang.org/x/net/netutil"
	"google.golang.org/grpc"

	"entelon/core/spans"
)

// Bounds of what is received.
const (
	MaxRequest  = 16 << 20  // bytes of a request, once it is unpacked
	MaxHeld     = 256 << 20 // bytes of spans that are held
	maxAtOnce   = 4         // requests that are read at a time; others wait
	maxSenders  = 64        // connections
	closeWithin = 2 * time.Second
)

// Errors about what is sent.
var (
	errTooLarge = fmt.Errorf("the request is larger than %d MB", MaxRequest>>20)
	errNoRoom   = errors.New("there is no room for more spans")
)

// Received is what has arrived.
type Received struct {
	Spans    []spans.Told
	Requests int
	// What is not among the spans:
	NoRoom int   // spans for which there was no room
	LetGo  int   // older spans that made room for others
	Bad    int   // requests that could not be read
	Why    error // the last of those
}

// A Receiver listens until it is closed. Its methods may be called by several goroutines.
type Receiver struct {
	listener net.Listener
	http     *http.Server
	grpc     *grpc.Server
	reading  chan struct{}
	served   chan error
	now      func() time.Time
	room     int64
	lasting  bool // where there is no more room, the older half goes

	mu   sync.Mutex
	held int64 // bytes
	got  Received
}

// Listen begins to receive at an address such as 127.0.0.1:4318; port 0 is any that is free. One that is
// lasting outlives takes: where there is no more room, the older half of the spans goes.
func Listen(address string, lasting bool) (*Receiver, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, err
	}
	r := &Receiver{listener: l, reading: make(chan struct{}, maxAtOnce), served: make(chan error, 1), now: time.Now, room: MaxHeld, lasting: lasting}
	r.grpc = newGRPC(r)
	var both http.Protocols
	both.SetHTTP1(true)
	both.SetUnencryptedHTTP2(true)
	r.http = &http.Server{
		Handler: r, Protocols: &both, ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 30 * time.Second, IdleTimeout: time.Minute,
		MaxHeaderBytes: 16 << 10, ErrorLog: log.New(quiet{}, "", 0),
		HTTP2: &http.HTTP2Config{MaxConcurrentStreams: maxAtOnce},
	}
	go func() { r.served <- r.http.Serve(netutil.LimitListener(l, maxSenders)) }()
	return r, nil
}

// quiet is where the server's log goes: what a stranger sends is counted, and not printed.
type quiet struct{}

func (quiet) Write(b []byte) (int, error) { return len(b), nil }

// Address is where it listens.
func (r *Receiver) Address() string { return r.listener.Addr().String() }

// Got returns what has arrived since a time, and what of all was lost.
func (r *Receiver) Got(since time.Time) Received {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := r.counted()
	first, _ := slices.BinarySearchFunc(r.got.Spans, since.UnixNano(), func(s spans.Told, at int64) int { return cmp.Compare(s.Arrived, at) })
	out.Spans = slices.Clone(r.got.Spans[first:])
	return out
}

// counted is what has arrived without the spans, which go on changing.
func (r *Receiver) counted() Received {
	out := r.got
	out.Spans = nil
	return out
}

// letGo forgets the older half of the spans, in favour of what arrives now.
func (r *Receiver) letGo() {
	old := (len(r.got.Spans) + 1) / 2
	for i := range old {
		r.held -= size(&r.got.Spans[i])
	}
	r.got.Spans = slices.Clone(r.got.Spans[old:])
	r.got.LetGo += old
}

// Close ends it, once what is on its way has been read, for which it waits two seconds at most.
func (r *Receiver) Close() error {
	ctx, end := context.WithTimeout(context.Background(), closeWithin)
	defer end()
	err := r.http.Shutdown(ctx)
	if errors.Is(err, context.DeadlineExceeded) {
		err = r.http.Close()
	}
	r.grpc.Stop()
	if served := <-r.served; !errors.Is(served, http.ErrServerClosed) {
		err = errors.Join(err, served)
	}
	return err
}

// keep adds what a request had, as far as there is room, and returns how many spans there was none for.
func (r *Receiver) keep(told []spans.Told) (left int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.got.Requests++
	for i := range told {
		n := size(&told[i])
		if r.lasting && len(r.got.Spans) > 0 && (r.held+n > r.room || len(r.got.Spans) >= spans.MaxTold) {
			r.letGo()
		}
		// In the order of their arrival, whichever of two that came at once was read first.
		if last := len(r.got.Spans) - 1; last >= 0 {
			told[i].Arrived = max(told[i].Arrived, r.got.Spans[last].Arrived)
		}
		if r.held+n > r.room || len(r.got.Spans) >= spans.MaxTold {
			left = len(told) - i
			r.got.NoRoom += left
			return left
		}
		r.held += n
		r.got.Spans = append(r.got.Spans, told[i])
	}
	return 0
}

// size is about how many bytes a span takes. A slice that grows has up to twice the room that it needs.
func size(s *spans.Told) int64 {
	n := 2*int(unsafe.Sizeof(*s)) + len(s.Name) + len(s.Service) + len(s.Host) + len(s.ID) + len(s.Parent)
	for _, l := range s.Links {
		n += len(l) + int(unsafe.Sizeof(l))
	}
	return int64(n)
}

// refuse counts a request that could not be read.
func (r *Receiver) refuse(err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.got.Requests++
	r.got.Bad++
	r.got.Why = err
}
