// Package rooms holds the tests of how the rooms of this house are connected.
package rooms

import (
	"encoding/json"
	"errors"
	"io"
	"os/exec"
	"slices"
	"strings"
	"testing"
)

// room is a folder with what its packages may import of this module. Folders below
// it belong to it unless they are rooms themselves.
type room struct {
	folder string
	may    []string // rooms before it
}

// rooms are in the order of a sample's way: each knows only rooms before it.
var rooms = []room{
	{"core/measure", nil},
	{"core/profile", []string{"core/measure"}},
	{"core/bisect", nil},
	{"core/workload", []string{"core/profile"}},
	{"core/invent", []string{"core/measure", "core/profile"}},
	{"core/scope/language", []string{"core/profile"}},
	{"core/scope", []string{"core/measure", "core/profile", "core/scope/language"}},
	{"core/parallel", nil},
	{"core/events", []string{"core/measure", "core/parallel", "core/profile", "core/scope"}},
	{"core/lanes", []string{"core/events", "core/measure", "core/parallel", "core/profile", "core/scope"}},
	{"core/keytable", nil},
	{"core/tally", []string{"core/parallel"}},
	{"core/calltree", []string{"core/keytable", "core/measure", "core/parallel", "core/profile", "core/scope", "core/tally"}},
	{"core/callcounts", []string{"core/calltree", "core/measure", "core/profile"}},
	{"core/callgraph", []string{"core/calltree", "core/parallel", "core/profile", "core/tally"}},
	{"core/match", []string{"core/measure", "core/profile", "core/calltree"}},
	{"core/scales", []string{"core/measure", "core/profile", "core/match", "core/workload"}},
	{"core/statistics", []string{"core/scales"}},
	{"core/spans", []string{"core/lanes", "core/measure", "core/profile", "core/statistics"}},
	{"core/samplingcost", []string{"core/profile", "core/statistics"}},
	{"core/until", []string{"core/calltree", "core/profile", "core/scales", "core/scope", "core/statistics"}},
	{"core/ledger", []string{"core/scales", "core/statistics"}},
	{"core/yardstick", []string{"core/match", "core/profile", "core/statistics"}},
	{"core/compare", []string{"core/measure", "core/profile", "core/scope", "core/workload", "core/calltree", "core/callcounts", "core/match", "core/scales", "core/statistics", "core/until", "core/yardstick"}},
	{"core/reading", []string{"core/measure", "core/profile", "core/scope", "core/calltree", "core/callcounts", "core/compare", "core/scales", "core/statistics"}},
	{"codec", []string{"core"}},
	{"symbol", []string{"core/measure", "core/profile"}},
	{"unwind", []string{"symbol"}},
	{"runtimes", []string{"core/profile", "symbol"}},
	{"diagnose", []string{"core/measure", "core/profile", "runtimes"}},
	{"linux", nil},
	{"resolve", []string{"core/measure", "core/profile", "runtimes", "symbol", "unwind"}},
	{"receive", []string{"codec/otlp", "core/profile", "core/spans"}},
	{"capture", []string{"core/measure", "core/profile", "core/scope", "core/spans", "diagnose", "linux", "resolve", "runtimes", "symbol", "unwind"}},
	{"exact", []string{"core/measure", "core/profile", "runtimes", "symbol"}},
	{"exact/session", []string{"capture", "codec", "core/profile", "exact", "symbol"}},
	{"diagnose/doctor", []string{"capture", "core/measure", "core/profile", "exact", "linux"}},
	{"people", nil},
	{"server/api", []string{"core/profile"}},
	{"collector", []string{"capture", "codec", "core/profile", "core/workload", "diagnose/doctor", "exact/session", "linux", "people", "receive", "server/api", "symbol"}},
	{"store", []string{"core", "codec", "people"}},
	{"server", []string{"core", "codec", "people", "server/api", "store"}},
	{"web", nil},
	{"bench", []string{"core", "codec", "linux", "symbol", "unwind"}},
	{"cmd", []string{"core", "codec", "linux", "capture", "collector", "diagnose", "diagnose/doctor", "exact", "exact/session", "people", "receive", "resolve", "server", "server/api", "store", "symbol", "web"}},
	{"demo", []string{"codec"}},
	{"e2e", nil},
	{"faults", nil},
	{"guard", []string{"core", "codec", "exact", "resolve", "symbol"}},
	{"rooms", nil},
	{"judge", []string{"linux"}},
	{"skips", []string{"linux"}},
	{"truth", nil},
}

const module = "entelon/"

// of returns the room that a package is in: the one with the longest name.
func of(path string) *room {
	var found *room
	for i := range rooms {
		f := rooms[i].folder
		if (path == f || strings.HasPrefix(path, f+"/")) && (found == nil || len(f) > len(found.folder)) {
			found = &rooms[i]
		}
	}
	return found
}

type pack struct {
	ImportPath string
	Imports    []string
}

func packages(t *testing.T) (out []pack) {
	t.Helper()
	cmd := exec.Command("go", "list", "-json=ImportPath,Imports", "./...")
	cmd.Dir = ".."
	b, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	for d := json.NewDecoder(b); ; {
		var p pack
		if err := d.Decode(&p); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			t.Fatal(err)
		}
		out = append(out, p)
	}
	if err := cmd.Wait(); err != nil {
		t.Fatal(err)
	}
	return out
}

// TestNoArrowBackwards: a package imports only what its room may, and a room may
// import only rooms that stand before it.
func TestNoArrowBackwards(t *testing.T) {
	for i, r := range rooms {
		for _, m := range r.may {
			before := slices.ContainsFunc(rooms[:i], func(x room) bool {
				return x.folder == m || strings.HasPrefix(x.folder, m+"/") || strings.HasPrefix(m, x.folder+"/")
			})
			if !before {
				t.Errorf("%s may import %s, which does not stand before it", r.folder, m)
			}
		}
	}
	list := packages(t)
	if len(list) < 40 {
		t.Fatalf("there are only %d packages", len(list))
	}
	for _, p := range list {
		path, ours := strings.CutPrefix(p.ImportPath, module)
		r := of(path)
		if !ours || r == nil {
			t.Errorf("%s is in no room", p.ImportPath)
			continue
		}
		for _, imported := range p.Imports {
			to, ours := strings.CutPrefix(imported, module)
			if !ours || of(to) == r {
				continue
			}
			allowed := slices.ContainsFunc(r.may, func(m string) bool {
				// A room that is named is itself, with no room inside it; a folder that is none is all below it.
				if x := of(m); x != nil && x.folder == m {
					return of(to) == x
				}
				return to == m || strings.HasPrefix(to, m+"/")
			})
			if !allowed {
				t.Errorf("%s imports %s, which %s may not", path, to, r.folder)
			}
		}
	}
}

// TestCoreKnowsNoSystem: computation reads no file, no clock and no environment, and
// starts nothing.
func TestCoreKnowsNoSystem(t *testing.T) {
	banned := []string{"os", "os/exec", "os/user", "net", "net/http", "syscall", "log", "log/slog", "database/sql", "golang.org/x/sys/unix", "io/fs", "path/filepath"}
	for _, p := range packages(t) {
		if !strings.HasPrefix(p.ImportPath, module+"core/") {
			continue
		}
		for _, b := range banned {
			if slices.Contains(p.Imports, b) {
				t.Errorf("%s imports %s", p.ImportPath, b)
			}
		}
	}
}
