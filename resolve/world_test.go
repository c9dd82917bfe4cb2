package resolve

import (
	"fmt"

	"entelon/core/profile"
	"entelon/resolve/raw"
	"entelon/runtimes/python"
	"entelon/symbol"
	"entelon/symbol/instructions"
	"entelon/symbol/jit"
	"entelon/unwind"
)

// testWorld knows a few modules by name, and nothing else.
type testWorld map[string]*testModule

func (testWorld) Mappings(uint32) []raw.Mapping        { return nil }
func (testWorld) ThreadName(uint32, uint32) string     { return "" }
func (testWorld) Leave(Module)                         {}
func (testWorld) Memory(uint32, uint64, int) []byte    { return nil }
func (testWorld) MadeCode(pid uint32, _ bool) MadeCode { return testCode(pid) }
func (w testWorld) Module(_ uint32, m *raw.Mapping) Module {
	if x := w[m.Name]; x != nil {
		return x
	}
	return &testModule{name: m.Name}
}

func (testWorld) Kernel(address uint64) (symbol.Location, string) {
	return symbol.Location{Name: fmt.Sprintf("[kernel]+0x%x", address), Unnamed: true}, "[kernel]"
}

// testModule has functions of 256 bytes each, the first at its beginning, by name.
type testModule struct {
	name      string
	kind      profile.ModuleKind
	functions []string
	table     *unwind.Table
	ready     chan struct{} // nil: its names are there
}

func (m *testModule) Name() string                     { return m.name }
func (m *testModule) Kind() profile.ModuleKind         { return m.kind }
func (m *testModule) BuildID() string                  { return "" }
func (m *testModule) Readable() bool                   { return m.functions != nil || m.table != nil }
func (m *testModule) Table() *unwind.Table             { return m.table }
func (m *testModule) Instructions() *instructions.Code { return nil }
func (m *testModule) Go() *symbol.GoRuntime            { return nil }
func (m *testModule) Python() *python.Interpreter      { return nil }
func (m *testModule) Await()                           { <-m.ready }
func (m *testModule) Address(o uint64) (uint64, bool)  { return o + 0x400000, true }

func (m *testModule) Locate(address uint64) []symbol.Location {
	i := int(address-0x400000) / 256
	if i >= len(m.functions) {
		return []symbol.Location{{Name: "nowhere", Unnamed: true}}
	}
	return []symbol.Location{{Name: m.functions[i]}}
}

func (m *testModule) Coming() bool {
	select {
	case <-m.ready:
		return false
	default:
		return m.ready != nil
	}
}

// testCode is code made at run time without names.
type testCode uint32

func (testCode) Find(uint64, uint64) (string, uint64, bool) { return "", 0, false }
func (testCode) Coming(uint64) bool                         { return false }
func (testCode) Await(uint64)                               {}
func (testCode) SourceMap(string) *jit.SourceMap            { return nil }
func (testCode) Leave()                                     {}

func newTestResolver(b *profile.Builder, facts *profile.Facts) *Resolver {
	return New(b, facts, testWorld{})
}

func newTestProcesses() *Processes { return newProcesses(profile.NewBuilder(), testWorld{}) }
