package take

import (
	"encoding/binary"
	"math/rand/v2"
	"testing"
)

// TestNumbersAreAsTheyWereWritten: a number is read as the standard library reads it, whatever its size,
// whatever follows it, and where it is cut off or has no end.
func TestNumbersAreAsTheyWereWritten(t *testing.T) {
	rnd := rand.New(rand.NewPCG(3, 4))
	for range 300_000 {
		v := rnd.Uint64() >> rnd.IntN(64)
		b := binary.AppendUvarint(nil, v)
		for range rnd.IntN(12) {
			b = append(b, byte(rnd.Uint32()))
		}
		switch rnd.IntN(10) {
		case 0:
			b = b[:rnd.IntN(len(b)+1)]
		case 1:
			for i := range b {
				b[i] |= 0x80
			}
		case 2: // longer than it need be
			b = append([]byte{0x80, 0x80, 0x81}, b...)
		}
		if len(b) < 8 {
			continue
		}
		got, n := short(binary.LittleEndian.Uint64(b))
		want, m := binary.Uvarint(b)
		if n == 0 && m > 0 && m <= 8 || n > 0 && (got != want || n != m) {
			t.Fatalf("% x is %d in %d bytes, want %d in %d", b, got, n, want, m)
		}
	}
}

// TestColumnsBeginWhereTheOneBeforeEnds: going over numbers ends where reading them does.
func TestColumnsBeginWhereTheOneBeforeEnds(t *testing.T) {
	rnd := rand.New(rand.NewPCG(5, 6))
	for range 20_000 {
		var b []byte
		n := rnd.IntN(40)
		for range n {
			b = binary.AppendUvarint(b, rnd.Uint64()>>rnd.IntN(64))
		}
		want := len(b)
		for range rnd.IntN(4) {
			b = binary.AppendUvarint(b, rnd.Uint64())
		}
		c := &cursor{b: b}
		if got := c.skip(n); len(got) != want || len(c.b) != len(b)-want || c.err != nil {
			t.Fatalf("%d numbers in % x take %d bytes, want %d, %v", n, b, len(got), want, c.err)
		}
		if cut := (&cursor{b: b[:want]}); n > 0 && (cut.skip(n+1) != nil || cut.err == nil) {
			t.Fatalf("%d numbers are read where there are %d", n+1, n)
		}
	}
}
