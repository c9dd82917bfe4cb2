package bpf

import (
	"errors"
	"fmt"
	"math"
	"sync/atomic"

	"github.com/cilium/ebpf"
	"github.com/cilium/ebpf/btf"
)

// Counter is the kernel program that counts calls, with its maps. It runs at
// the probe, reads from where the function was called, and adds one there; no
// record is written, so none can be lost.
type Counter struct {
	maps struct {
		Control *ebpf.Map `ebpf:"control"` // one CountControl
		Calls   *ebpf.Map `ebpf:"calls"`   // by CallKey
	}
	types    *btf.Spec
	programs []*ebpf.Program
}

// CallKey is where a function was called from (struct call_key).
type CallKey = countCallKey

// CountControl is what the program and the collector tell each other (struct
// count_control).
type CountControl = countCountControl

// NewCounter makes the maps in which calls are counted.
func NewCounter(types *btf.Spec) (*Counter, error) {
	c := &Counter{types: types}
	spec, err := loadCount()
	if err != nil {
		return nil, err
	}
	return c, spec.LoadAndAssign(&c.maps, nil)
}

// Program returns the program of the probe with a number.
func (c *Counter) Program(number int) (*ebpf.Program, error) {
	spec, err := loadCount()
	if err != nil {
		return nil, err
	}
	if err := spec.Variables[countVarFunctionNumber].Set(uint32(number)); err != nil {
		return nil, err
	}
	p, err := loadProgram(spec, countProgCountCalls, c.types, map[string]*ebpf.Map{countMapControl: c.maps.Control, countMapCalls: c.maps.Calls})
	if err != nil {
		return nil, fmt.Errorf("loading the program that counts: %w", err)
	}
	c.programs = append(c.programs, p)
	return p, nil
}

// State reads how far it is.
func (c *Counter) State() (s CountControl, err error) {
	err = c.maps.Control.Lookup(uint32(0), &s)
	return s, err
}

// Begin lets calls be counted, up to a limit; 0 is none.
func (c *Counter) Begin(limit int64) error {
	if limit <= 0 {
		limit = math.MaxInt64
	}
	return c.maps.Control.Put(uint32(0), CountControl{Limit: limit})
}

// End stops the counting and returns the state at that moment.
func (c *Counter) End() (s CountControl, err error) {
	if s, err = c.State(); err != nil {
		return s, err
	}
	stopped := s
	stopped.Limit = 0
	return s, c.maps.Control.Put(uint32(0), stopped)
}

// Read returns all counts.
func (c *Counter) Read() (map[CallKey]int64, error) {
	out := map[CallKey]int64{}
	var k CallKey
	var v uint64
	it := c.maps.Calls.Iterate()
	for it.Next(&k, &v) {
		out[k] = int64(v)
	}
	return out, it.Err()
}

// Close removes its programs and maps.
func (c *Counter) Close() error {
	var errs []error
	for _, p := range c.programs {
		errs = append(errs, p.Close())
	}
	return errors.Join(append(errs, closeMaps(c.maps.Control, c.maps.Calls))...)
}

// ProbedLeaf and ProbedFrame are called to find out what one count costs. The
// second has a frame, so that its probe is at the instruction that saves a
// register; the first has none.
//
//go:noinline
func ProbedLeaf(n int64) int64 { return atomic.AddInt64(&probedCalls, n) }

//go:noinline
func ProbedFrame(n int64) int64 { return ProbedLeaf(n) + probedCalls }

var probedCalls int64
