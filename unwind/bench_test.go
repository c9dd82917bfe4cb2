package unwind

import (
	"math/rand/v2"
	"testing"
)

// wide is a module with many functions of 0x100 bytes each from 0x1000 on.
type wide struct {
	table *Table
	end   uint64
}

func (w wide) Table(addr uint64) (*Table, uint64, bool) {
	const bias = 0x400000
	if at := addr - bias; at >= 0x1000 && at < w.end {
		return w.table, bias, true
	}
	return nil, 0, false
}

// BenchmarkWalk30 walks stacks of 30 frames through a module of 20 000
// functions of six shapes. There are 4096 different stacks, so that neither
// the table nor the stacks stay in the nearest cache.
func BenchmarkWalk30(b *testing.B) {
	const functions, stacks, depth = 20_000, 4096, 30
	r := rand.New(rand.NewPCG(1, 2))
	sizes := []uint64{8, 24, 40, 72, 136, 264}
	programs := make([][]byte, functions)
	programs[0] = []byte{cfaUndefined, PC}
	for i := 1; i < functions; i++ {
		size := sizes[i%len(sizes)] + 8
		// As compilers do it: pushes one after the other, then room.
		programs[i] = []byte{cfaAdvanceLoc | 1, cfaDefCfaOffset, 16, cfaOffset | RBX, 2, cfaAdvanceLoc | 4, cfaDefCfaOffset, byte(size&0x7f | 0x80), byte(size >> 7)}
	}
	table := Compile(Source{EHFrame: ehFrame("zR", programs...)})
	if table.Fault != nil {
		b.Fatal(table.Fault)
	}
	code := Code(wide{table, 0x1000 + functions*0x100})
	samples := make([]Sample, stacks)
	for i := range samples {
		pc := uint64(0x401000 + 0x100*(1+r.IntN(functions-1)) + 0x40)
		samples[i].Registers.Set(PC, pc)
		samples[i].Registers.Set(RSP, stackAt)
		samples[i].Registers.Set(RBX, 1)
		var words []byte
		for d := range depth - 1 {
			f := int(pc-0x401000) / 0x100
			frame := make([]byte, sizes[f%len(sizes)]+8)
			pc = uint64(0x401000 + 0x100*(1+r.IntN(functions-1)) + 0x40)
			if d == depth-2 {
				pc = 0x401000 + 0x40
			}
			for k := range 8 {
				frame[len(frame)-8+k] = byte(pc >> (8 * k))
			}
			words = append(words, frame...)
		}
		samples[i].Memory = Memory{{Start: stackAt, Bytes: words}}
	}
	var cache Cache
	steps := make([]Step, 0, 64)
	b.ReportAllocs()
	for i := 0; b.Loop(); i++ {
		got, end := Walk(code, &cache, &samples[i%stacks], steps)
		if end != Entry || len(got) != depth {
			b.Fatalf("%d frames, %v", len(got), end)
		}
	}
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "stacks/s")
}
