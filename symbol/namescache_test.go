package symbol

import (
	"reflect"
	"testing"

	"entelon/core/profile"
)

func packedExample() map[uint64][]Location {
	return map[uint64][]Location{
		0x401000: {{Name: "slur.Route", File: "slur/route.go", Line: 41, Start: 12, Inlined: true, Kind: profile.KindOwn, Function: 0x400f00}, {Name: "page.Lay", Linkage: "_ZN4page3LayEv", Line: 7, Entry: true}},
		0x401040: {{Name: "engraved+0x1040", Unnamed: true}},
		1 << 47:  {{Name: "slur.Route", Line: 4_000_000_000}},
	}
}

// TestNamesArePacked: what was packed is unpacked as it was, also where it is nothing.
func TestNamesArePacked(t *testing.T) {
	for _, known := range []map[uint64][]Location{packedExample(), {}} {
		got, err := unpackNames(packNames(known))
		if err != nil || !reflect.DeepEqual(got, known) {
			t.Errorf("%+v %v, want %+v", got, err, known)
		}
	}
}

// TestDamagedNames: each cut and each changed byte is noticed.
func TestDamagedNames(t *testing.T) {
	whole := packNames(packedExample())
	for n := range whole {
		if _, err := unpackNames(whole[:n]); err == nil {
			t.Errorf("%d of %d bytes are taken for all", n, len(whole))
		}
		b := append([]byte(nil), whole...)
		b[n] ^= 0x41
		if _, err := unpackNames(b); err == nil {
			t.Errorf("byte %d is changed and nobody notices", n)
		}
	}
}

// FuzzUnpackNames: whatever stands behind a right checksum, nothing is made that the
// bytes do not have.
func FuzzUnpackNames(f *testing.F) {
	f.Add(packNames(packedExample())[packedNames:])
	f.Add([]byte{0, 1, 5, 200, 1})
	f.Fuzz(func(t *testing.T, b []byte) {
		known, err := unpackNames(sealed(b))
		if err == nil && len(known) > len(b) {
			t.Errorf("%d addresses in %d bytes", len(known), len(b))
		}
	})
}
