package capture

import (
	"context"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/resolve"
	"entelon/resolve/raw"
	"entelon/resolve/replay"
)

// record writes the recordings of package replay anew.
var record = flag.String("record", "", "a folder in which recordings of programs are put")

// recorded are the programs that are recorded: each runtime and each kind of stack.
var recorded = []struct {
	name    string
	build   []string // {} is where it is put
	command []string
	unwind  string
}{
	{"c", []string{"cc", "-O2", "-g", "-o", "{}", "../truth/programs/shapes.c", "-lm"}, []string{"{}", "400"}, UnwindTables},
	{"c-frame-pointers", []string{"cc", "-O1", "-g", "-fno-omit-frame-pointer", "-o", "{}", "../truth/programs/shapes.c", "-lm"}, []string{"{}", "400"}, UnwindFramePointers},
	{"c-deep", []string{"cc", "-O1", "-g", "-o", "{}", "../truth/programs/deep.c", "-lm"}, []string{"{}", "400"}, UnwindTables},
	{"c-signals", []string{"cc", "-O1", "-g", "-o", "{}", "../truth/programs/signals.c", "-lm"}, []string{"{}", "400"}, UnwindTables},
	{"cpp", []string{"c++", "-O2", "-g", "-o", "{}", "../truth/programs/raster.cc", "-lm"}, []string{"{}", "400"}, UnwindTables},
	{"go", []string{"go", "build", "-o", "{}", "../truth/programs/gopher"}, []string{"{}", "400"}, UnwindTables},
	{"go-cgo", []string{"go", "build", "-o", "{}", "../truth/programs/cgo"}, []string{"{}", "400"}, UnwindTables},
	{"python", nil, []string{"python3", "../truth/programs/partbook.py", "400"}, UnwindTables},
	{"java", []string{"javac", "-d", "{}", "../truth/programs/java/shop/Press.java"}, []string{"java", "-Xcomp", "-XX:CompileCommand=quiet", "-XX:CompileCommand=compileonly,shop.Press::*", "-cp", "{}", "shop.Press", "400"}, UnwindTables},
	{"rust", []string{"rustc", "-g", "-O", "-o", "{}", "../truth/programs/score.rs"}, []string{"{}", "400"}, UnwindTables},
	{"node", nil, []string{"node", "-e", "function beam(n){let s=0;for(let i=0;i<n;i++)s=(s*31+i)%1000003;return s}function page(){return [1,2,3].map(x=>beam(x*100000))}const end=Date.now()+600;while(Date.now()<end)page()"}, UnwindTables},
}

// collectRecording takes a command and writes down what its resolver was given.
func collectRecording(t *testing.T, command []string, how string, most int) (*replay.Recording, *profile.Profile) {
	t.Helper()
	o := Options{Settings: profile.Settings{Command: command, RateHz: 199, Measures: []string{measure.CPU}, Event: EventClock, Unwind: how}}
	s := newSession(o, NoSink{})
	rec := replay.NewRecorder(s.world)
	s.resolver = resolve.New(profile.NewBuilder(), &s.facts, rec)
	n := 0
	s.note = func(r *raw.Record, early bool) {
		if r.Kind == raw.Sampled {
			if n++; n > most {
				return
			}
		}
		rec.Note(r, early, 0)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second)
	defer cancel()
	res, err := s.collect(ctx)
	if err != nil {
		t.Fatal(err)
	}
	res.Signal(9)
	res.Wait()
	return rec.Recording(s.resolver.Builder.Profile(), s.resolver.Origin), s.resolver.Builder.Profile()
}

// TestRecordingPlaysTheSame: what was recorded of a program is resolved again to the same
// stacks, with none of its files. With -record DIR it writes all recordings.
func TestRecordingPlaysTheSame(t *testing.T) {
	programs := recorded[2:3]
	if *record != "" {
		programs = recorded
	}
	for _, x := range programs {
		bin := filepath.Join(t.TempDir(), "score")
		fill := func(words []string) []string {
			out := slices.Clone(words)
			for i := range out {
				out[i] = strings.ReplaceAll(out[i], "{}", bin)
			}
			return out
		}
		if b := fill(x.build); len(b) > 0 {
			if out, err := exec.Command(b[0], b[1:]...).CombinedOutput(); err != nil {
				t.Fatalf("%v: %s", err, out)
			}
		}
		most := 1 << 20
		if *record != "" {
			most = 100
		}
		r, live := collectRecording(t, fill(x.command), x.unwind, most)
		path := filepath.Join(t.TempDir(), "x.json.zst")
		if *record != "" {
			path = filepath.Join(*record, x.name+".json.zst")
		}
		if err := r.Write(path); err != nil {
			t.Fatal(err)
		}
		again, err := replay.Read(path)
		if err != nil {
			t.Fatal(err)
		}
		var facts profile.Facts
		played := again.Play(&facts, nil)
		if *record != "" {
			if err := os.WriteFile(filepath.Join(*record, x.name+".stacks"), []byte(replay.Stacks(played)), 0o644); err != nil {
				t.Fatal(err)
			}
			continue
		}
		if a, b := replay.Stacks(live), replay.Stacks(played); a != b || live.Samples.Len() == 0 {
			t.Errorf("%s: %d samples were taken and %d played:\n%s\n\n%s", x.name, live.Samples.Len(), played.Samples.Len(), a, b)
		}
		if err := played.Check(); err != nil {
			t.Error(err)
		}
		fmt.Fprintln(t.Output(), x.name, live.Samples.Len(), "samples")
	}
}
