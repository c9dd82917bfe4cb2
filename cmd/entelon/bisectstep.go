package main

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"

	"entelon/cmd/entelon/option"
	"entelon/codec/takefile"
	"entelon/core/bisect"
	"entelon/core/calltree"
	"entelon/core/compare"
	"entelon/core/match"
	"entelon/core/profile"
	"entelon/core/scales"
	"entelon/exact/session"
	"entelon/symbol"
	"entelon/symbol/cache"
)

// The work trees of a bisection, and its takes of them.
const (
	goodTree  = "good"
	probeTree = "probe"
)

// revision is one of a repository's history.
type revision struct{ hash, subject string }

func (r revision) short() string { return r.hash[:min(12, len(r.hash))] }

// repository is a git repository, used by git's own commands.
type repository struct {
	top       string // of the work tree in which the command was started
	common    string // git's own folder
	good      revision
	revisions []revision // behind the good one up to the bad one, in order
	folder    string     // of this bisection
	built     map[string]string
}

func git(ctx context.Context, dir string, args ...string) (string, error) {
	cmd := exec.CommandContext(ctx, "git", args...)
	cmd.Dir = dir
	out, err := cmd.Output()
	var exit *exec.ExitError
	if errors.As(err, &exit) && len(exit.Stderr) > 0 {
		return "", fmt.Errorf("git %s: %s", args[0], strings.TrimPrefix(strings.SplitN(strings.TrimSpace(string(exit.Stderr)), "\n", 2)[0], "fatal: "))
	} else if err != nil {
		return "", fmt.Errorf("git %s: %w", args[0], err)
	}
	return strings.TrimSpace(string(out)), nil
}

// openRepository reads the history between two revisions: along first parents,
// so that a merge is one step.
func openRepository(ctx context.Context, good, bad string) (*repository, error) {
	r := &repository{built: map[string]string{}}
	var err error
	if r.top, err = git(ctx, "", "rev-parse", "--show-toplevel"); err != nil {
		return nil, err
	}
	if r.common, err = git(ctx, r.top, "rev-parse", "--path-format=absolute", "--git-common-dir"); err != nil {
		return nil, err
	}
	var named [2]revision
	for i, rev := range []string{good, bad} {
		line, err := git(ctx, r.top, "log", "-1", "--format=%H %s", "--end-of-options", rev, "--")
		if err != nil {
			return nil, fmt.Errorf("%s: %w", rev, err)
		}
		named[i].hash, named[i].subject, _ = strings.Cut(line, " ")
	}
	r.good = named[0]
	if _, err := git(ctx, r.top, "merge-base", "--is-ancestor", named[0].hash, named[1].hash); err != nil {
		return nil, fmt.Errorf("%s is not before %s", good, bad)
	}
	lines, err := git(ctx, r.top, "log", "--first-parent", "--reverse", "--format=%H %s", named[0].hash+".."+named[1].hash)
	if err != nil {
		return nil, err
	}
	for _, line := range strings.Split(lines, "\n") {
		if hash, subject, ok := strings.Cut(line, " "); ok {
			r.revisions = append(r.revisions, revision{hash, subject})
		}
	}
	if len(r.revisions) == 0 {
		return nil, fmt.Errorf("there is no revision between %s and %s", good, bad)
	}
	return r, nil
}

// bisectState is what is known so far, in a file beside the takes.
type bisectState struct {
	Answers map[string]bisect.Answer `json:"answers"` // by revision
	// Rise is by how much the bad revision is slower at least, as a share; 0 until
	// that is known.
	Rise   float64 `json:"rise"`
	folder string
}

// open finds or makes the folder of a bisection.
func (r *repository) open(key string, again bool) (*bisectState, error) {
	sum := sha256.Sum256([]byte(key))
	r.folder = filepath.Join(r.common, "entelon-bisect", hex.EncodeToString(sum[:6]))
	if again {
		if err := os.RemoveAll(filepath.Join(r.folder, "takes")); err != nil {
			return nil, fmt.Errorf("forgetting what is known: %w", err)
		}
	}
	s := &bisectState{Answers: map[string]bisect.Answer{}, folder: filepath.Join(r.folder, "takes")}
	if err := os.MkdirAll(s.folder, 0o755); err != nil {
		return nil, fmt.Errorf("keeping what is known: %w", err)
	}
	b, err := os.ReadFile(s.file())
	if errors.Is(err, os.ErrNotExist) {
		return s, nil
	} else if err != nil {
		return nil, fmt.Errorf("reading what is known: %w", err)
	}
	if err := json.Unmarshal(b, s); err != nil {
		return nil, fmt.Errorf("reading what is known: %s: %w; --again begins anew", s.file(), err)
	}
	return s, nil
}

func (s *bisectState) file() string { return filepath.Join(s.folder, "known.json") }

// write keeps what is known, whole or not at all.
func (s *bisectState) write() error {
	b, err := json.Marshal(s)
	if err != nil {
		return err
	}
	if err := os.WriteFile(s.file()+"~", b, 0o644); err != nil {
		return fmt.Errorf("keeping what is known: %w", err)
	}
	return os.Rename(s.file()+"~", s.file())
}

func (s *bisectState) path(rev revision, tree string, turn int) string {
	return filepath.Join(s.folder, fmt.Sprintf("%s-%s-%02d.take", rev.short(), tree, turn))
}

func (s *bisectState) pattern(rev revision, tree string) string {
	return filepath.Join(s.folder, fmt.Sprintf("%s-%s-*.take", rev.short(), tree))
}

// forget removes the takes of a step that was broken off.
func (s *bisectState) forget(rev revision) error {
	old, err := filepath.Glob(filepath.Join(s.folder, rev.short()+"-*.take"))
	for _, f := range old {
		err = errors.Join(err, os.Remove(f))
	}
	return err
}

// build puts a revision into a work tree and builds it there; what is there
// already stays.
func (r *repository) build(ctx context.Context, tree string, rev revision, command string) error {
	if r.built[tree] == rev.hash {
		return nil
	}
	delete(r.built, tree)
	dir := filepath.Join(r.folder, tree)
	if _, err := os.Stat(filepath.Join(dir, ".git")); err != nil {
		if _, err := git(ctx, r.top, "worktree", "prune"); err != nil {
			return err
		}
		if _, err := git(ctx, r.top, "worktree", "add", "--force", "--detach", "--quiet", dir, rev.hash); err != nil {
			return err
		}
	} else if _, err := git(ctx, dir, "checkout", "--quiet", "--force", "--detach", rev.hash); err != nil {
		return err
	}
	cmd := exec.CommandContext(ctx, "sh", "-c", command)
	cmd.Dir = dir
	if out, err := cmd.CombinedOutput(); err != nil {
		lines := strings.Split(strings.TrimSpace(string(out)), "\n")
		return fmt.Errorf("%w: %s", err, lines[len(lines)-1])
	}
	r.built[tree] = rev.hash
	return nil
}

// clean removes the work trees; what is known stays.
func (r *repository) clean(ctx context.Context) error {
	var errs []error
	for _, tree := range []string{goodTree, probeTree} {
		dir := filepath.Join(r.folder, tree)
		if _, err := os.Stat(dir); err != nil {
			continue
		}
		_, err := git(ctx, r.top, "worktree", "remove", "--force", dir)
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

// take makes one take of what a work tree has built.
func (b *bisection) take(ctx context.Context, tree string, rev revision, turn int) error {
	f := takeFlags{cutShare: 1, quiet: true, repeat: 1, out: b.state.path(rev, tree, turn)}
	f.symbols.Limit = cache.DefaultLimit
	of := rev
	if tree == goodTree {
		of = b.repo.good
	}
	f.settings = profile.Settings{RateHz: defaultRate, Dir: filepath.Join(b.repo.folder, tree), Build: of.short()}
	// There is always another one, so that a take that was broken off is an error.
	f.settings.Turn, f.settings.Turns = turn, b.most+1
	f.settings.Program = filepath.Base(strings.Fields(b.run)[0])
	if b.exact {
		if err := b.count(ctx, f.out, f.settings); err != nil {
			return fmt.Errorf("%s, %s: %w", of.short(), b.run, err)
		}
		return nil
	}
	if err := f.check(strings.Fields(b.run)); err != nil {
		return err
	}
	if err := f.one(ctx, func(string) {}); err != nil {
		return fmt.Errorf("%s, %s: %w", of.short(), b.run, err)
	}
	return nil
}

// count makes one exact take.
func (b *bisection) count(ctx context.Context, out string, set profile.Settings) error {
	set.Command, set.Turn, set.Turns = strings.Fields(b.run), 0, 0
	sink := &takefile.File{Path: out}
	r, err := session.Make(ctx, session.Options{Settings: set, Stderr: os.Stderr, Finder: &symbol.Finder{Dirs: []string{symbol.SystemDebugDir}}, Started: func(signal func(int)) {
		context.AfterFunc(ctx, func() { signal(int(syscall.SIGTERM)) })
	}}, sink)
	if r == nil {
		return errors.Join(err, sink.Discard())
	}
	if err := errors.Join(sink.Close(err), ctx.Err()); err != nil {
		return err
	}
	if r.Code != 0 {
		return fmt.Errorf("the command ended with exit code %d", r.Code)
	}
	return nil
}

// verdict compares the takes of a step after a turn of it.
func (b *bisection) verdict(rev revision, turn int) (bisect.Answer, string, error) {
	var sides [2][]match.Run
	for i, side := range []string{goodTree, probeTree} {
		files, err := filepath.Glob(b.state.pattern(rev, side))
		if err != nil {
			return "", "", err
		}
		for _, f := range files {
			t, err := option.ReadTake(f)
			if err != nil {
				return "", "", err
			}
			m, sc, err := option.Choice{}.Of(t)
			if err != nil {
				return "", "", err
			}
			tr := calltree.New(t.Profile)
			c := tr.Cost(m, sc)
			sides[i] = append(sides[i], match.Run{Name: f, Tree: tr, Cost: c, Functions: calltree.Functions(tr, c), Calls: compare.CallsOf(tr, sc), StartedAt: t.Machine.StartedAt, Varies: match.VariesOf(t, t.Profile.Words(m).Name)})
		}
	}
	r, err := compare.Compare(sides[0], sides[1], compare.Options{Scale: scales.ByRun, Exact: b.exact})
	if err != nil {
		return "", "", err
	}
	// Where much is looked for, half of it tells the sides apart, in fewer turns.
	limit := math.Max(float64(b.threshold), b.state.Rise/2)
	outcome, findings := compare.Judge(r, compare.Rules{Limits: []compare.Limit{{Pattern: b.function, Rise: limit}}})
	answer := map[compare.Outcome]bisect.Answer{compare.Pass: bisect.Good, compare.Fail: bisect.Bad, compare.Unknown: bisect.Undecided}[outcome]
	if findings[0].Nothing != "" {
		return "", "", fmt.Errorf("--function %s: it matches no function in %s, nor in the good revision", b.function, rev.short())
	}
	if e := findings[0].Estimate; b.state.Rise == 0 && e.Baseline > 0 && answer == bisect.Bad { // the bad revision is asked about first
		// What it is slower by at least is the measure for all that follow: a few
		// turns more for it spare many for them.
		if low := e.RatioLow - 1; low >= (e.Ratio-1)/2 || turn == b.most {
			b.state.Rise = low
		} else {
			answer = bisect.Undecided
		}
	}
	return answer, findings[0].Text(r, "CPU time"), nil
}
