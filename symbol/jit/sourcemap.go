package jit

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"entelon/symbol/elfimage"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"sort"
	"strings"
)

// SourceMap leads from places in a generated script to those in the source
// that its author wrote: a source map of ECMA-426.
type SourceMap struct {
	sources  []string
	segments []segment // by line, then by column
}

type segment struct{ line, column, source, toLine, toColumn int32 }

// Bounds of a source map.
const (
	maxSourceMap = 64 << 20
	maxSegments  = 8 << 20
	mapTail      = 4 << 10 // of a script, where the reference to its map is
)

// ErrMapOutside is the error for a script that names a map outside its folder.
var ErrMapOutside = errors.New("its source map is outside its folder")

// OpenSourceMap finds and reads the map of the script in a file, which the
// program itself knows by the name of script. It returns nil where the script
// names none.
func OpenSourceMap(file, script string) (*SourceMap, error) {
	ref, err := mapReference(file)
	if err != nil || ref == "" {
		return nil, err
	}
	b, err := referenced(file, ref)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", script, err)
	}
	m, err := ParseSourceMap(b, filepath.Dir(script))
	if err != nil {
		return nil, fmt.Errorf("%s: its source map: %w", script, err)
	}
	return m, nil
}

// mapReference returns what the last line of the kind "//# sourceMappingURL="
// of a script says.
func mapReference(script string) (string, error) {
	f, err := elfimage.OpenRegular(script)
	if err != nil {
		return "", err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil || !st.Mode().IsRegular() {
		return "", err
	}
	const mark = "//# sourceMappingURL="
	b := make([]byte, min(st.Size(), mapTail))
	if _, err := f.ReadAt(b, st.Size()-int64(len(b))); err != nil {
		return "", err
	}
	i := bytes.LastIndex(b, []byte(mark))
	if i < 0 && st.Size() > mapTail && st.Size() <= maxSourceMap { // the map itself may be in the line
		b = make([]byte, st.Size())
		if n, err := f.ReadAt(b, 0); err != nil && n < len(b) {
			return "", err
		}
		i = bytes.LastIndex(b, []byte("\n"+mark))
	}
	if i < 0 {
		return "", nil
	}
	line, _, _ := bytes.Cut(bytes.TrimLeft(b[i:], "\n"), []byte("\n"))
	return strings.TrimSpace(strings.TrimPrefix(string(line), mark)), nil
}

// referenced reads the map that a script refers to: within the line, or a file
// in the script's folder or below.
func referenced(script, ref string) ([]byte, error) {
	if data, ok := strings.CutPrefix(ref, "data:"); ok {
		kind, text, _ := strings.Cut(data, ",")
		if strings.HasSuffix(kind, ";base64") {
			return base64.StdEncoding.DecodeString(text)
		}
		s, err := url.PathUnescape(text)
		return []byte(s), err
	}
	path, err := url.PathUnescape(ref)
	if err != nil || strings.Contains(ref, "://") {
		return nil, ErrMapOutside
	}
	if !filepath.IsLocal(path) {
		return nil, ErrMapOutside
	}
	// Links lead out of a folder, too, so the folder itself is what is opened.
	root, err := os.OpenRoot(filepath.Dir(script))
	if err != nil {
		return nil, err
	}
	defer root.Close()
	st, err := root.Stat(path)
	if err != nil {
		return nil, fmt.Errorf("its source map: %w", err)
	}
	if st.Size() > maxSourceMap || !st.Mode().IsRegular() {
		return nil, fmt.Errorf("its source map has %d MB, more than %d", st.Size()>>20, maxSourceMap>>20)
	}
	return root.ReadFile(path)
}

// ParseSourceMap reads a map; names of sources are taken relative to dir.
func ParseSourceMap(b []byte, dir string) (*SourceMap, error) {
	if len(b) > maxSourceMap {
		return nil, fmt.Errorf("it has %d MB, more than %d", len(b)>>20, maxSourceMap>>20)
	}
	var in struct {
		Version    int      `json:"version"`
		SourceRoot string   `json:"sourceRoot"`
		Sources    []string `json:"sources"`
		Mappings   string   `json:"mappings"`
	}
	if err := json.Unmarshal(b, &in); err != nil {
		return nil, err
	}
	if in.Version != 3 {
		return nil, fmt.Errorf("it is of version %d, not 3", in.Version)
	}
	m := &SourceMap{}
	for _, s := range in.Sources {
		s = strings.TrimPrefix(in.SourceRoot+s, "file://")
		if !filepath.IsAbs(s) && !strings.Contains(s, "://") {
			s = filepath.Join(dir, s)
		}
		m.sources = append(m.sources, s)
	}
	return m, m.read(in.Mappings)
}

// read decodes the mappings: lines divided by ";", segments by ",", each some
// numbers, as differences to those of the segment before.
func (m *SourceMap) read(text string) error {
	var now segment
	for line, group := range strings.Split(text, ";") {
		now.line, now.column = int32(line), 0
		for part := range strings.SplitSeq(group, ",") {
			if part == "" {
				continue
			}
			var fields [5]int32
			n := 0
			for part != "" && n < len(fields) {
				v, rest, ok := vlq(part)
				if !ok {
					return fmt.Errorf("line %d has something that is not a number", line+1)
				}
				fields[n], part = v, rest
				n++
			}
			now.column += fields[0]
			if n < 4 {
				continue // generated code that has no source
			}
			now.source += fields[1]
			now.toLine += fields[2]
			now.toColumn += fields[3]
			if now.source < 0 || int(now.source) >= len(m.sources) || now.toLine < 0 || now.column < 0 {
				return fmt.Errorf("line %d leads to source %d of %d", line+1, now.source, len(m.sources))
			}
			if len(m.segments) >= maxSegments {
				return fmt.Errorf("it has more than %d places", maxSegments)
			}
			m.segments = append(m.segments, now)
		}
	}
	sort.SliceStable(m.segments, func(i, j int) bool { return m.segments[i].before(m.segments[j].line, m.segments[j].column) })
	return nil
}

func (s segment) before(line, column int32) bool {
	return s.line < line || s.line == line && s.column < column
}

// vlq reads a number in base 64 with five bits a digit; the lowest bit of all
// is the sign.
func vlq(s string) (v int32, rest string, ok bool) {
	const digits = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/"
	var u uint32
	for shift := 0; len(s) > 0 && shift < 32; shift += 5 {
		d := strings.IndexByte(digits, s[0])
		if d < 0 {
			return 0, s, false
		}
		s = s[1:]
		u |= uint32(d&31) << shift
		if d&32 == 0 {
			if u&1 != 0 {
				return -int32(u >> 1), s, true
			}
			return int32(u >> 1), s, true
		}
	}
	return 0, s, false
}

// Find returns the source of a place of the script; line and column count
// from 1. ok is false where the map has none on that line.
func (m *SourceMap) Find(line, column uint32) (file string, toLine uint32, ok bool) {
	l, c := int32(line)-1, int32(column)-1
	i := sort.Search(len(m.segments), func(i int) bool { return !m.segments[i].before(l, c+1) })
	if i == 0 || m.segments[i-1].line != l {
		if i == len(m.segments) || m.segments[i].line != l {
			return "", 0, false
		}
		i++ // the first place of the line is behind it
	}
	s := m.segments[i-1]
	return m.sources[s.source], uint32(s.toLine) + 1, true
}
