package faults

import (
	"io"
	"math/rand/v2"
	"net"
	"sync"
	"sync/atomic"
	"time"
)

// proxy is the network between a collector and its server. It can stand still,
// delay, break off in the middle, and deliver what was sent a second time.
type proxy struct {
	l      net.Listener
	to     string
	delay  atomic.Int64 // nanoseconds before each piece
	stands atomic.Bool  // nothing gets through, and nobody is told
	repeat atomic.Bool  // requests come twice
	mu     sync.Mutex
	open   map[net.Conn]bool
}

func newProxy(address, to string) (*proxy, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, err
	}
	p := &proxy{l: l, to: to, open: map[net.Conn]bool{}}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go p.carry(c)
		}
	}()
	return p, nil
}

// cut breaks all connections off.
func (p *proxy) cut() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for c := range p.open {
		c.Close()
	}
}

func (p *proxy) carry(from net.Conn) {
	defer from.Close()
	to, err := net.Dial("tcp", p.to)
	if err != nil {
		return
	}
	defer to.Close()
	p.mu.Lock()
	p.open[from], p.open[to] = true, true
	p.mu.Unlock()
	defer func() {
		p.mu.Lock()
		delete(p.open, from)
		delete(p.open, to)
		p.mu.Unlock()
	}()
	done := make(chan struct{}, 2)
	go func() { p.pump(to, from, true); done <- struct{}{} }()
	go func() { p.pump(from, to, false); done <- struct{}{} }()
	<-done
}

func (p *proxy) pump(to, from net.Conn, asks bool) {
	b := make([]byte, 64<<10)
	for {
		n, err := from.Read(b)
		for p.stands.Load() {
			time.Sleep(20 * time.Millisecond)
		}
		if d := p.delay.Load(); d > 0 {
			time.Sleep(time.Duration(rand.Int64N(d)))
		}
		if n > 0 {
			if _, err := to.Write(b[:n]); err != nil {
				return
			}
			if asks && p.repeat.Load() {
				go p.again(append([]byte(nil), b[:n]...))
			}
		}
		if err != nil {
			return
		}
	}
}

// again sends what was sent before on a connection of its own; nobody reads the
// answer.
func (p *proxy) again(b []byte) {
	c, err := net.Dial("tcp", p.to)
	if err != nil {
		return
	}
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(2 * time.Second))
	if _, err := c.Write(b); err == nil {
		_, _ = io.Copy(io.Discard, c) // until the server is tired of it
	}
}
