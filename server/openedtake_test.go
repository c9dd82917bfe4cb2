package server

import (
	"context"
	"testing"

	"entelon/core/calltree"
	"entelon/core/invent"
	"entelon/core/scope"
	"entelon/server/request"
)

// TestScopedCosts: the latest few scopes are kept, and each is right.
func TestScopedCosts(t *testing.T) {
	p := invent.Profile(1, invent.Small)
	o := &request.Opened{View: &request.View{Tree: calltree.New(p)}}
	whole := o.Cost(0, scope.Scope{}).Cost
	if o.Cost(0, scope.Scope{}).Cost != whole {
		t.Error("the same scope was added up twice")
	}
	var parts int64
	for i := range int64(18) {
		parts += o.Cost(0, scope.Between(i*100e6, (i+1)*100e6)).Cost.Total(0)
	}
	if parts != whole.Total(0) {
		t.Errorf("the parts sum to %d, the whole is %d", parts, whole.Total(0))
	}
	if len(o.Costs) != request.KeptCosts {
		t.Errorf("%d scopes are kept, want %d", len(o.Costs), request.KeptCosts)
	}
	gone, leave := context.WithCancel(context.Background())
	leave()
	if _, err := o.CostFor(gone, 0, scope.Between(0, 77e6)); err == nil || o.Costs[0].Scope.String() == scope.Between(0, 77e6).String() {
		t.Errorf("for one who has gone it was added up: %v", err)
	}
	again := o.Cost(0, scope.Scope{})
	if again.Cost.Total(0) != whole.Total(0) || again.Cost == whole {
		t.Error("a scope that was forgotten was not added up anew")
	}
}
