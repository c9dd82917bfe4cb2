package profile

import (
	"path"
	"strings"
)

// Area names the part of a program that a function belongs to: its package
// where the language has packages inside one module (Go), else the file name
// of its module.
func (p *Profile) Area(id FunctionID) string {
	f := p.Functions[id]
	if file := p.Strings[f.File]; strings.HasSuffix(file, ".go") || strings.HasSuffix(file, ".s") {
		name, _, _ := strings.Cut(p.Strings[f.Name], "[")
		slash := strings.LastIndexByte(name, '/')
		if dot := strings.IndexByte(name[slash+1:], '.'); dot >= 0 {
			return name[:slash+1+dot]
		}
	}
	return path.Base(p.ModulePath(id))
}

// Home names a function's module in a way that is the same from build to build,
// so that functions of two builds can be matched: "" for the program's own
// code, whatever its file is called; a library's name without its version.
func (p *Profile) Home(id FunctionID) string {
	m := p.Modules[p.Functions[id].Module]
	if m.Kind == KindOwn {
		return ""
	}
	name := path.Base(p.Strings[m.Path])
	if i := strings.Index(name, ".so."); i > 0 {
		name = name[:i+3]
	}
	return name
}
