package resolve

import (
	"testing"

	"entelon/core/profile"
	"entelon/resolve/raw"
	"entelon/runtimes/python"
)

// TestCodeOfTheNextProgram: a code object that was read before the record of
// the exec came in its turn belongs to the program that came after.
func TestCodeOfTheNextProgram(t *testing.T) {
	r := newTestResolver(profile.NewBuilder(), &profile.Facts{})
	p := r.Processes.fresh(10)
	for i, at := range []uint64{100, 300} {
		r.LearnCode(&raw.Record{Kind: raw.CodeRead, PID: 10, Time: at, Code: &raw.Code{Address: uint64(i + 1)}})
	}
	if len(p.codes.raw) != 2 {
		t.Fatalf("%d code objects are known", len(p.codes.raw))
	}
	r.Processes.Apply(&raw.Record{Kind: raw.Renamed, PID: 10, TID: 10, Name: "partbook", Exec: true, Time: 200})
	if len(p.codes.raw) != 1 || p.codes.raw[python.Identity{Address: 2}].at != 300 {
		t.Errorf("after the exec, %v", p.codes.raw)
	}
}
