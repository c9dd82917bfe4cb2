package symbol

import (
	"bytes"
	"debug/buildinfo"
	"entelon/symbol/elfimage"
	"strings"
)

// Identity is what a binary tells about the build that it is.
type Identity struct {
	BuildID  string // the linker's identity, hexadecimal, "" if none
	Revision string // version-control revision, "" if the binary does not tell
	Modified bool   // built from files that differed from that revision
	// Unoptimised says by which word of the compiler one sees that the binary was
	// not built for speed; "" where nothing tells so.
	Unoptimised string
}

// Identify reads a binary's identity. Its error says why the file could not
// be read as an object at all.
func Identify(path string) (Identity, error) {
	f, err := elfimage.OpenRegular(path)
	if err != nil {
		return Identity{}, err
	}
	defer f.Close()
	im, err := elfimage.OpenImage(f, path)
	if err != nil {
		return Identity{}, err
	}
	defer im.Close()
	id := Identity{BuildID: buildID(im.ELF), Unoptimised: unoptimised(im)}
	if info, err := buildinfo.Read(f); err == nil {
		for _, s := range info.Settings {
			switch s.Key {
			case "vcs.revision":
				id.Revision = s.Value
			case "-gcflags":
				for _, w := range strings.FieldsFunc(s.Value, func(r rune) bool { return r == ' ' || r == '=' }) {
					if w == "-N" {
						id.Unoptimised = "-gcflags " + s.Value
					}
				}
			case "vcs.modified":
				id.Modified = s.Value == "true"
			}
		}
	}
	return id, nil
}

// unoptimised reads what the compiler noted of its own options: GCC writes
// them, behind its name, for every unit. The units without optimisation must be
// the most, since the C library's own start code is among them.
func unoptimised(im *elfimage.Image) string {
	const largest = 512 << 20
	var slow, fast int
	for _, name := range []string{"str", "line_str"} {
		s := im.ELF.Section(".debug_" + name)
		if s == nil || s.Size > largest {
			continue
		}
		b, err := im.DebugSection(name)
		if err != nil {
			continue
		}
		for {
			i := bytes.Index(b, []byte("GNU C"))
			if i < 0 {
				break
			}
			b = b[i:]
			producer, rest, _ := bytes.Cut(b, []byte{0})
			if b = rest; !bytes.Contains(producer, []byte(" -m")) {
				continue // without its options
			}
			// The last one counts.
			at := bytes.LastIndex(producer, []byte(" -O"))
			if at < 0 || bytes.HasPrefix(producer[at:], []byte(" -O0")) {
				slow++
			} else {
				fast++
			}
		}
	}
	if slow > fast {
		return "-O0"
	}
	return ""
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
