package profile_test

import (
	"testing"

	"entelon/core/profile"
)

func TestAreaIsThePackageOrTheModule(t *testing.T) {
	b := profile.NewBuilder()
	m := b.Module(profile.Module{Path: b.Intern("/srv/shop/inkraster"), Kind: profile.KindOwn})
	for _, c := range []struct{ name, file, want string }{
		{"entelon/demo/slur.(*Skyline).Height", "slur.go", "entelon/demo/slur"},
		{"slices.Sort[go.shape.[]x/y.T]", "sort.go", "slices"},
		{"runtime.memmove", "memmove_amd64.s", "runtime"},
		{"gogo", "asm_amd64.s", "inkraster"},
		{"ink::Raster::fill(int)", "raster.cc", "inkraster"},
		{"inkraster+0x1200", "", "inkraster"},
	} {
		f := b.Function(profile.Function{Name: b.Intern(c.name), Module: m, File: b.Intern(c.file)})
		if got := b.Profile().Area(f); got != c.want {
			t.Errorf("%s of %s is in area %q, want %q", c.name, c.file, got, c.want)
		}
	}
}

func TestKindsHaveNames(t *testing.T) {
	seen := map[string]bool{}
	for k := profile.KindUnknown; k.Valid(); k++ {
		if seen[k.String()] {
			t.Errorf("two kinds are named %s", k)
		}
		seen[k.String()] = true
	}
	if len(seen) != 8 || profile.ModuleKind(200).String() != "unknown" {
		t.Errorf("%d kinds; one that does not exist is named %s", len(seen), profile.ModuleKind(200))
	}
}

func TestCompleteShare(t *testing.T) {
	if s := (profile.Facts{}).CompleteShare(); s != 1 {
		t.Errorf("of no stacks, %v are complete", s)
	}
	if s := (profile.Facts{UserStacks: 4, Complete: 3}).CompleteShare(); s != 0.75 {
		t.Errorf("of four stacks three are complete: %v", s)
	}
}
