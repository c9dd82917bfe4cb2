package viewing

import (
	"errors"
	"fmt"
	"net/http"
	"path/filepath"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"entelon/core/callcounts"
	"entelon/core/calltree"
	"entelon/core/profile"
	"entelon/server/api"
	"entelon/server/request"
	"entelon/store"
)

// SourceRoutes answers for the text of programs.
type SourceRoutes struct{ *request.Server }

// errNoSource says that a file is in none of the folders.
var errNoSource = errors.New("its source is in none of the folders that the server was given")

// findSource finds a file of a take in the folders with sources: where a rule
// says, else by as much of the end of its path as fits. Nothing outside of a
// folder is read, whatever path and rules say.
func findSource(folders request.SourceFolders, rules []store.SourceRule, path string) (text, found string, err error) {
	if path == "" {
		return "", "", errors.New("in which file it is defined is not known")
	}
	for _, r := range rules {
		rest, ok := strings.CutPrefix(path, r.Begins)
		if !ok {
			continue
		}
		for _, dir := range folders.Dirs {
			name, ok := below(dir, r.Becomes+rest)
			if !ok {
				continue
			}
			text, err := folders.Read(dir, name)
			if err == nil {
				return text, filepath.Join(dir, name), nil
			}
			if errors.Is(err, request.ErrLarge) {
				return "", "", err
			}
		}
	}
	parts := strings.Split(strings.Trim(filepath.ToSlash(filepath.Clean("/"+path)), "/"), "/")
	for i := range parts {
		for _, dir := range folders.Dirs {
			text, err := folders.Read(dir, filepath.Join(parts[i:]...))
			if err == nil {
				return text, filepath.Join(dir, filepath.Join(parts[i:]...)), nil
			}
			if errors.Is(err, request.ErrLarge) {
				return "", "", err
			}
		}
	}
	return "", "", errNoSource
}

// below returns a path as one from a folder; relative ones are from there.
func below(dir, path string) (string, bool) {
	if !filepath.IsAbs(path) {
		return filepath.Clean(path), filepath.IsLocal(path)
	}
	rel, err := filepath.Rel(dir, path)
	return rel, err == nil && filepath.IsLocal(rel)
}

// SourceRules answers GET /programs/{name}/sources.
func (s SourceRoutes) SourceRules(c *gin.Context) {
	list, err := s.Store.SourceRules(c.Request.Context(), c.Param("name"))
	if err != nil {
		s.Fail(c, err)
		return
	}
	out := api.SourceRules{Rules: []api.SourceRule{}, Folders: append([]string{}, s.Options.Sources...)}
	for _, r := range list {
		out.Rules = append(out.Rules, api.SourceRule{Begins: r.Begins, Becomes: r.Becomes})
	}
	c.JSON(http.StatusOK, out)
}

// maxRules bounds a program's rules for source.
const maxRules = 50

// SetSourceRules answers PUT /programs/{name}/sources.
func (s SourceRoutes) SetSourceRules(c *gin.Context) {
	var in api.SourceRulesIn
	err := s.Read(c, &in, "the rules for source")
	if err == nil && len(in.Rules) > maxRules {
		err = request.Bad(fmt.Errorf("the rules for source: give up to %d", maxRules))
	}
	if err != nil {
		s.Fail(c, err)
		return
	}
	var rules []store.SourceRule
	seen := map[string]bool{}
	for _, r := range in.Rules {
		within := slices.ContainsFunc(s.Options.Sources, func(dir string) bool { _, ok := below(dir, r.Becomes); return ok })
		switch {
		case r.Begins == "" || r.Becomes == "" || len(r.Begins)+len(r.Becomes) > 8<<10:
			s.Fail(c, request.Bad(errors.New("a rule for source needs two paths")))
			return
		case seen[r.Begins]:
			s.Fail(c, request.Bad(fmt.Errorf("there are two rules for %s", r.Begins)))
			return
		case !within:
			s.Fail(c, request.Bad(fmt.Errorf("%s is in none of the folders that the server reads source from", r.Becomes)))
			return
		}
		seen[r.Begins] = true
		rules = append(rules, store.SourceRule{Begins: r.Begins, Becomes: r.Becomes})
	}
	if err := s.Store.SetSourceRules(c.Request.Context(), c.Param("name"), rules); err != nil {
		s.Fail(c, err)
		return
	}
	s.SourceRules(c)
}

// SourceText is the text of a file, or why there is none.
type SourceText struct {
	Lines     []string
	Found     string // where it is
	Delivered bool   // it came with the take
	Missing   string // why there is none, else ""
}

// Source finds a file of a take: as it came with it, or in the folders.
func (s SourceRoutes) Source(c *gin.Context, t *profile.Take, row *store.Take, path string) (SourceText, error) {
	var out SourceText
	text := ""
	if i := slices.IndexFunc(t.Sources, func(x profile.Source) bool { return x.Path == path && path != "" }); i >= 0 {
		text, out.Delivered = t.Sources[i].Text, true
	} else {
		rules, err := s.Store.SourceRules(c.Request.Context(), row.Program.Name)
		if err != nil {
			return out, err
		}
		if text, out.Found, err = findSource(s.Sources, rules, path); err != nil {
			out.Missing = err.Error()
			return out, nil
		}
	}
	out.Lines = strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n")
	return out, nil
}

// Lines tells what each line of a function's file costs, with the source where
// it is found.
func (s SourceRoutes) Lines(c *gin.Context) {
	o, row, k, ok := LensRoutes(s).scoped(c)
	if !ok {
		return
	}
	p := o.Tree.Profile
	r, found := find(o, k, c.Query("name"), c.Query("module"))
	if !found {
		LensRoutes(s).Nothing(c, c.Query("name"))
		return
	}
	f := p.Functions[r.Function]
	out := api.LinesOut{Function: refOf(p, r.Function), File: p.Strings[f.File], Begin: f.Line, ScopeTotal: k.Cost.Total(0), Lines: []api.SourceLine{}, Source: []string{}}
	src, err := s.Source(c, o.Take, row, out.File)
	if err != nil {
		s.Fail(c, err)
		return
	}
	out.Found, out.Delivered, out.Missing = src.Found, src.Delivered, src.Missing
	out.Source = append(out.Source, src.Lines...)
	if out.File != "" {
		var counted map[uint32]callcounts.LineCount
		if counts := k.Calls(); counts != nil {
			out.Counted, counted = true, counts.Lines(out.File)
		}
		for _, l := range calltree.Lines(o.Tree, k.Cost, out.File) {
			x := api.SourceLine{Line: l.Line, Self: l.Self, Total: l.Total, Samples: l.Samples, Times: counted[l.Line].Executed, Calls: []api.EdgeOut{}}
			for i, e := range l.Calls {
				if i == 5 {
					break
				}
				ref := refOf(p, e.Function)
				x.Calls = append(x.Calls, api.EdgeOut{Function: &ref, Value: e.Value, Samples: e.Samples, Calls: counted[l.Line].Calls[e.Function]})
			}
			out.Lines = append(out.Lines, x)
		}
	}
	for id := range p.Functions {
		fn := p.Functions[id]
		if id != 0 && p.Strings[fn.File] == out.File && fn.Line > 0 {
			out.Functions = append(out.Functions, api.FunctionLine{Line: fn.Line, Name: p.FunctionName(profile.FunctionID(id)), Short: profile.Short(p.FunctionName(profile.FunctionID(id)))})
		}
	}
	if out.Functions == nil {
		out.Functions = []api.FunctionLine{}
	}
	c.JSON(http.StatusOK, out)
}
