package bpf

import (
	"strings"
	"testing"

	"golang.org/x/sys/unix"
)

// TestDecodeFile: paths from their parts, what is cut says so, what is in no folder keeps its own name, peers of
// each family; bytes that are none of a text, and records that are too short, give no more than that.
func TestDecodeFile(t *testing.T) {
	parts := func(names ...string) (b []byte) {
		for _, n := range names {
			part := make([]byte, filePartBytes)
			copy(part, n)
			b = append(b, part...)
		}
		return b
	}
	const cut, rootless = uint64(tallyFileBoundFILE_CUT), uint64(tallyFileBoundFILE_ROOTLESS)
	long := strings.Repeat("x", filePartBytes-1)
	for _, c := range []struct {
		mode   uint32
		kind   uint64
		family uint16
		ports  uint64
		body   []byte
		path   string
		peer   string
	}{
		{unix.S_IFREG, 0, 0, 0, parts("7.plate", "plates", "srv"), "/srv/plates/7.plate", ""},
		{unix.S_IFREG, cut, 0, 0, parts("7.plate", "plates"), "…/plates/7.plate", ""},
		{unix.S_IFREG, 0, 0, 0, parts(long, "srv"), "/srv/" + long + "…", ""},
		{unix.S_IFREG, 0, 0, 0, parts("a\xffb", "srv"), "/srv/a?b", ""},
		{unix.S_IFREG, 0, 0, 0, parts("a:b"), "/a:b", ""},
		{unix.S_IFREG, rootless, 0, 0, parts("memfd:proof"), "memfd:proof", ""},
		{unix.S_IFDIR, rootless, 0, 0, parts("/"), "/", ""},
		{unix.S_IFREG, 0, 0, 0, parts("7.plate")[:20], "", ""}, // too short for a part
		{unix.S_IFSOCK, 0, unix.AF_INET, 0x3815, []byte{10, 0, 0, 7}, "", "10.0.0.7:5432"},
		{unix.S_IFSOCK, 0, unix.AF_INET, 0, []byte{10, 0, 0, 7}, "", "invalid AddrPort"}, // nobody is at the other end
		{unix.S_IFSOCK, 0, unix.AF_INET, 0x3815, []byte{10, 0}, "", "invalid AddrPort"},
		{unix.S_IFSOCK, 0, unix.AF_INET6, 0x3815, append(make([]byte, 15), 1), "", "[::1]:5432"},
		{unix.S_IFSOCK, 0, unix.AF_INET6, 0x3815, append(append(make([]byte, 10), 0xff, 0xff), 10, 0, 0, 7), "", "10.0.0.7:5432"},
		{unix.S_IFSOCK, 0, unix.AF_UNIX, 0, []byte("/run/counter\x00rest"), "/run/counter", ""},
		{unix.S_IFSOCK, 0, unix.AF_UNIX, 0, []byte("\x00press"), "@press", ""},
		{unix.S_IFSOCK, 0, unix.AF_UNIX, 0, nil, "", ""},
	} {
		x := DecodeFile(Header{Addr: 9, Low: uint64(c.mode), SystemSp: c.kind, Pc: uint64(c.family), Bp: c.ports}, c.body)
		peer := ""
		if c.family == unix.AF_INET || c.family == unix.AF_INET6 {
			peer = x.Peer.String()
		}
		if x.Number != 9 || x.Path != c.path || peer != c.peer || x.Cut != (c.kind == cut) {
			t.Errorf("%+v is %+v", c, x)
		}
	}
}
