package server

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"strings"
	"sync"

	"github.com/gin-gonic/gin"

	"entelon/codec/take"
	"entelon/core/callcounts"
	"entelon/core/calltree"
	"entelon/core/profile"
	"entelon/core/reading"
	"entelon/core/scope"
	"entelon/core/workload"
	"entelon/server/keep"
	"entelon/store"
)

// opened is a take in memory.
type opened struct {
	*view
	item  *keep.Item // by which it is kept
	names func() *scope.Names
	grown *growing // nil where the take is whole
}

func newOpened(t *profile.Take) *opened { return newOpenedAs(t, calltree.New(t.Profile)) }

// newOpenedAs is a take whose tree was made before.
func newOpenedAs(t *profile.Take, tr *calltree.Tree) *opened {
	o := &opened{view: newView(t, tr)}
	o.counts = t.Facts.Exact != nil
	o.names = sync.OnceValue(func() *scope.Names {
		return scope.NewNames(t.Profile, scope.About{Program: t.Settings.Program, Build: t.Settings.Build, Workload: workload.Of(&t.Settings, &t.Facts).Words}, tr.Weights())
	})
	o.prepare = sync.OnceFunc(func() {
		go func() {
			tr.Prepare()
			o.names()
		}()
	})
	return o
}

// view is one way of looking at a take's stacks.
type view struct {
	take    *profile.Take
	tree    *calltree.Tree
	reader  func() *reading.Reader // made when it is first asked for
	prepare func()                 // makes what comes next to the first picture
	counts  bool                   // calls were counted, and stand where they were made

	mu    sync.Mutex
	costs []scopedCost // the latest scopes that were asked for, newest first
}

func newView(take *profile.Take, t *calltree.Tree) *view {
	return &view{
		take: take, tree: t,
		reader:  sync.OnceValue(func() *reading.Reader { return reading.New(t) }),
		prepare: func() {},
	}
}

type scopedCost struct {
	measure int
	scope   scope.Scope
	cost    *calltree.Cost
	rows    func() []calltree.FunctionCost // added up when they are first asked for
	calls   func() *callcounts.Counts      // the same; nil where calls were not counted
}

// keptCosts is how many scopes of one take are kept.
const keptCosts = 8

// cost returns the costs of a measure in a scope.
func (o *view) cost(measure int, sc scope.Scope) scopedCost {
	k, _ := o.costFor(context.Background(), measure, sc) // which nobody cancels
	return k
}

// costFor is cost for somebody who may not wait any more when others, before him,
// have theirs.
func (o *view) costFor(ctx context.Context, measure int, sc scope.Scope) (scopedCost, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if err := ctx.Err(); err != nil {
		return scopedCost{}, err
	}
	for i, k := range o.costs {
		if k.measure == measure && k.scope.String() == sc.String() {
			copy(o.costs[1:i+1], o.costs[:i])
			o.costs[0] = k
			return k, nil
		}
	}
	c := o.tree.Cost(measure, sc)
	k := scopedCost{measure, sc, c, sync.OnceValue(func() []calltree.FunctionCost { return calltree.Functions(o.tree, c) }), sync.OnceValue(func() *callcounts.Counts { return o.callsIn(sc) })}
	o.costs = append([]scopedCost{k}, o.costs...)
	if len(o.costs) > keptCosts {
		o.costs = o.costs[:keptCosts]
	}
	return k, nil
}

// callsIn is how often functions were called in a scope; nil where calls were not counted.
func (o *view) callsIn(sc scope.Scope) *callcounts.Counts {
	calls, executions := callcounts.CallColumns(o.tree.Profile)
	if !o.counts || calls < 0 {
		return nil
	}
	var lines *calltree.Cost
	if executions >= 0 {
		lines = o.tree.Cost(executions, sc)
	}
	return callcounts.In(o.tree, o.tree.Cost(calls, sc), lines)
}

// held are the items of the memory that a request uses. They are let go when it
// is over.
type held struct {
	mu    sync.Mutex
	items []*keep.Item
}

const heldKey = "held"

func (h *held) add(x *keep.Item) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.items = append(h.items, x)
}

func (h *held) release() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, x := range h.items {
		x.Release()
	}
	h.items = nil
}

// holding returns what a request holds.
func holding(c *gin.Context) *held {
	if h, ok := c.Get(heldKey); ok {
		return h.(*held)
	}
	h := &held{}
	c.Set(heldKey, h)
	return h
}

// Keys of what is kept in memory begin with what it is.
const (
	keyTake    = "take "
	keyGrowing = "growing "
	keyShape   = "shape "
	keyCompare = "comparison "
	keyAnswer  = "answer "
)

// open finds a take by the key in the request's path and loads it.
func (s *Server) open(c *gin.Context, key string) (*opened, *store.Take, error) {
	if id, growing := strings.CutPrefix(key, jobPrefix); growing {
		return s.openGrowing(c, id)
	}
	row, err := s.takeRow(c, key)
	if err != nil {
		return nil, nil, err
	}
	o, err := s.load(c, row, s.keep.Get)
	return o, row, err
}

// load reads a take's file from the store, or finds it in memory.
func (s *Server) load(c *gin.Context, row *store.Take, get getter) (*opened, error) {
	x, err := s.openTake(c.Request.Context(), row, get)
	if err != nil {
		return nil, err
	}
	holding(c).add(x)
	return x.Value().(*opened), nil
}

// openTake reads a take's file from the store, or finds it in memory; it is to be released.
func (s *Server) openTake(ctx context.Context, row *store.Take, get getter) (*keep.Item, error) {
	return s.openItem(ctx, get, keyTake+row.Digest, s.expected(row), func(ctx context.Context) (*opened, error) {
		t, err := take.Read(bufio.NewReaderSize(whileWanted{ctx, s.store.File(ctx, row)}, piecewise), "take "+row.Key, take.Options{Limits: s.limits()})
		if err == nil {
			err = ctx.Err()
		}
		if err != nil {
			return nil, err
		}
		return newOpened(t), nil
	})
}

// opened keeps a take that was read when it came, so that who looks at it now need not
// have it read again.
func (s *Server) opened(row *store.Take, t *profile.Take, tr *calltree.Tree) {
	s.keep.Offer(keyTake+row.Digest, size(t, tr), func(self *keep.Item) any {
		o := newOpenedAs(t, tr)
		o.item = self
		return o
	})
}

// getter is a way to get something that is kept: to be read, or in passing.
type getter func(ctx context.Context, key string, expect int64, make keep.Make) (*keep.Item, error)

// openAs returns what is kept under a key, or has it opened and held.
func (s *Server) openAs(c *gin.Context, get getter, key string, expect int64, open func(context.Context) (*opened, error)) (*opened, error) {
	x, err := s.openItem(c.Request.Context(), get, key, expect, open)
	if err != nil {
		return nil, err
	}
	holding(c).add(x)
	return x.Value().(*opened), nil
}

// openItem returns what is kept under a key, or has it opened; it is to be released.
func (s *Server) openItem(ctx context.Context, get getter, key string, expect int64, open func(context.Context) (*opened, error)) (*keep.Item, error) {
	return get(ctx, key, expect, func(ctx context.Context, self *keep.Item) (any, int64, error) {
		o, err := open(ctx)
		if err != nil {
			return nil, 0, err
		}
		o.item = self
		return o, size(o.take, o.tree), nil
	})
}

// shaped returns a take in a shape. Its tree is built when it is first asked for,
// once, however many ask.
func (s *Server) shaped(c *gin.Context, o *opened, shape calltree.Shape) (*view, error) {
	if shape == (calltree.Shape{}) {
		return o.view, nil
	}
	key := fmt.Sprintf("%s%s %+v", keyShape, o.item.Key(), shape)
	x, err := s.keep.GetOver(c.Request.Context(), o.item, key, o.tree.Bytes()+keptCosts*o.tree.CostBytes(), func(context.Context, *keep.Item) (any, int64, error) {
		v := newView(o.take, o.tree.In(shape))
		return v, v.tree.Bytes() + keptCosts*v.costBytes(), nil
	})
	if err != nil {
		return nil, err
	}
	holding(c).add(x)
	return x.Value().(*view), nil
}

// expected is how much memory a take will need, as it did when it came, or as
// others of its length do.
func (s *Server) expected(row *store.Take) int64 {
	n := row.Memory
	if n == 0 {
		n = 100*row.Samples + 40*row.Size
	}
	return min(n, s.keep.Limit())
}

// limits bound what a take may unpack to: the half of what the server has for
// everything.
func (s *Server) limits() take.Limits { return take.Limits{Memory: s.keep.Limit() / 2} }

// whileWanted reads until nobody wants it any more.
type whileWanted struct {
	ctx context.Context
	r   io.Reader
}

func (w whileWanted) Read(b []byte) (int, error) {
	if err := w.ctx.Err(); err != nil {
		return 0, err
	}
	return w.r.Read(b)
}

const piecewise = 1 << 20

// costBytes is what one scope's costs hold with the functions' sums.
func (o *view) costBytes() int64 { return costBytes(o.take, o.tree) }

func costBytes(t *profile.Take, tr *calltree.Tree) int64 {
	n := tr.CostBytes() + int64(len(t.Profile.Functions))*48
	if t.Facts.Exact != nil { // calls and executions are added up beside it
		n *= 3
	}
	return n
}

// size estimates the memory that an opened take holds.
func size(t *profile.Take, tr *calltree.Tree) int64 {
	n := t.Profile.Bytes() + tr.Bytes() + keptCosts*costBytes(t, tr)
	for _, s := range t.Sources {
		n += int64(len(s.Text))
	}
	return n
}
