package take

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"hash/crc32"
	"io"

	"github.com/klauspost/compress/zstd"

	"entelon/core/profile"
)

// samplesPerBlock bounds a block, so that a reader needs little memory at a time.
const samplesPerBlock = 1 << 18

// tick is the resolution of times in the file, in nanoseconds.
const tick = 1000

// Writer writes one take, block by block. Each block goes out in one call to
// Write of the underlying writer.
type Writer struct {
	w        io.Writer
	enc      *zstd.Encoder
	sequence uint32
	samples  uint64
	buf      []byte
	out      []byte
	mark     mark
}

// mark is how much of the growing profile is in the file already.
type mark struct {
	strings, modules, functions, frames, stacks int
	processes                                   []profile.Process
	threads                                     []profile.Thread
	measures                                    int
	labels                                      int
	samples, intervals                          int
}

// NewWriter begins a take on w with its settings and the machine's facts.
func NewWriter(w io.Writer, settings profile.Settings, machine profile.Machine) (*Writer, error) {
	enc, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedDefault), zstd.WithEncoderConcurrency(1))
	if err != nil {
		return nil, fmt.Errorf("preparing compression: %w", err)
	}
	t := &Writer{w: w, enc: enc}
	header := encodeFileHeader()
	if _, err := w.Write(header[:]); err != nil {
		return nil, fmt.Errorf("writing the file header: %w", err)
	}
	return t, t.json(blockHead, head{settings, machine})
}

type head struct {
	Settings profile.Settings `json:"settings"`
	Machine  profile.Machine  `json:"machine"`
}

func (t *Writer) json(kind blockKind, v any) error {
	b, err := json.Marshal(v)
	if err != nil {
		return fmt.Errorf("encoding a block: %w", err)
	}
	return t.block(kind, b)
}

func (t *Writer) block(kind blockKind, raw []byte) error {
	t.out = append(t.out[:0], make([]byte, blockHeaderSize)...)
	t.out = t.enc.EncodeAll(raw, t.out)
	stored := t.out[blockHeaderSize:]
	h := blockHeader{
		kind: kind, sequence: t.sequence,
		stored: uint32(len(stored)), raw: uint32(len(raw)),
		sum: crc32.Checksum(stored, castagnoli),
	}.encode()
	copy(t.out, h[:])
	if _, err := t.w.Write(t.out); err != nil {
		return fmt.Errorf("writing block %d: %w", t.sequence, err)
	}
	t.sequence++
	return nil
}

// Append writes everything that p has gained since the call before. It must
// be the same, growing profile each time.
func (t *Writer) Append(p *profile.Profile) error {
	if t.tables(p) {
		if err := t.block(blockTables, t.buf); err != nil {
			return err
		}
	}
	for t.mark.samples < p.Samples.Len() {
		end := min(t.mark.samples+samplesPerBlock, p.Samples.Len())
		t.columns(p, t.mark.samples, end)
		if err := t.block(blockSamples, t.buf); err != nil {
			return err
		}
		if p.Samples.Labels != nil {
			t.labels(p, t.mark.samples, end)
			if err := t.block(blockLabels, t.buf); err != nil {
				return err
			}
		}
		t.samples += uint64(end - t.mark.samples)
		t.mark.samples = end
	}
	for t.mark.intervals < p.Intervals.Len() {
		end := min(t.mark.intervals+intervalsPerBlock, p.Intervals.Len())
		t.intervals(p, t.mark.intervals, end)
		if err := t.block(blockIntervals, t.buf); err != nil {
			return err
		}
		t.mark.intervals = end
	}
	return nil
}

// Facts writes what is known so far.
func (t *Writer) Facts(f profile.Facts) error {
	if f.Warnings == nil {
		f.Warnings = []profile.Warning{}
	}
	return t.json(blockFacts, f)
}

// Source adds a source file.
func (t *Writer) Source(s profile.Source) error { return t.json(blockSource, s) }

// Close writes the closing block. It does not close the underlying writer.
func (t *Writer) Close() error {
	b := binary.AppendUvarint(t.buf[:0], uint64(t.sequence))
	b = binary.AppendUvarint(b, t.samples)
	b = binary.AppendUvarint(b, uint64(t.mark.intervals))
	t.buf = b
	return t.block(blockEnd, b)
}

func (t *Writer) uint(v uint64) { t.buf = binary.AppendUvarint(t.buf, v) }
func (t *Writer) int(v int64)   { t.buf = binary.AppendVarint(t.buf, v) }
func (t *Writer) bool(v bool) {
	if v {
		t.uint(1)
	} else {
		t.uint(0)
	}
}

// tables puts the new table entries into the buffer and reports whether there are any.
func (t *Writer) tables(p *profile.Profile) bool {
	t.buf = t.buf[:0]
	m := &t.mark
	fresh := len(p.Strings) - m.strings + len(p.Modules) - m.modules + len(p.Functions) - m.functions +
		len(p.Frames) - m.frames + p.Stacks.Len() - m.stacks + len(p.Measures) - m.measures

	t.uint(uint64(len(p.Strings) - m.strings))
	for _, s := range p.Strings[m.strings:] {
		t.uint(uint64(len(s)))
		t.buf = append(t.buf, s...)
	}
	t.uint(uint64(len(p.Modules) - m.modules))
	for _, x := range p.Modules[m.modules:] {
		t.uint(uint64(x.Path))
		t.uint(uint64(x.BuildID))
		t.uint(uint64(x.Kind))
	}
	t.uint(uint64(len(p.Functions) - m.functions))
	for _, x := range p.Functions[m.functions:] {
		t.uint(uint64(x.Name))
		t.uint(uint64(x.Linkage))
		t.uint(uint64(x.Module))
		t.uint(uint64(x.File))
		t.uint(uint64(x.Line))
		t.uint(uint64(x.Kind))
		t.bool(x.Entry)
		t.uint(uint64(x.Mark))
	}
	t.uint(uint64(len(p.Frames) - m.frames))
	for _, x := range p.Frames[m.frames:] {
		t.uint(uint64(x.Function))
		t.uint(uint64(x.Line))
		t.uint(x.Address)
		flags := uint64(x.Found) << 1
		if x.Inlined {
			flags |= 1
		}
		t.uint(flags)
	}
	t.uint(uint64(p.Stacks.Len() - m.stacks))
	for i := m.stacks; i < p.Stacks.Len(); i++ {
		// A new stack mostly grows from a recent one, so its distance is short.
		t.uint(uint64(i) - uint64(p.Stacks.Parent[i]))
		t.uint(uint64(p.Stacks.Frame[i]))
	}
	t.uint(uint64(len(p.Measures) - m.measures))
	for _, x := range p.Measures[m.measures:] {
		t.uint(uint64(x.Name))
		t.uint(uint64(x.Unit))
		flags := uint64(x.Combine)
		if x.Counted {
			flags |= 2
		}
		flags |= uint64(x.Time) << 2
		t.uint(flags)
	}
	fresh += t.who(p)
	m.strings, m.modules, m.functions = len(p.Strings), len(p.Modules), len(p.Functions)
	m.frames, m.stacks, m.measures = len(p.Frames), p.Stacks.Len(), len(p.Measures)
	return fresh > 0
}

// who writes processes and threads that are new or have a new name.
func (t *Writer) who(p *profile.Profile) int {
	m := &t.mark
	var changed []int
	for i, x := range p.Processes {
		if i >= len(m.processes) || m.processes[i] != x {
			changed = append(changed, i)
		}
	}
	t.uint(uint64(len(changed)))
	for _, i := range changed {
		t.uint(uint64(i))
		t.uint(uint64(p.Processes[i].PID))
		t.uint(uint64(p.Processes[i].Name))
	}
	n := len(changed)
	changed = changed[:0]
	for i, x := range p.Threads {
		if i >= len(m.threads) || m.threads[i] != x {
			changed = append(changed, i)
		}
	}
	t.uint(uint64(len(changed)))
	for _, i := range changed {
		t.uint(uint64(i))
		t.uint(uint64(p.Threads[i].TID))
		t.uint(uint64(p.Threads[i].Process))
		t.uint(uint64(p.Threads[i].Name))
		if p.Threads[i].Goroutine {
			t.uint(1)
		} else {
			t.uint(0)
		}
	}
	m.processes = append(m.processes[:0], p.Processes...)
	m.threads = append(m.threads[:0], p.Threads...)
	return n + len(changed)
}

// columns puts the samples from..to into the buffer, a column after the other.
func (t *Writer) columns(p *profile.Profile, from, to int) {
	s := &p.Samples
	t.buf = t.buf[:0]
	t.uint(uint64(to - from))
	t.uint(uint64(len(s.Values)))
	t.bool(s.Time != nil)
	var last int64
	if s.Time != nil {
		for _, v := range s.Time[from:to] {
			t.int(v/tick - last)
			last = v / tick
		}
	}
	for _, v := range s.Thread[from:to] {
		t.uint(uint64(v))
	}
	for _, v := range s.Stack[from:to] {
		t.uint(uint64(v))
	}
	for _, column := range s.Values {
		last = 0
		for _, v := range column[from:to] {
			t.int(v - last)
			last = v
		}
	}
}

// labels puts new sets of labels and those of the samples from..to into the buffer.
func (t *Writer) labels(p *profile.Profile, from, to int) {
	sets := &p.LabelSets
	t.buf = t.buf[:0]
	t.uint(uint64(sets.Len() - t.mark.labels))
	for i := t.mark.labels; i < sets.Len(); i++ {
		t.uint(uint64(i) - uint64(sets.Parent[i]))
		t.uint(uint64(sets.Name[i]))
		t.uint(uint64(sets.Value[i]))
	}
	t.mark.labels = sets.Len()
	t.uint(uint64(to - from))
	for _, set := range p.Samples.Labels[from:to] {
		t.uint(uint64(set))
	}
}

// Write writes a finished take in one go.
func Write(w io.Writer, t *profile.Take) error {
	tw, err := NewWriter(w, t.Settings, t.Machine)
	if err != nil {
		return err
	}
	if err := tw.Append(t.Profile); err != nil {
		return err
	}
	for _, s := range t.Sources {
		if err := tw.Source(s); err != nil {
			return err
		}
	}
	if err := tw.Facts(t.Facts); err != nil {
		return err
	}
	return tw.Close()
}
