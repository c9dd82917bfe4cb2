package server

import (
	"container/list"
	"context"
	"slices"
	"sync"

	"entelon/core/profile"
	"entelon/core/reading"
	"entelon/core/scope"
	"entelon/core/tree"
)

// opened is a take in memory, as it is and in the shapes that were asked for
// last.
type opened struct {
	*view
	bytes  int64
	mu     sync.Mutex
	shapes []shaped // the latest first
	names  func() *scope.Names
}

type shaped struct {
	shape tree.Shape
	view  func() *view
}

// keptShapes is how many shapes of one take are kept.
const keptShapes = 2

func newOpened(t *profile.Take) *opened {
	tr := tree.New(t.Profile)
	o := &opened{view: newView(t, tr), bytes: size(t, tr)}
	o.names = sync.OnceValue(func() *scope.Names {
		return scope.NewNames(t.Profile, scope.About{Program: t.Settings.Program, Build: t.Settings.Build}, tr.Weights())
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
	tree    *tree.Tree
	reader  func() *reading.Reader // made when it is first asked for
	prepare func()                 // makes what comes next to the first picture

	mu    sync.Mutex
	costs []scopedCost // the latest scopes that were asked for, newest first
}

func newView(take *profile.Take, t *tree.Tree) *view {
	return &view{
		take: take, tree: t,
		reader:  sync.OnceValue(func() *reading.Reader { return reading.New(t) }),
		prepare: func() {},
	}
}

// in returns the take in a shape. Its tree is built when it is first asked for,
// once, however many ask.
func (o *opened) in(s tree.Shape) *view {
	if s == (tree.Shape{}) {
		return o.view
	}
	o.mu.Lock()
	i := slices.IndexFunc(o.shapes, func(x shaped) bool { return x.shape == s })
	var x shaped
	if i >= 0 {
		x = o.shapes[i]
		o.shapes = slices.Delete(o.shapes, i, i+1)
	} else {
		x = shaped{s, sync.OnceValue(func() *view { return newView(o.take, o.tree.In(s)) })}
	}
	o.shapes = slices.Insert(o.shapes, 0, x)
	if len(o.shapes) > keptShapes {
		o.shapes = o.shapes[:keptShapes]
	}
	o.mu.Unlock()
	return x.view()
}

type scopedCost struct {
	measure int
	scope   scope.Scope
	cost    *tree.Cost
	rows    func() []tree.FunctionCost // added up when they are first asked for
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
	k := scopedCost{measure, sc, c, sync.OnceValue(func() []tree.FunctionCost { return o.tree.Functions(c) })}
	o.costs = append([]scopedCost{k}, o.costs...)
	if len(o.costs) > keptCosts {
		o.costs = o.costs[:keptCosts]
	}
	return k, nil
}

// cache keeps the takes that were asked for last, within a bound of memory.
// Takes never change, so what it holds is never wrong.
type cache struct {
	mu      sync.Mutex
	limit   int64
	used    int64
	order   *list.List // of *entry, newest first
	entries map[string]*list.Element
}

type entry struct {
	digest string
	ready  chan struct{}
	value  *opened
	err    error
}

func newCache(limit int64) *cache {
	return &cache{limit: limit, order: list.New(), entries: map[string]*list.Element{}}
}

// why is for what a take is wanted.
type why bool

const (
	toRead    why = false
	inPassing why = true // with many others: it must not put out the take that is being read
)

// get returns a take by its digest, loading it once however many ask.
func (c *cache) get(ctx context.Context, digest string, why why, load func() (*opened, error)) (*opened, error) {
	c.mu.Lock()
	if el, ok := c.entries[digest]; ok {
		if why == toRead {
			c.order.MoveToFront(el)
		}
		c.mu.Unlock()
		e := el.Value.(*entry)
		select {
		case <-e.ready:
			return e.value, e.err
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
	e := &entry{digest: digest, ready: make(chan struct{})}
	var el *list.Element
	if read := c.order.Front(); why == inPassing && read != nil {
		el = c.order.InsertAfter(e, read)
	} else {
		el = c.order.PushFront(e)
	}
	c.entries[digest] = el
	c.mu.Unlock()

	value, err := load()
	c.mu.Lock()
	defer c.mu.Unlock()
	e.value, e.err = value, err
	close(e.ready)
	if e.err != nil {
		c.order.Remove(el)
		delete(c.entries, digest)
		return nil, e.err
	}
	c.used += e.value.bytes
	// The one that is being read stays, and so does this one where there is room.
	for back := c.order.Back(); c.used > c.limit && back != nil && back != c.order.Front(); {
		old := back.Value.(*entry)
		prev := back.Prev()
		if old.value != nil {
			c.used -= old.value.bytes
			c.order.Remove(back)
			delete(c.entries, old.digest)
		}
		back = prev
	}
	return e.value, nil
}

// size estimates the memory that an opened take holds.
func size(t *profile.Take, tr *tree.Tree) int64 {
	p := t.Profile
	n := int64(p.Samples.Len())*int64(16+8*len(p.Measures)) + int64(p.Stacks.Len())*8 + int64(len(p.Frames))*24 + int64(len(p.Functions))*28
	for _, s := range t.Sources {
		n += int64(len(s.Text))
	}
	for _, s := range p.Strings {
		n += int64(len(s)) + 16
	}
	return n + tr.Bytes() + keptCosts*tr.CostBytes()
}
