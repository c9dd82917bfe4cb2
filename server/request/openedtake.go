package request

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

// Opened is a take in memory.
type Opened struct {
	*View
	item  *keep.Item // by which it is kept
	Names func() *scope.Names
	grown *growing // nil where the take is whole
}

func newOpened(t *profile.Take) *Opened { return newOpenedAs(t, calltree.New(t.Profile)) }

// newOpenedAs is a take whose tree was made before.
func newOpenedAs(t *profile.Take, tr *calltree.Tree) *Opened {
	o := &Opened{View: newView(t, tr)}
	o.counts = t.Facts.Exact != nil
	o.Names = sync.OnceValue(func() *scope.Names {
		return scope.NewNames(t.Profile, scope.About{Program: t.Settings.Program, Build: t.Settings.Build, Workload: workload.Of(&t.Settings, &t.Facts).Words}, tr.Weights())
	})
	o.Prepare = sync.OnceFunc(func() {
		go func() {
			tr.Prepare()
			o.Names()
		}()
	})
	return o
}

// View is one way of looking at a take's stacks.
type View struct {
	Take    *profile.Take
	Tree    *calltree.Tree
	Reader  func() *reading.Reader // made when it is first asked for
	Prepare func()                 // makes what comes next to the first picture
	counts  bool                   // calls were counted, and stand where they were made

	mu    sync.Mutex
	Costs []ScopedCost // the latest scopes that were asked for, newest first
}

func newView(take *profile.Take, t *calltree.Tree) *View {
	return &View{
		Take: take, Tree: t,
		Reader:  sync.OnceValue(func() *reading.Reader { return reading.New(t) }),
		Prepare: func() {},
	}
}

// ScopedCost is what the samples in a scope cost in one measure.
type ScopedCost struct {
	Measure int
	Scope   scope.Scope
	Cost    *calltree.Cost
	Rows    func() []calltree.FunctionCost // added up when they are first asked for
	Calls   func() *callcounts.Counts      // the same; nil where calls were not counted
}

// KeptCosts is how many scopes of one take are kept.
const KeptCosts = 8

// Cost returns the costs of a measure in a scope.
func (o *View) Cost(measure int, sc scope.Scope) ScopedCost {
	k, _ := o.CostFor(context.Background(), measure, sc) // which nobody cancels
	return k
}

// CostFor is cost for somebody who may not wait any more when others, before him,
// have theirs.
func (o *View) CostFor(ctx context.Context, measure int, sc scope.Scope) (ScopedCost, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if err := ctx.Err(); err != nil {
		return ScopedCost{}, err
	}
	for i, k := range o.Costs {
		if k.Measure == measure && k.Scope.String() == sc.String() {
			copy(o.Costs[1:i+1], o.Costs[:i])
			o.Costs[0] = k
			return k, nil
		}
	}
	c := o.Tree.Cost(measure, sc)
	k := ScopedCost{measure, sc, c, sync.OnceValue(func() []calltree.FunctionCost { return calltree.Functions(o.Tree, c) }), sync.OnceValue(func() *callcounts.Counts { return o.callsIn(sc) })}
	o.Costs = append([]ScopedCost{k}, o.Costs...)
	if len(o.Costs) > KeptCosts {
		o.Costs = o.Costs[:KeptCosts]
	}
	return k, nil
}

// callsIn is how often functions were called in a scope; nil where calls were not counted.
func (o *View) callsIn(sc scope.Scope) *callcounts.Counts {
	calls, executions := callcounts.CallColumns(o.Tree.Profile)
	if !o.counts || calls < 0 {
		return nil
	}
	var lines *calltree.Cost
	if executions >= 0 {
		lines = o.Tree.Cost(executions, sc)
	}
	return callcounts.In(o.Tree, o.Tree.Cost(calls, sc), lines)
}

// Held are the items of the memory that a request uses. They are let go when it
// is over.
type Held struct {
	mu    sync.Mutex
	Items []*keep.Item
}

// HeldKey is where a request has its Held.
const HeldKey = "held"

// Add holds on to an item.
func (h *Held) Add(x *keep.Item) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.Items = append(h.Items, x)
}

// Release lets go of all items.
func (h *Held) Release() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, x := range h.Items {
		x.Release()
	}
	h.Items = nil
}

// Holding returns what a request holds.
func Holding(c *gin.Context) *Held {
	if h, ok := c.Get(HeldKey); ok {
		return h.(*Held)
	}
	h := &Held{}
	c.Set(HeldKey, h)
	return h
}

// Keys of what is kept in memory begin with what it is.
const (
	keyTake    = "take "
	keyGrowing = "growing "
	keyShape   = "shape "
	keyLanes   = "lanes "
	keySpans   = "spans "
	KeyCompare = "comparison "
	keyAnswer  = "answer "
)

// Open finds a take by the key in the request's path and loads it.
func (s *Server) Open(c *gin.Context, key string) (*Opened, *store.Take, error) {
	if id, growing := strings.CutPrefix(key, JobPrefix); growing {
		return s.openGrowing(c, id)
	}
	row, err := s.takeRow(c, key)
	if err != nil {
		return nil, nil, err
	}
	o, err := s.Load(c, row, s.Keep.Get)
	return o, row, err
}

// Load reads a take's file from the store, or finds it in memory.
func (s *Server) Load(c *gin.Context, row *store.Take, get getter) (*Opened, error) {
	x, err := s.OpenTake(c.Request.Context(), row, get)
	if err != nil {
		return nil, err
	}
	Holding(c).Add(x)
	return x.Value().(*Opened), nil
}

// OpenTake reads a take's file from the store, or finds it in memory; it is to be released.
func (s *Server) OpenTake(ctx context.Context, row *store.Take, get getter) (*keep.Item, error) {
	return s.openItem(ctx, get, keyTake+row.Digest, s.expected(row), func(ctx context.Context) (*Opened, error) {
		t, err := take.Read(bufio.NewReaderSize(whileWanted{ctx, s.Store.File(ctx, row)}, piecewise), "take "+row.Key, take.Options{Limits: s.Limits()})
		if err == nil {
			err = ctx.Err()
		}
		if err != nil {
			return nil, err
		}
		return newOpened(t), nil
	})
}

// Opened keeps a take that was read when it came, so that who looks at it now need not
// have it read again.
func (s *Server) Opened(row *store.Take, t *profile.Take, tr *calltree.Tree) {
	s.Keep.Offer(keyTake+row.Digest, size(t, tr), func(self *keep.Item) any {
		o := newOpenedAs(t, tr)
		o.item = self
		return o
	})
}

// getter is a way to get something that is kept: to be read, or in passing.
type getter func(ctx context.Context, key string, expect int64, make keep.Make) (*keep.Item, error)

// openAs returns what is kept under a key, or has it opened and held.
func (s *Server) openAs(c *gin.Context, get getter, key string, expect int64, open func(context.Context) (*Opened, error)) (*Opened, error) {
	x, err := s.openItem(c.Request.Context(), get, key, expect, open)
	if err != nil {
		return nil, err
	}
	Holding(c).Add(x)
	return x.Value().(*Opened), nil
}

// openItem returns what is kept under a key, or has it opened; it is to be released.
func (s *Server) openItem(ctx context.Context, get getter, key string, expect int64, open func(context.Context) (*Opened, error)) (*keep.Item, error) {
	return get(ctx, key, expect, func(ctx context.Context, self *keep.Item) (any, int64, error) {
		o, err := open(ctx)
		if err != nil {
			return nil, 0, err
		}
		o.item = self
		return o, size(o.Take, o.Tree), nil
	})
}

// Shaped returns a take in a shape. Its tree is built when it is first asked for,
// once, however many ask.
func (s *Server) Shaped(c *gin.Context, o *Opened, shape calltree.Shape) (*View, error) {
	if shape == (calltree.Shape{}) {
		return o.View, nil
	}
	key := fmt.Sprintf("%s%s %+v", keyShape, o.item.Key(), shape)
	x, err := s.Keep.GetOver(c.Request.Context(), o.item, key, o.Tree.Bytes()+KeptCosts*o.Tree.CostBytes(), func(context.Context, *keep.Item) (any, int64, error) {
		v := newView(o.Take, o.Tree.In(shape))
		return v, v.Tree.Bytes() + KeptCosts*v.costBytes(), nil
	})
	if err != nil {
		return nil, err
	}
	Holding(c).Add(x)
	return x.Value().(*View), nil
}

// expected is how much memory a take will need, as it did when it came, or as
// others of its length do.
func (s *Server) expected(row *store.Take) int64 {
	n := row.Memory
	if n == 0 {
		n = 100*row.Samples + 40*row.Size
	}
	return min(n, s.Keep.Limit())
}

// Limits bound what a take may unpack to: the half of what the server has for
// everything.
func (s *Server) Limits() take.Limits { return take.Limits{Memory: s.Keep.Limit() / 2} }

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
func (o *View) costBytes() int64 { return costBytes(o.Take, o.Tree) }

func costBytes(t *profile.Take, tr *calltree.Tree) int64 {
	n := tr.CostBytes() + int64(len(t.Profile.Functions))*48
	if t.Facts.Exact != nil { // calls and executions are added up beside it
		n *= 3
	}
	return n
}

// size estimates the memory that an opened take holds.
func size(t *profile.Take, tr *calltree.Tree) int64 {
	n := t.Profile.Bytes() + tr.Bytes() + KeptCosts*costBytes(t, tr)
	for _, s := range t.Sources {
		n += int64(len(s.Text))
	}
	return n
}
