// Package replay keeps raw records together with all that was asked about them, so that
// they can be resolved again on any machine: for tests of what is hard to come by, and
// to measure what resolving costs.
//
// A Recorder stands between a resolver and its world and writes down what passes; a
// Recording is a world that answers from that. It is kept as compressed JSON. Nothing
// in it is trusted: it may hold anything, and an answer that is missing is none.
//
// A Recorder belongs to the goroutine of its resolver; a Recording is only read.
package replay

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/klauspost/compress/zstd"

	"entelon/core/measure"
	"entelon/core/profile"
	"entelon/resolve/raw"
	"entelon/runtimes/python"
	"entelon/symbol"
)

// Recording is what a source gave in one collection, and what was answered.
type Recording struct {
	Columns []measure.Column // of the profile
	Origin  uint64           // when the take began
	Records []Record

	Mappings map[uint32][]raw.Mapping // by process
	Threads  map[string]string        // names, by process and thread
	Modules  []*Module
	Kernel   map[uint64]Named // names of addresses
	Made     map[string]Piece // code made at run time, by process, address and time
	Memory   map[string][]byte
}

// Record is a raw record, and when it was handed over.
type Record struct {
	raw.Record
	Early  bool
	Column int // of the profile, in which a sample counts
}

// Named is an address of the kernel.
type Named struct {
	symbol.Location
	Module string
}

// Piece is a piece of code made at run time; without a name there was none.
type Piece struct {
	Name  string
	Start uint64
}

// Module is what was asked of one module.
type Module struct {
	Mapping  raw.Mapping // the first of it
	Kind     profile.ModuleKind
	BuildID  string
	Readable bool
	Places   map[uint64]uint64            // addresses in the module's own space, by place in the file
	Located  map[uint64][]symbol.Location // by address
	Rules    []byte                       // a part of its table, as package unwind keeps them
	Go       *symbol.GoRuntime
	Python   *python.Interpreter
	Fault    string // why Python cannot be read
}

// maxBytes is the most that a recording has uncompressed.
const maxBytes = 256 << 20

// Write writes it to a file.
func (r *Recording) Write(path string) (err error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	z, err := zstd.NewWriter(f, zstd.WithEncoderLevel(zstd.SpeedBestCompression))
	if err != nil {
		return err
	}
	return errors.Join(json.NewEncoder(z).Encode(r), z.Close())
}

// Read reads a recording from a file.
func Read(path string) (*Recording, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	z, err := zstd.NewReader(f, zstd.WithDecoderMaxMemory(maxBytes))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	defer z.Close()
	var r Recording
	if err := json.NewDecoder(io.LimitReader(z, maxBytes)).Decode(&r); err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return &r, nil
}
