package kernelsymbols

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"entelon/symbol/cache"
)

func TestKernel(t *testing.T) {
	k, err := readKernel(strings.NewReader("ffffffff81000000 T _text\nffffffff81000100 t do_work\nffffffff81000200 D data\nffffffffc0000000 t paint\t[inkdrv]\n"))
	if err != nil {
		t.Fatal(err)
	}
	for addr, want := range map[uint64][2]string{
		0xffffffff81000150: {"do_work", "[kernel]"}, 0xffffffff81000250: {"do_work", "[kernel]"}, 0xffffffffc0000010: {"paint", "[inkdrv]"}, 0x10: {"[kernel]+0x10", "[kernel]"},
	} {
		if l, m := k.Locate(addr); l.Name != want[0] || m != want[1] {
			t.Errorf("%#x is %s of %s, want %v", addr, l.Name, m, want)
		}
	}
	if _, err := readKernel(strings.NewReader("0000000000000000 T _text\n")); !errors.Is(err, ErrHidden) {
		t.Errorf("hidden addresses: %v", err)
	}
	var none *List
	if l, _ := none.Locate(16); !l.Unnamed {
		t.Errorf("without a list an address is named %q", l.Name)
	}
}

// TestKernelIsKept: what comes back from the cache names the same.
func TestKernelIsKept(t *testing.T) {
	k, err := readKernel(strings.NewReader("ffffffff81000000 T _text\nffffffff81000100 t do_work\nffffffffc0000000 t paint\t[inkdrv]\n"))
	if err != nil {
		t.Fatal(err)
	}
	b := k.packed
	c := &cache.Cache{Dir: t.TempDir(), Limit: 1 << 20}
	c.Keep("kernel", b)
	again := &List{packed: kept(c, "kernel"), mapped: true}
	if again.packed == nil {
		t.Fatal("what was kept cannot be read")
	}
	defer again.Close()
	for _, addr := range []uint64{0xffffffff81000000, 0xffffffff81000123, 0xffffffffc0000005} {
		l1, m1 := k.Locate(addr)
		l2, m2 := again.Locate(addr)
		if l1 != l2 || m1 != m2 {
			t.Errorf("%#x: %+v %s, then %+v %s", addr, l1, m1, l2, m2)
		}
	}
	for i := range b {
		harmed := append([]byte(nil), b...)
		harmed[i] ^= 0x55
		if packedKernel(harmed).whole() {
			t.Errorf("damage of byte %d is not noticed", i)
		}
	}
	c.Keep("kernel", b[:len(b)-1])
	if kept(c, "kernel") != nil || kept(c, "none") != nil {
		t.Error("an entry that is cut short is used, or one that is not there")
	}
	// A file that is cut short while it is in use names nothing, and ends nothing.
	c.Keep("cut", b)
	cut := &List{packed: kept(c, "cut"), mapped: true}
	defer cut.Close()
	if err := os.Truncate(filepath.Join(c.Dir, "cut"), 0); err != nil {
		t.Fatal(err)
	}
	if l, _ := cut.Locate(0xffffffff81000123); !l.Unnamed {
		t.Errorf("of a file that is empty now: %+v", l)
	}
}
