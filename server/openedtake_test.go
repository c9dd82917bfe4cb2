package server

import (
	"context"
	"testing"

	"entelon/core/calltree"
	"entelon/core/invent"
	"entelon/core/scope"
)

// TestScopedCosts: the latest few scopes are kept, and each is right.
func TestScopedCosts(t *testing.T) {
	p := invent.Profile(1, invent.Small)
	o := &opened{view: &view{tree: calltree.New(p)}}
	whole := o.cost(0, scope.Scope{}).cost
	if o.cost(0, scope.Scope{}).cost != whole {
		t.Error("the same scope was added up twice")
	}
	var parts int64
	for i := range int64(18) {
		parts += o.cost(0, scope.Between(i*100e6, (i+1)*100e6)).cost.Total(0)
	}
	if parts != whole.Total(0) {
		t.Errorf("the parts sum to %d, the whole is %d", parts, whole.Total(0))
	}
	if len(o.costs) != keptCosts {
		t.Errorf("%d scopes are kept, want %d", len(o.costs), keptCosts)
	}
	gone, leave := context.WithCancel(context.Background())
	leave()
	if _, err := o.costFor(gone, 0, scope.Between(0, 77e6)); err == nil || o.costs[0].scope.String() == scope.Between(0, 77e6).String() {
		t.Errorf("for one who has gone it was added up: %v", err)
	}
	again := o.cost(0, scope.Scope{})
	if again.cost.Total(0) != whole.Total(0) || again.cost == whole {
		t.Error("a scope that was forgotten was not added up anew")
	}
}
