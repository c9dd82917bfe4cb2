package stacks

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"path"
	"strconv"
	"strings"
	"unicode/utf8"

	"entelon/codec"
	"entelon/core/measure"
	"entelon/core/profile"
)

// Decoder reads what this package writes, and what other programs write so. Numbers
// are taken as they stand, whatever they count.
var Decoder = codec.Decoder{
	Name: "stacks", Ending: ".txt", Means: "distinct stacks, one a line, with a number each",
	Is: looksLikeStacks, Decode: Read,
}

// looksLikeStacks reports whether the first line is one of a stack.
func looksLikeStacks(head []byte) bool {
	line, _, whole := bytes.Cut(head, []byte("\n"))
	if !whole && len(head) >= codec.SniffBytes { // a line that is longer than what is seen
		return utf8.Valid(trimRune(line)) && bytes.IndexByte(line, ';') > 0 && bytes.IndexByte(line, 0) < 0
	}
	_, _, err := split(string(line))
	return err == nil
}

// trimRune leaves out the beginning of a character at the end.
func trimRune(b []byte) []byte {
	for range utf8.UTFMax - 1 {
		if r, n := utf8.DecodeLastRune(b); r != utf8.RuneError || n != 1 {
			break
		}
		b = b[:len(b)-1]
	}
	return b
}

var errLine = errors.New("a line has frames joined by semicolons, a space, and a whole number")

// split reads a line.
func split(line string) (frames []string, n int64, err error) {
	line = strings.TrimRight(line, "\r ")
	at := strings.LastIndexByte(line, ' ')
	if at <= 0 || !utf8.ValidString(line) || strings.ContainsRune(line, 0) {
		return nil, 0, errLine
	}
	if n, err = strconv.ParseInt(line[at+1:], 10, 64); err != nil || n < 0 {
		return nil, 0, errLine
	}
	return strings.Split(line[:at], ";"), n, nil
}

// longestLine bounds a line, in bytes.
const longestLine = 16 << 20

// Column is the measure that the numbers are read as.
var Column = measure.Column{Name: "counted", Label: "what was counted", Unit: measure.Count, Counted: true}

// perStack is about what a new stack, frame and function take, in bytes.
const perStack = 400

// Read reads folded stacks as a take without times, of a program that has the file's
// name. Lines that have the same stack are added up where they are shown. An error
// tells the line.
func Read(r io.Reader, name string, o codec.Options) (*profile.Take, error) {
	limits := o.Limits.OrDefault()
	b := profile.NewBuilder()
	b.Column(Column)
	base := path.Base(name)
	program := strings.TrimSuffix(base, path.Ext(base))
	thread := b.Thread(b.Process(0), 0)
	b.NameProcess(0, program)
	b.NameThread(thread, program)
	module := b.Module(profile.Module{Path: b.Intern("[" + program + "]"), Kind: profile.KindUnknown})
	lines := bufio.NewScanner(r)
	lines.Buffer(make([]byte, 0, 64<<10), longestLine)
	read, number, sum := int64(0), 0, int64(0)
	fail := func(err error) error { return fmt.Errorf("%s, line %d: %w", name, number, err) }
	for lines.Scan() {
		number++
		text := lines.Text()
		if read += int64(len(text)) + 1; read > limits.Unpacked {
			return nil, fail(codec.ErrTooLarge)
		}
		if strings.TrimSpace(text) == "" {
			continue
		}
		frames, n, err := split(text)
		if err != nil {
			return nil, fail(err)
		}
		if len(frames) > int(limits.Depth) {
			return nil, fail(fmt.Errorf("the stack has %d frames, and at most %d are read", len(frames), limits.Depth))
		}
		if sum += n; sum < 0 {
			return nil, fail(errors.New("the numbers add up to more than can be counted"))
		}
		stack := profile.StackID(0)
		for _, f := range frames {
			fn := b.Function(profile.Function{Name: b.Intern(f), Module: module})
			stack = b.Push(stack, b.Frame(profile.Frame{Function: fn}))
		}
		b.Sample(0, thread, stack, n)
		if p := b.Profile(); int64(p.Stacks.Len()+p.Samples.Len())*perStack+read > limits.Memory {
			return nil, fail(codec.ErrTooLarge)
		}
	}
	if err := lines.Err(); err != nil {
		number++
		return nil, fail(err)
	}
	p := b.Profile()
	p.Samples.Time = nil
	t := &profile.Take{
		Settings: profile.Settings{Program: program, Build: "unnamed", Measures: []string{}},
		Facts:    profile.Facts{Executable: name, Samples: int64(p.Samples.Len())},
		Profile:  p, Whole: true,
	}
	t.Facts.Warn("stacks", "This was read from a file of stacks: there are no times, threads or machine in it, and nothing is known about how it was counted.",
		"To learn how sure a difference is, compare takes.")
	return t, nil
}
