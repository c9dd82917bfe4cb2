package comparing

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"entelon/cmd/entelon/option"
	"entelon/cmd/entelon/serving"
	"entelon/codec/take"
	"entelon/core/compare"
	"entelon/core/match"
	"entelon/core/profile"
	"entelon/core/scales"
	"entelon/core/statistics"
	"entelon/core/workload"
	"entelon/server/api"
)

// rulesFile is where a program's repository says what its builds may cost.
const rulesFile = "entelon.yaml"

// written is the content of a rules file.
type written struct {
	Compare struct {
		Scale    string       `yaml:"scale"`
		Measure  string       `yaml:"measure"`
		Scope    string       `yaml:"scope"`
		Limits   []limitText  `yaml:"limits"`
		Accepted []acceptText `yaml:"accepted"`
		Same     []pairText   `yaml:"same"`
		NotSame  []pairText   `yaml:"not_same"`
	} `yaml:"compare"`
}

type limitText struct {
	Whole    string `yaml:"whole"`    // 3%
	Function string `yaml:"function"` // a pattern
	Rise     string `yaml:"rise"`
}

type acceptText struct {
	Function string   `yaml:"function"` // "": the whole
	Rise     string   `yaml:"rise"`     // "": any
	Until    string   `yaml:"until"`    // the last day, as 2027-01-31; "": without end
	Builds   []string `yaml:"builds"`   // of candidates; none: all
	Note     string   `yaml:"note"`
}

type pairText struct {
	Baseline  string `yaml:"baseline"`
	Candidate string `yaml:"candidate"`
}

// policy is what a comparison goes by, from the rules file and the flags.
type policy struct {
	scale          scales.Scale
	measure, scope string
	limits         []compare.Limit
	accepted       []acceptText
	hand           match.Hand
}

// rules are those that hold for a candidate, today.
func (p *policy) rules(candidate *profile.Take) compare.Rules {
	out := compare.Rules{Limits: p.limits}
	for _, a := range p.accepted {
		last, err := time.Parse(time.DateOnly, a.Until)
		if err == nil && time.Now().After(last.AddDate(0, 0, 1)) || len(a.Builds) > 0 && !slices.Contains(a.Builds, candidate.Settings.Build) {
			continue
		}
		x := compare.Accepted{Pattern: a.Function, Note: a.Note}
		if a.Rise != "" {
			var s option.Share
			if s.Set(a.Rise) == nil { // it was read before
				x.Rise = float64(s)
			}
		}
		out.Accepted = append(out.Accepted, x)
	}
	return out
}

// policy reads the rules file and the flags, which come first.
func (x *Comparison) policy() (*policy, error) {
	p := &policy{}
	for _, text := range x.Limits {
		l := compare.Limit{}
		at := strings.LastIndexByte(text, '=')
		rise := text
		if at >= 0 {
			l.Pattern, rise = text[:at], text[at+1:]
			if l.Pattern == "" {
				return nil, fmt.Errorf("--threshold %s: name functions before the sign", text)
			}
		}
		var s option.Share
		if err := s.Set(rise); err != nil {
			return nil, fmt.Errorf("--threshold %s: %w", text, err)
		}
		l.Rise = float64(s)
		p.limits = append(p.limits, l)
	}
	file := x.Rules
	if file == "" {
		if _, err := os.Stat(rulesFile); err == nil {
			file = rulesFile
		}
	}
	if file != "" {
		if err := p.read(file); err != nil {
			return nil, err
		}
	}
	if !slices.ContainsFunc(p.limits, func(l compare.Limit) bool { return l.Pattern == "" }) {
		p.limits = append(p.limits, compare.Limit{Rise: statistics.DefaultWorth})
	}
	return p, nil
}

func (p *policy) read(file string) error {
	b, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	var w written
	if err := yaml.UnmarshalWithOptions(b, &w, yaml.Strict()); err != nil {
		return fmt.Errorf("%s: %s", file, strings.Join(strings.Fields(strings.SplitN(yaml.FormatError(err, false, false), "\n", 2)[0]), " "))
	}
	c := w.Compare
	p.measure, p.scope = c.Measure, c.Scope
	if c.Scale != "" {
		if p.scale, err = scales.Parse(c.Scale); err != nil {
			return fmt.Errorf("%s: scale: %w", file, err)
		}
	}
	for i, l := range c.Limits {
		rise := l.Rise
		if l.Whole != "" {
			rise = l.Whole
		}
		var s option.Share
		if err := s.Set(rise); err != nil || l.Whole != "" && l.Function+l.Rise != "" || l.Whole == "" && l.Function == "" {
			return fmt.Errorf("%s: limit %d: write it as whole: 3%%, or as function: PATTERN with rise: 5%%", file, i+1)
		}
		p.limits = append(p.limits, compare.Limit{Pattern: l.Function, Rise: float64(s)})
	}
	for i, a := range c.Accepted {
		if a.Until != "" {
			if _, err := time.Parse(time.DateOnly, a.Until); err != nil {
				return fmt.Errorf("%s: accepted %d: until %q is not a date; write it as 2027-01-31", file, i+1, a.Until)
			}
		}
		if a.Rise != "" {
			var s option.Share
			if err := s.Set(a.Rise); err != nil {
				return fmt.Errorf("%s: accepted %d: %w", file, i+1, err)
			}
		}
		if a.Note == "" {
			return fmt.Errorf("%s: accepted %d: say in a note why", file, i+1)
		}
	}
	p.accepted = c.Accepted
	for _, x := range c.Same {
		p.hand.Together = append(p.hand.Together, [2]string{x.Baseline, x.Candidate})
	}
	for _, x := range c.NotSame {
		p.hand.Apart = append(p.hand.Apart, [2]string{x.Baseline, x.Candidate})
	}
	return nil
}

// read reads the takes of a side: files, patterns of them, and builds on the server.
func (x *Comparison) read(ctx context.Context, flag string, values []string) (*measured, error) {
	m := &measured{}
	for _, v := range values {
		program, build, onServer := strings.Cut(v, "@")
		if _, err := os.Stat(v); err == nil || !onServer || x.server == "" {
			files := []string{v}
			if err != nil && strings.ContainsAny(v, "*?[") {
				if files, err = filepath.Glob(v); err != nil || len(files) == 0 {
					return nil, fmt.Errorf("%s: no file matches %s", flag, v)
				}
			} else if err != nil && onServer {
				return nil, fmt.Errorf("%s %s: there is no such file; for a build on a server say which with --server", flag, v)
			}
			for _, f := range files {
				t, err := option.ReadTake(f)
				if err != nil {
					return nil, err
				}
				m.add(t, f, workload.Of(&t.Settings, &t.Facts))
			}
			continue
		}
		if err := x.fetch(ctx, m, program, build); err != nil {
			return nil, fmt.Errorf("%s %s: %w", flag, v, err)
		}
	}
	return m, nil
}

// maxFetched bounds how many takes of a build are compared.
const maxFetched = 50

// fetch reads the newest takes of a build from the server.
func (x *Comparison) fetch(ctx context.Context, m *measured, program, build string) error {
	base, err := url.Parse(x.server)
	if err != nil || base.Host == "" || (base.Scheme != "http" && base.Scheme != "https") {
		return fmt.Errorf("--server %q is not the address of a server; write it as http://HOST:PORT", x.server)
	}
	in, err := x.workloadOf(ctx, base, program)
	if err != nil {
		return err
	}
	u := base.JoinPath("api/v1/takes")
	u.RawQuery = url.Values{"program": {program}, "workload": {strconv.FormatInt(in.ID, 10)}, "limit": {"1000"}, "sort": {"started"}, "descending": {"true"}}.Encode()
	var list api.TakesOut
	if err := x.get(ctx, u, func(r io.Reader) error { return json.NewDecoder(r).Decode(&list) }); err != nil {
		return err
	}
	for _, t := range list.Takes {
		if t.Build != build || len(m.takes) == maxFetched {
			continue
		}
		err := x.get(ctx, base.JoinPath("api/v1/takes", t.Key, "file"), func(r io.Reader) error {
			got, err := take.Read(r, "take "+t.Key, take.Options{})
			if err == nil {
				m.add(got, t.Key, workload.Workload{Key: fmt.Sprint("server ", in.ID), Words: in.Name})
			}
			return err
		})
		if err != nil {
			return err
		}
	}
	if len(m.takes) == 0 {
		return fmt.Errorf("the server has no take of %s, build %s, of the workload %q; choose another one with --workload", program, build, in.Name)
	}
	return nil
}

// workloadOf finds the workload whose takes are compared.
func (x *Comparison) workloadOf(ctx context.Context, base *url.URL, program string) (w api.WorkloadOut, err error) {
	var list api.WorkloadsOut
	if err := x.get(ctx, base.JoinPath("api/v1/programs", program, "workloads"), func(r io.Reader) error { return json.NewDecoder(r).Decode(&list) }); err != nil {
		return w, err
	}
	var names []string
	for _, w := range list.Workloads {
		if x.workload == "" || w.Name == x.workload {
			return w, nil
		}
		names = append(names, fmt.Sprintf("%q", w.Name))
	}
	return w, fmt.Errorf("the server has no takes of %s of the workload %q; choose from %s", program, x.workload, strings.Join(names[:min(8, len(names))], ", "))
}

func (x *Comparison) get(ctx context.Context, u *url.URL, use func(io.Reader) error) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, u.String(), nil)
	if err != nil {
		return err
	}
	secret, err := serving.Token(x.tokenFile)
	if err != nil {
		return err
	}
	if secret != "" {
		req.Header.Set("Authorization", "Bearer "+secret)
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return fmt.Errorf("%s does not answer; see whether a server runs there: %w", u.Host, errors.Unwrap(err))
	}
	defer resp.Body.Close()
	if resp.StatusCode >= 300 {
		var e api.ErrorBody
		if err := json.NewDecoder(io.LimitReader(resp.Body, 1<<20)).Decode(&e); err != nil || e.Error == "" {
			return fmt.Errorf("%s answered %s; is it an Entelon server?", u.Host, resp.Status)
		}
		return errors.New(strings.TrimSuffix(e.Error+"; "+e.Remedy, "; "))
	}
	return use(resp.Body)
}
