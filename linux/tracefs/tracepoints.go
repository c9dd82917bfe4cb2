// Package tracefs is the kernel's list of tracepoints, with the places of the fields
// in their records, and of the probes in programs that are counted as such.
//
// A List and its Probes belong to one goroutine.
package tracefs

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"sort"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"entelon/linux"
)

// ErrTracepoint says that the kernel has no tracepoint of a name, or that its
// tracepoints cannot be looked up.
var ErrTracepoint = errors.New("there is no such tracepoint")

// List is the kernel's file system that lists its tracepoints. Where it is
// not mounted, it is opened without being mounted: nobody else sees it, and it
// is gone when it is closed.
type List struct{ dir *os.File }

// Open opens the list. Its errors wrap linux.ErrNotAllowed.
func Open() (*List, error) {
	for _, path := range []string{"/sys/kernel/tracing", "/sys/kernel/debug/tracing"} {
		if d, err := os.Open(path); err == nil {
			if fd, err := unix.Openat(int(d.Fd()), "events", unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0); err == nil {
				return &List{d}, unix.Close(fd)
			}
			if err := d.Close(); err != nil {
				return nil, err
			}
		}
	}
	fail := func(err error) (*List, error) {
		return nil, fmt.Errorf("opening the kernel's list of tracepoints: %w (%w)", err, linux.ErrNotAllowed)
	}
	fs, err := unix.Fsopen("tracefs", unix.FSOPEN_CLOEXEC)
	if err != nil {
		return fail(err)
	}
	defer unix.Close(fs)
	if err := unix.FsconfigCreate(fs); err != nil {
		return fail(err)
	}
	fd, err := unix.Fsmount(fs, unix.FSMOUNT_CLOEXEC, unix.MOUNT_ATTR_NOSUID|unix.MOUNT_ATTR_NODEV|unix.MOUNT_ATTR_NOEXEC)
	if err != nil {
		return fail(err)
	}
	return &List{os.NewFile(uintptr(fd), "tracefs")}, nil
}

// Close lets it go; where it was opened without being mounted, it is gone.
func (t *List) Close() error { return t.dir.Close() }

// Read returns the text of a file of the list.
func (t *List) Read(path string) (string, error) {
	fd, err := unix.Openat(int(t.dir.Fd()), path, unix.O_RDONLY|unix.O_CLOEXEC, 0)
	if err != nil {
		return "", err
	}
	f := os.NewFile(uintptr(fd), path)
	defer f.Close()
	b, err := io.ReadAll(f)
	return string(b), err
}

// Tracepoint is one tracepoint: its number, and where the fields of its record are.
type Tracepoint struct {
	ID     uint64
	Fields map[string]Field
}

// Field is a place in a tracepoint's record, in bytes.
type Field struct {
	Offset, Size int
	Signed       bool
	Text         bool // letters, up to one that is 0
	Elsewhere    bool // the place is that of a text's own place in the record: its offset, and above that its length
	Pointer      bool // an address
	Array        bool // of something else than letters
}

// Find looks a tracepoint up.
func (t *List) Find(group, name string) (Tracepoint, error) {
	for _, part := range []string{group, name} {
		// It becomes a path, which must not lead elsewhere.
		if strings.Trim(part, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-") != "" || part == "" {
			return Tracepoint{}, fmt.Errorf("%s:%s: %w", group, name, ErrTracepoint)
		}
	}
	dir := "events/" + group + "/" + name
	fail := func(err error) (Tracepoint, error) {
		if errors.Is(err, os.ErrNotExist) {
			return Tracepoint{}, fmt.Errorf("%s:%s: %w", group, name, ErrTracepoint)
		}
		return Tracepoint{}, fmt.Errorf("looking up the tracepoint %s:%s: %w", group, name, err)
	}
	text, err := t.Read(dir + "/id")
	if err != nil {
		return fail(err)
	}
	id, err := strconv.ParseUint(strings.TrimSpace(text), 10, 64)
	if err != nil {
		return fail(err)
	}
	if text, err = t.Read(dir + "/format"); err != nil {
		return fail(err)
	}
	return Tracepoint{id, ParseFields(text)}, nil
}

// ParseFields reads lines such as
//
//	field:pid_t pid;	offset:24;	size:4;	signed:1;
func ParseFields(format string) map[string]Field {
	out := map[string]Field{}
	for _, line := range strings.Split(format, "\n") {
		decl, rest, ok := strings.Cut(strings.TrimSpace(line), ";")
		if !ok || !strings.HasPrefix(decl, "field:") {
			continue
		}
		kind, name := decl[:strings.LastIndexByte(decl, ' ')+1], decl[strings.LastIndexByte(decl, ' ')+1:]
		name, _, array := strings.Cut(name, "[")
		f := Field{Elsewhere: strings.Contains(kind, "__data_loc"), Pointer: strings.Contains(kind, "*") && !strings.Contains(kind, "[")}
		letters := strings.Contains(kind, "char")
		f.Text = letters && (array || f.Elsewhere)
		f.Array = (array || f.Elsewhere || strings.Contains(kind, "__rel_loc")) && !f.Text
		for _, part := range strings.Split(rest, ";") {
			k, v, _ := strings.Cut(strings.TrimSpace(part), ":")
			n, err := strconv.Atoi(v)
			if err != nil {
				continue
			}
			switch k {
			case "offset":
				f.Offset = n
			case "size":
				f.Size = n
			case "signed":
				f.Signed = n != 0
			}
		}
		if name != "" && f.Size > 0 {
			out[name] = f
		}
	}
	return out
}

// Number reads a field as a number; ok is false where the record is too short.
func (f Field) Number(raw []byte) (v uint64, ok bool) {
	if f.Size > 8 || f.Offset < 0 || f.Offset+f.Size > len(raw) {
		return 0, false
	}
	var b [8]byte
	copy(b[:], raw[f.Offset:f.Offset+f.Size]) // the machines that are sampled here are little-endian
	return binary.NativeEndian.Uint64(b[:]), f.Size > 0
}

// Value reads a field as a number with its sign; ok is false where the record is too short.
func (f Field) Value(raw []byte) (v int64, ok bool) {
	u, ok := f.Number(raw)
	if unused := 64 - 8*f.Size; ok && f.Signed && unused > 0 {
		return int64(u<<unused) >> unused, true
	}
	return int64(u), ok
}

// String reads a field as a text; ok is false where the record is too short, or the field is no text.
func (f Field) String(raw []byte) (text string, ok bool) {
	from, size := f.Offset, f.Size
	if f.Elsewhere {
		place, ok := f.Number(raw)
		if !ok {
			return "", false
		}
		from, size = int(place&0xffff), int(place>>16&0xffff)
	}
	if !f.Text || from < 0 || from > len(raw) {
		return "", false
	}
	return strings.ToValidUTF8(unix.ByteSliceToString(raw[from:min(len(raw), from+size)]), "?"), true
}

// NamedField is a field with its name.
type NamedField struct {
	Name string
	Field
}

// Ordered are the fields in the order in which the record has them.
func (t Tracepoint) Ordered() []NamedField {
	out := make([]NamedField, 0, len(t.Fields))
	for name, f := range t.Fields {
		out = append(out, NamedField{name, f})
	}
	slices.SortFunc(out, func(a, b NamedField) int { return cmp.Or(cmp.Compare(a.Offset, b.Offset), cmp.Compare(a.Name, b.Name)) })
	return out
}

// RoomForTexts is what texts that lie behind a record's fields may need.
const RoomForTexts = 256

// Length is how long a tracepoint's record is, with room for texts behind its fields if it has any.
func (t Tracepoint) Length() int {
	n, more := 0, 0
	for _, f := range t.Fields {
		n = max(n, f.Offset+f.Size)
		if f.Elsewhere {
			more = RoomForTexts
		}
	}
	return n + more
}

// Named is a tracepoint by its name.
type Named struct{ Group, Name string }

// All lists the tracepoints of this kernel, by group and name, without those that the
// kernel does not hand over as events.
func (t *List) All() (out []Named, err error) {
	groups, err := t.names("events")
	if err != nil {
		return nil, err
	}
	for _, g := range groups {
		names, err := t.names("events/" + g)
		if err != nil {
			continue // a file among the folders
		}
		for _, n := range names {
			if _, err := t.Read("events/" + g + "/" + n + "/id"); err == nil {
				out = append(out, Named{g, n})
			}
		}
	}
	return out, nil
}

// names lists a folder.
func (t *List) names(path string) ([]string, error) {
	fd, err := unix.Openat(int(t.dir.Fd()), path, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, fmt.Errorf("reading the kernel's list of tracepoints: %w", err)
	}
	d := os.NewFile(uintptr(fd), path)
	defer d.Close()
	names, err := d.Readdirnames(-1)
	sort.Strings(names)
	return names, err
}
