package python

import (
	"encoding/binary"
	"fmt"
	"path"
	"strings"

	"entelon/core/profile"
	"entelon/symbol"
)

// Interpreter is what a module tells that holds the CPython interpreter.
type Interpreter struct {
	Layout Layout
	First  uint64 // of the pointer to the first interpreter state, in the module's own address space
	Start  uint64 // lowest address of its code
	Err    error  // why its frames cannot be read
}

// Find looks for the interpreter in an object; it returns nil where
// it is not there.
func Find(o *symbol.Object) *Interpreter {
	const runtimeSection = ".PyRuntime" // since 3.13, also in stripped files
	runtime, named := o.Variable("_PyRuntime")
	if !named {
		if runtime, named = o.Section(runtimeSection); !named {
			return lostCPython(o)
		}
	}
	c := &Interpreter{}
	head := o.Bytes(runtime, OffsetsSize)
	var v Version
	if at, ok := o.Variable("Py_Version"); ok {
		if b := o.Bytes(at, 8); b != nil {
			v = Version(binary.LittleEndian.Uint64(b))
		}
	} else if p := Published(head); p != 0 {
		v = p
	}
	if c.Layout, c.Err = LayoutOf(v, head); v == 0 {
		c.Err = fmt.Errorf("%s is a version before 3.11", o.Path)
	}
	c.First = runtime + c.Layout.Interpreters
	c.Start, _ = o.CodeStart()
	return c
}

// lostCPython recognises by its file's name an interpreter without symbols.
func lostCPython(o *symbol.Object) *Interpreter {
	name := path.Base(o.Path)
	_, hasMain := o.Variable("Py_Main")
	switch {
	case hasMain:
		return &Interpreter{Err: fmt.Errorf("%s is a version before 3.11", o.Path)}
	case ((Runtime{}).Executable(name) || (Runtime{}).Library(name)) && !o.Mentions("_PyRuntime") && !o.Mentions("Py_BytesMain") && !o.Mentions("Py_Main"):
		return &Interpreter{Err: fmt.Errorf("%s: its symbols were stripped, so its state cannot be found", o.Path)}
	}
	return nil
}

// KindOf tells whose code a Python file holds.
func KindOf(file string) profile.ModuleKind {
	switch {
	case strings.HasPrefix(file, "<frozen "):
		return profile.KindRuntime
	case strings.Contains(file, "/site-packages/"), strings.Contains(file, "/dist-packages/"):
		return profile.KindLibrary
	case strings.Contains(file, "/lib/python"):
		return profile.KindRuntime // its standard library
	}
	return profile.KindOwn
}

// CodeFrom reads a code object by its identity; nil where its parts are not what they
// should be.
func CodeFrom(l *Layout, id Identity, first uint32, name, file, table []byte) *Code {
	if c, ok := NewCode(l, id.Address, first, name, file, table); ok {
		return &c
	}
	return nil
}
