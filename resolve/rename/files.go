package rename

import (
	"path"
	"slices"

	"entelon/core/profile"
)

// File is a file whose code is on the stacks of a profile, and which can be found again
// by its build.
type File struct {
	Module  profile.ModuleID
	Path    string // as the program saw it
	BuildID string
	Kind    profile.ModuleKind
	Cost    int64 // of the stacks that pass through it, in the profile's first measure
	Unnamed int64 // of that, where the innermost code is its own and has no name
}

// Files lists the files of a profile, the costliest first, with what all stacks cost.
func Files(p *profile.Profile) (out []File, total int64) {
	if len(p.Measures) == 0 {
		return nil, 0
	}
	ends := make([]int64, p.Stacks.Len()) // by stack, of the samples that end there
	for i, s := range p.Samples.Stack {
		ends[s] += p.Samples.Values[0][i]
		total += p.Samples.Values[0][i]
	}
	all := make([]File, len(p.Modules))
	passed := make([]profile.StackID, len(p.Modules)) // the stack in which a file was met last
	for i := range ends {
		s := profile.StackID(i)
		if s == 0 || ends[s] == 0 {
			continue
		}
		p.Walk(s, func(f profile.FrameID) {
			m := p.Functions[p.Frames[f].Function].Module
			if passed[m] != s {
				passed[m] = s
				all[m].Cost += ends[s]
			}
		})
		if f := p.Innermost(s); f != 0 && p.Unnamed(p.Frames[f].Function) {
			all[p.Functions[p.Frames[f].Function].Module].Unnamed += ends[s]
		}
	}
	for i, m := range p.Modules {
		if m.BuildID == 0 || all[i].Cost == 0 {
			continue
		}
		x := all[i]
		x.Module, x.Path, x.BuildID, x.Kind = profile.ModuleID(i), p.Strings[m.Path], p.Strings[m.BuildID], m.Kind
		out = append(out, x)
	}
	slices.SortStableFunc(out, func(a, b File) int { return int(min(1, max(-1, b.Cost-a.Cost))) })
	return out, total
}

// SamplesIn counts the samples whose innermost function is in one of some modules, by the
// file's name without its folder.
func SamplesIn(p *profile.Profile, modules map[profile.ModuleID]bool) map[string]int64 {
	out := map[string]int64{}
	for _, s := range p.Samples.Stack {
		if s == 0 {
			continue
		}
		if m := p.Functions[p.FunctionOf(s)].Module; modules[m] {
			out[path.Base(p.Strings[p.Modules[m].Path])]++
		}
	}
	return out
}

// UnnamedSamples counts the samples whose innermost code has no name, by file.
func UnnamedSamples(p *profile.Profile) map[string]int64 {
	out := map[string]int64{}
	for _, s := range p.Samples.Stack {
		if f := p.Innermost(s); f != 0 && p.Unnamed(p.Frames[f].Function) {
			out[p.ModulePath(p.Frames[f].Function)]++
		}
	}
	return out
}
