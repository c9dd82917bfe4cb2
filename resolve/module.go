package resolve

import (
	"entelon/core/profile"
	"entelon/resolve/raw"
	"entelon/unwind"
)

// module is a module with the frames that were found in it.
type module struct {
	Module
	frames map[unwind.Step][]profile.FrameID // by address in the object
	id     profile.ModuleID
	idSet  bool
	unused bool // no process had it mapped when the window before ended
}

// moduleKey tells files apart that have one name, in one folder after the
// other or in several mount namespaces.
type moduleKey struct {
	name     string
	inode    uint64
	maj, min uint32 // the device
}

// modules knows every module of a collection.
type modules struct {
	world World
	known map[moduleKey]*module
}

// get returns the module that a process has mapped.
func (ms *modules) get(pid uint32, m *raw.Mapping) *module {
	key := moduleKey{m.Name, m.Inode, m.Major, m.Minor}
	if m := ms.known[key]; m != nil {
		return m
	}
	mod := newModule(ms.world.Module(pid, m))
	ms.known[key] = mod
	return mod
}

func newModule(m Module) *module {
	return &module{Module: m, frames: map[unwind.Step][]profile.FrameID{}}
}
