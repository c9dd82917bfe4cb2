// Package formats is the list of all formats: what a take can be written as, and what
// is read as a take.
//
// The lists are not changed after the program began.
package formats

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"entelon/codec"
	"entelon/codec/data"
	"entelon/codec/picture"
	"entelon/codec/report"
	"entelon/codec/stacks"
	"entelon/codec/table"
	"entelon/codec/take"
	"entelon/core/profile"
)

// Encoders are what a take can be written as.
var Encoders = []codec.Encoder{report.Encoder, picture.Encoder, table.Encoder, stacks.Encoder, data.Encoder, take.Encoder}

// Decoders are what is read as a take. The first that knows a file's first bytes reads
// it.
var Decoders = []codec.Decoder{take.Decoder, stacks.Decoder}

// ErrNone means that a format is not in the list.
var ErrNone = errors.New("there is no such format")

// Named returns the Encoder that people call so.
func Named(name string) (codec.Encoder, error) {
	for _, e := range Encoders {
		if e.Name == name {
			return e, nil
		}
	}
	return codec.Encoder{}, fmt.Errorf("%s: %w; choose %s", name, ErrNone, Names())
}

// ForFile returns the Encoder for a file's ending.
func ForFile(path string) (codec.Encoder, error) {
	ending := strings.ToLower(filepath.Ext(path))
	for _, e := range Encoders {
		if e.Ending == ending {
			return e, nil
		}
	}
	return codec.Encoder{}, fmt.Errorf("%s: %w by its ending", path, ErrNone)
}

// Names lists the names of the Encoders for people.
func Names() string {
	var names []string
	for _, e := range Encoders {
		names = append(names, e.Name)
	}
	return Either(names)
}

// Endings lists the endings of their files.
func Endings() string {
	var endings []string
	for _, e := range Encoders {
		endings = append(endings, e.Ending)
	}
	return Either(endings)
}

// Either joins words with commas and an or.
func Either(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}

// Read reads a take in whichever format it is. What is in none of them is read as a
// take, whose errors say what it is instead.
func Read(r io.Reader, name string, o codec.Options) (*profile.Take, error) {
	b := bufio.NewReaderSize(r, 64<<10)
	head, err := b.Peek(codec.SniffBytes)
	if err != nil && err != io.EOF {
		return nil, fmt.Errorf("reading %s: %w", name, err)
	}
	for _, d := range Decoders {
		if d.Is(head) {
			return d.Decode(b, name, o)
		}
	}
	return Decoders[0].Decode(b, name, o)
}

// ReadFile does the same of a file.
func ReadFile(path string, o codec.Options) (*profile.Take, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return Read(f, path, o)
}
