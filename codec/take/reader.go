package take

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"

	"github.com/klauspost/compress/zstd"

	"entelon/codec"
	"entelon/core/profile"
)

// Limits and Options say how a file is read, as of every format.
type (
	Limits  = codec.Limits
	Options = codec.Options
)

// DefaultLimits are those of every format.
var DefaultLimits = codec.DefaultLimits

// What blocks of JSON may have unpacked, in bytes: their values take a multiple
// of that in memory.
const (
	maxHead  = 8 << 20
	maxFacts = 8 << 20
)

// ReadFile reads the take in a file.
func ReadFile(path string, o Options) (*profile.Take, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return Read(f, path, o)
}

// Read reads a take; name stands in its errors, which are of type *Error
// unless r itself failed. A take whose writer was ended between two blocks is
// returned with Whole unset and a warning that says so.
func Read(r io.Reader, name string, o Options) (*profile.Take, error) {
	o.Limits = o.Limits.OrDefault()
	d := &reader{r: r, name: name, o: o, take: &profile.Take{Profile: &profile.Profile{}}}
	d.room = allowance{left: o.Limits.Memory, deepest: o.Limits.Depth}
	if err := d.fileHeader(); err != nil {
		return nil, err
	}
	err := d.blocks()
	var broken *Error
	if errors.As(err, &broken) && o.Salvage && (broken.Reason == CutOff || broken.Reason == Damaged) && d.usable() {
		d.take.Facts.Warn("salvaged", salvaged(broken), "Copy the file again from where it came.")
		err = nil
	}
	if err != nil {
		return nil, err
	}
	return d.finish(d.take)
}

func salvaged(e *Error) string {
	return fmt.Sprintf("The file is broken at byte %d; only the %d blocks before that place were read.", e.Offset, e.Block)
}

type reader struct {
	r        io.Reader
	name     string
	o        Options
	version  uint32
	offset   int64
	sequence uint32
	unpacked int64
	buffer   bytes.Buffer
	stored   []byte // in the buffer
	raw      []byte
	dec      *zstd.Decoder
	take     *profile.Take
	headSeen bool
	source   int // bytes of source files
	samples  int // in the block before, where that has samples without labels so far
	room     allowance
	begin    int64 // where the first block of intervals is; 0: there was none
}

// maxSource bounds the source files that a take brings, in bytes.
const maxSource = 64 << 20

func (d *reader) fault(reason Reason, what string, cause error) error {
	return &Error{Reason: reason, Name: d.name, Offset: d.offset, Block: int(d.sequence), What: what, Cause: cause}
}

func (d *reader) usable() bool {
	return d.headSeen && d.take.Profile.Samples.Len() > 0 && d.take.Profile.Check() == nil
}

func (d *reader) fileHeader() error {
	var b [fileHeaderSize]byte
	n, err := io.ReadFull(d.r, b[:])
	switch {
	case err == io.EOF:
		return d.fault(Empty, "the file is empty", nil)
	case err == io.ErrUnexpectedEOF && bytes.HasPrefix(magic[:], b[:min(n, len(magic))]):
		return d.fault(CutOff, "the take ends in its header", nil)
	case err != nil && err != io.ErrUnexpectedEOF:
		return fmt.Errorf("reading %s: %w", d.name, err)
	case !bytes.Equal(b[:8], magic[:]):
		return d.fault(NotATake, "this is not a take", nil)
	case binary.LittleEndian.Uint32(b[12:]) != crc32.Checksum(b[:12], castagnoli):
		return d.fault(Damaged, "the take's header is damaged", nil)
	}
	if v := binary.LittleEndian.Uint32(b[8:]); v > current || v == 0 {
		return d.fault(Newer, fmt.Sprintf("the take is in format %d; this Entelon reads formats 1 to %d", v, current), nil)
	}
	d.version = binary.LittleEndian.Uint32(b[8:])
	d.offset = fileHeaderSize
	return nil
}

// unpack prepares to unpack blocks.
func (d *reader) unpack() (err error) {
	d.dec, err = zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(uint64(d.o.Limits.Block)+1<<16))
	if err != nil {
		return fmt.Errorf("preparing to unpack: %w", err)
	}
	return nil
}

func (d *reader) blocks() error {
	if err := d.unpack(); err != nil {
		return err
	}
	defer d.dec.Close()
	for {
		ended, err := d.block()
		if err != nil || ended {
			return err
		}
	}
}

// block reads one block; ended is set after the closing one, and where the
// file ends between two blocks.
func (d *reader) block() (ended bool, err error) {
	var hb [blockHeaderSize]byte
	switch _, err := io.ReadFull(d.r, hb[:]); {
	case err == io.EOF:
		return true, nil
	case err == io.ErrUnexpectedEOF:
		return false, d.fault(CutOff, "the take is cut off", nil)
	case err != nil:
		return false, fmt.Errorf("reading %s: %w", d.name, err)
	}
	h, ok := decodeBlockHeader(&hb)
	if !ok || h.sequence != d.sequence {
		return false, d.fault(Damaged, "the take is damaged", errors.New("the head of a block is broken"))
	}
	d.unpacked += int64(h.raw)
	if h.raw > d.o.Limits.Block || h.stored > d.o.Limits.Block || d.unpacked > d.o.Limits.Unpacked {
		return false, d.fault(TooLarge, fmt.Sprintf("the take unpacks to more than %d MB", d.o.Limits.Unpacked>>20), nil)
	}
	if err := d.payload(h); err != nil {
		return false, err
	}
	if err := d.apply(h.kind); err != nil {
		if errors.Is(err, errNoRoom) {
			return false, d.fault(TooLarge, fmt.Sprintf("the take needs more than %d MB of memory", d.o.Limits.Memory>>20), nil)
		}
		if errors.Is(err, errDeep) {
			return false, d.fault(TooLarge, fmt.Sprintf("the take has a stack of more than %d frames", d.o.Limits.Depth), nil)
		}
		return false, d.fault(Damaged, "the take is damaged", err)
	}
	d.offset += blockHeaderSize + int64(h.stored)
	d.sequence++
	if h.kind != blockEnd {
		return false, nil
	}
	d.take.Whole = true
	var one [1]byte
	if n, err := io.ReadFull(d.r, one[:]); n != 0 {
		return false, d.fault(Damaged, "the take is damaged", errors.New("bytes follow its closing block"))
	} else if err != io.EOF {
		return false, fmt.Errorf("reading %s: %w", d.name, err)
	}
	return true, nil
}

// payload reads and unpacks a block's bytes. The buffer grows with what
// really comes, not with what the header announces.
func (d *reader) payload(h blockHeader) error {
	b := &d.buffer
	b.Reset()
	b.Grow(int(min(h.stored, 1<<20)))
	n, err := io.CopyN(b, d.r, int64(h.stored))
	if err == io.EOF && n < int64(h.stored) {
		return d.fault(CutOff, "the take is cut off", nil)
	} else if err != nil {
		return fmt.Errorf("reading %s: %w", d.name, err)
	}
	d.stored = b.Bytes()
	if crc32.Checksum(d.stored, castagnoli) != h.sum {
		return d.fault(Damaged, "the take is damaged", errors.New("a block's checksum does not match"))
	}
	d.raw, err = d.dec.DecodeAll(d.stored, d.raw[:0])
	if err != nil || len(d.raw) != int(h.raw) {
		return d.fault(Damaged, "the take is damaged", errors.New("a block does not unpack"))
	}
	return nil
}

// more is how much of the file is left for each byte of blocks of intervals, as far as that is known: of what
// came since the first of these, such blocks are a share.
func (d *reader) more() float64 {
	var left int64
	switch r := d.r.(type) {
	case interface{ Len() int }:
		left = int64(r.Len())
	case *os.File:
		if st, err := r.Stat(); err == nil && st.Mode().IsRegular() {
			left = st.Size() - d.offset - int64(len(d.stored))
		}
	}
	came := d.offset + int64(len(d.stored)) - d.begin
	return max(0, float64(left)) / float64(max(1, came))
}

func (d *reader) apply(kind blockKind) error {
	if d.headSeen != (kind != blockHead) {
		return errors.New("the head is not the first block")
	}
	unlabelled := d.samples
	d.samples = 0
	if most := map[blockKind]int{blockHead: maxHead, blockFacts: maxFacts}[kind]; most > 0 && len(d.raw) > most {
		return fmt.Errorf("a block of settings or facts has more than %d MB", most>>20)
	}
	switch kind {
	case blockHead:
		var h head
		if err := json.Unmarshal(d.raw, &h); err != nil {
			return fmt.Errorf("its head: %w", err)
		}
		d.take.Settings, d.take.Machine, d.headSeen = h.Settings, h.Machine, true
	case blockTables:
		return readTables(d.raw, d.take.Profile, &d.room, d.version)
	case blockSamples:
		before := d.take.Profile.Samples.Len()
		err := readSamples(d.raw, d.take.Profile, &d.room, d.version)
		d.samples = d.take.Profile.Samples.Len() - before
		return err
	case blockLabels:
		return readLabels(d.raw, d.take.Profile, &d.room, unlabelled)
	case blockIntervals:
		if d.begin == 0 {
			d.begin = d.offset
		}
		return readIntervals(d.raw, d.take.Profile, &d.room, d.version, d.more())
	case blockFacts:
		d.take.Facts = profile.Facts{}
		if err := json.Unmarshal(d.raw, &d.take.Facts); err != nil {
			return fmt.Errorf("its facts: %w", err)
		}
	case blockSource:
		var s profile.Source
		if err := json.Unmarshal(d.raw, &s); err != nil {
			return fmt.Errorf("a source file: %w", err)
		}
		if d.source += len(s.Text) + len(s.Path) + 64; d.source > maxSource {
			return fmt.Errorf("it brings more than %d MB of source", maxSource>>20)
		}
		d.take.Sources = append(d.take.Sources, s)
	case blockEnd:
		c := &cursor{b: d.raw}
		blocks, samples, intervals := c.uint(), c.uint(), uint64(0)
		if d.version >= Version9 {
			intervals = c.uint()
		}
		p := d.take.Profile
		if c.end() != nil || blocks != uint64(d.sequence) || samples != uint64(p.Samples.Len()) || intervals != uint64(p.Intervals.Len()) {
			return errors.New("the closing block has other counts")
		}
	default:
		return fmt.Errorf("a block is of the unknown kind %d", kind)
	}
	return nil
}

// finish completes what was read.
func (d *reader) finish(t *profile.Take) (*profile.Take, error) {
	if !d.headSeen || len(t.Profile.Measures) == 0 {
		return nil, d.fault(NoSamples, "the take ends before anything was kept", nil)
	}
	if err := t.Profile.Check(); err != nil {
		return nil, d.fault(Damaged, "the take is damaged", err)
	}
	if !t.Whole {
		_, last := t.Profile.Span()
		t.Facts.DurationNS = max(t.Facts.DurationNS, last)
		t.Facts.Samples = int64(t.Profile.Samples.Len())
		t.Facts.EndedBy = "broken off"
		t.Facts.Warn("unfinished", fmt.Sprintf("The collector was ended before it could close this take; the first %.1f s are here.", float64(last)/1e9),
			"Take it again if the rest matters.")
	}
	return t, nil
}
