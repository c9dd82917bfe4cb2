package cache

import (
	"reflect"
	"testing"

	"entelon/core/profile"
	"entelon/symbol/location"
)

func packedExample() map[uint64][]location.Location {
	return map[uint64][]location.Location{
		0x401000: {{Name: "slur.Route", File: "slur/route.go", Line: 41, Start: 12, Inlined: true, Kind: profile.KindOwn, Function: 0x400f00}, {Name: "page.Lay", Linkage: "_ZN4page3LayEv", Line: 7, Entry: true}},
		0x401040: {{Name: "engraved+0x1040", Unnamed: true}},
		1 << 47:  {{Name: "slur.Route", Line: 4_000_000_000}},
	}
}

// unpacked is all that is packed, as it is kept with nothing new.
func unpacked(b []byte) (map[uint64][]location.Location, error) {
	n, err := openNames(b)
	if err != nil {
		return nil, err
	}
	known := map[uint64][]location.Location{}
	for i := range n.len() {
		if ls := n.at(i); ls != nil {
			known[n.address(i)] = ls
		}
	}
	return known, nil
}

// TestNamesArePacked: what was packed is unpacked as it was, also where it is nothing.
func TestNamesArePacked(t *testing.T) {
	for _, known := range []map[uint64][]location.Location{packedExample(), {}} {
		got, err := unpacked(packNames(known))
		if err != nil || !reflect.DeepEqual(got, known) {
			t.Errorf("%+v %v, want %+v", got, err, known)
		}
	}
}

// TestDamagedNames: each cut and each changed byte is noticed.
func TestDamagedNames(t *testing.T) {
	whole := packNames(packedExample())
	for n := range whole {
		if _, err := unpacked(whole[:n]); err == nil {
			t.Errorf("%d of %d bytes are taken for all", n, len(whole))
		}
		b := append([]byte(nil), whole...)
		b[n] ^= 0x41
		if _, err := unpacked(b); err == nil {
			t.Errorf("byte %d is changed and nobody notices", n)
		}
	}
}

// TestNamesAreFound: each address has its own, and the ones beside it have none; what was learned is
// kept with what was known.
func TestNamesAreFound(t *testing.T) {
	c, err := Open(t.TempDir(), 1<<20)
	if err != nil {
		t.Fatal(err)
	}
	c.KeepNames("names-a", packedExample(), nil)
	learned := map[uint64][]location.Location{0x401020: {{Name: "beam.Group"}}, 0x401040: {{Name: "newer"}}}
	c.KeepNames("names-a", learned, c.Names("names-a"))
	n, want := c.Names("names-a"), packedExample()
	want[0x401020], want[0x401040] = []location.Location{{Name: "beam.Group"}}, []location.Location{{Name: "newer"}}
	for at, ls := range want {
		if got := n.Find(at); !reflect.DeepEqual(got, ls) {
			t.Errorf("%#x: %+v, want %+v", at, got, ls)
		}
		if got := append(n.Find(at-1), n.Find(at+1)...); got != nil {
			t.Errorf("beside %#x: %+v", at, got)
		}
	}
	if n.len() != len(want) || c.Names("names-b").Find(0x401000) != nil {
		t.Errorf("%d addresses, want %d", n.len(), len(want))
	}
}

// FuzzUnpackNames: whatever stands behind a right checksum, nothing is made that the
// bytes do not have.
func FuzzUnpackNames(f *testing.F) {
	f.Add(packNames(packedExample())[4:], uint64(0x401000))
	f.Add([]byte{1, 0, 0, 0, 1, 0, 0, 0, 5, 0, 0, 0, 200, 1}, uint64(0))
	f.Fuzz(func(t *testing.T, b []byte, address uint64) {
		n, err := openNames(sealed(b))
		if err != nil {
			return
		}
		all := len(n.Find(address))
		for i := range n.len() {
			all += len(n.at(i))
		}
		if n.len() > len(b) || all > 2*len(b) {
			t.Errorf("%d addresses and %d locations in %d bytes", n.len(), all, len(b))
		}
	})
}
