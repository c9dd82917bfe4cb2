package symbol

import (
	"debug/buildinfo"
	"os"
)

// Identity is what a binary tells about the build that it is.
type Identity struct {
	BuildID  string // the linker's identity, hexadecimal, "" if none
	Revision string // version-control revision, "" if the binary does not tell
	Modified bool   // built from files that differed from that revision
}

// Identify reads a binary's identity. Its error says why the file could not
// be read as an object at all.
func Identify(path string) (Identity, error) {
	f, err := os.Open(path)
	if err != nil {
		return Identity{}, err
	}
	defer f.Close()
	im, err := openImage(f, path)
	if err != nil {
		return Identity{}, err
	}
	defer im.close()
	id := Identity{BuildID: buildID(im.elf)}
	if info, err := buildinfo.Read(f); err == nil {
		for _, s := range info.Settings {
			switch s.Key {
			case "vcs.revision":
				id.Revision = s.Value
			case "vcs.modified":
				id.Modified = s.Value == "true"
			}
		}
	}
	return id, nil
}

// Name is the build's name where the user gave none: the revision's first
// twelve digits, or the build ID's, or "unnamed".
func (id Identity) Name() string {
	short := func(s string) string { return s[:min(12, len(s))] }
	switch {
	case id.Revision != "" && id.Modified:
		return short(id.Revision) + "+changes"
	case id.Revision != "":
		return short(id.Revision)
	case id.BuildID != "":
		return short(id.BuildID)
	}
	return "unnamed"
}
