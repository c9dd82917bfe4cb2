package symbol

import (
	"bytes"
	"debug/buildinfo"
	"strings"

	"entelon/core/profile"
)

// packages tells whose a Go package is, which one binary mixes.
type packages struct {
	module string // path of the main module, "" if unknown
}

func ownPackages(o *Object) packages {
	if info, err := buildinfo.Read(bytes.NewReader(o.image.Bytes)); err == nil {
		return packages{info.Main.Path}
	}
	return packages{}
}

// kind sorts a function by its package: the runtime's, the program's own, or
// a library's (the standard library and other modules).
func (p packages) kind(name string) profile.ModuleKind {
	pkg := goPackage(name)
	switch {
	case pkg == "runtime" || strings.HasPrefix(pkg, "runtime/") || strings.HasPrefix(pkg, "internal/runtime/") ||
		pkg == "internal/bytealg" || pkg == "internal/abi" || pkg == "internal/cpu" || pkg == "":
		return profile.KindRuntime
	case pkg == "main" || pkg == p.module || (p.module != "" && strings.HasPrefix(pkg, p.module+"/")):
		return profile.KindOwn
	}
	return profile.KindLibrary
}

// goPackage returns the package path of a linker's name such as
// "example/score/slur.(*Router).Route": everything before the first dot
// after the last slash outside type arguments.
func goPackage(name string) string {
	plain, _, _ := strings.Cut(name, "[")
	slash := strings.LastIndexByte(plain, '/')
	if dot := strings.IndexByte(plain[slash+1:], '.'); dot >= 0 {
		return plain[:slash+1+dot]
	}
	return ""
}

// goName makes a linker's name readable: type arguments that the linker
// abbreviates as [go.shape…] become [...].
func goName(name string) string {
	open := strings.IndexByte(name, '[')
	end := strings.LastIndexByte(name, ']')
	if open < 0 || end < open {
		return name
	}
	return name[:open] + "[...]" + name[end+1:]
}
