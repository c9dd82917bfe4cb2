package launch

import (
	"bytes"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"
	"sync"
)

// WorkReader looks for a number in what a program prints, and hands everything on.
type WorkReader struct {
	to    io.Writer
	find  *regexp.Regexp
	mu    sync.Mutex
	line  []byte
	units float64
}

// longestLine is how much of one line is looked at.
const longestLine = 64 << 10

// NewWorkReader looks with an expression, whose only group, if it has one, is the number.
func NewWorkReader(to io.Writer, pattern string) (*WorkReader, error) {
	// Go's expressions take time in proportion to the text, whatever they are.
	find, err := regexp.Compile(pattern)
	if err != nil {
		return nil, fmt.Errorf("the expression for the units of work: %w", err)
	}
	if find.NumSubexp() > 1 {
		return nil, fmt.Errorf("%s: put one group in brackets, the number", pattern)
	}
	return &WorkReader{to: to, find: find}, nil
}

// Write implements io.Writer.
func (r *WorkReader) Write(b []byte) (int, error) {
	r.mu.Lock()
	for rest := b; ; {
		head, tail, ended := bytes.Cut(rest, []byte("\n"))
		if len(r.line) < longestLine {
			r.line = append(r.line, head[:min(len(head), longestLine-len(r.line))]...)
		}
		if !ended {
			break
		}
		r.look()
		rest = tail
	}
	r.mu.Unlock()
	return r.to.Write(b)
}

// look reads the number of a whole line; the last one that is found counts.
func (r *WorkReader) look() {
	if m := r.find.FindSubmatch(r.line); m != nil {
		text := strings.ReplaceAll(string(m[len(m)-1]), " ", "")
		if v, err := strconv.ParseFloat(text, 64); err == nil {
			r.units = v
		}
	}
	r.line = r.line[:0]
}

// Work is the number that was found last, 0 if none was.
func (r *WorkReader) Work() float64 {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.line) > 0 {
		r.look()
	}
	return r.units
}
