package programs

import (
	"os"
	"strings"
	"testing"

	"entelon/core/profile"
	"entelon/resolve/raw"
)

func TestReadMaps(t *testing.T) {
	maps := readMaps(strings.NewReader(`00400000-00500000 r--p 00000000 fe:00 12 /srv/a b/engraved
00500000-00600000 r-xp 00100000 fe:00 12 /srv/a b/engraved (deleted)
7f0000000000-7f0000001000 r-xp 00000000 00:00 0
broken line
7fff00000000-7fff00001000 r-xp 00000000 00:00 0 [vdso]
`))
	if len(maps) != 3 {
		t.Fatalf("%d executable mappings, want 3", len(maps))
	}
	if m := maps[0]; m.Start != 0x500000 || m.End != 0x600000 || m.Name != "/srv/a b/engraved" || m.Offset != 0x100000 || m.Major != 0xfe || m.Inode != 12 {
		t.Errorf("%+v", m)
	}
	if k := New(nil).kind(maps[1].Name); k != profile.KindJIT {
		t.Errorf("anonymous code is %s", k)
	}
}

func TestOpenMappedRefusesAReplacedFile(t *testing.T) {
	path := t.TempDir() + "/engraved"
	if err := os.WriteFile(path, []byte("new"), 0o755); err != nil {
		t.Fatal(err)
	}
	if f, err := openMapped(uint32(os.Getpid()), &raw.Mapping{Name: path, Inode: 1}); err == nil {
		f.Close()
		t.Error("a file with another inode was taken for the mapped one")
	}
	f, err := openMapped(uint32(os.Getpid()), &raw.Mapping{Name: path})
	if err != nil {
		t.Fatal(err)
	}
	f.Close()
}

// TestOwnFile: this test is a Go program, whose file has a table and the runtime.
func TestOwnFile(t *testing.T) {
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	w := New(nil)
	m := w.Module(uint32(os.Getpid()), &raw.Mapping{Name: self})
	table := m.Table()
	if m.Coming() || !m.Readable() || table == nil || m.Table() != table || m.Go() == nil || m.Python() != nil {
		t.Errorf("%+v", m)
	}
	if x := w.Module(uint32(os.Getpid()), &raw.Mapping{Name: "/nowhere"}); x.Readable() || x.Table() != nil || x.Go() != nil || x.BuildID() != "" {
		t.Errorf("a file that is not there: %+v", x)
	}
	if len(w.Unreadable()) != 1 {
		t.Errorf("unreadable: %v", w.Unreadable())
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
}

func TestOwnDir(t *testing.T) {
	for exe, want := range map[string]string{"/srv/shop/engraved": "/srv/shop/", "/usr/bin/partbook": "", "/bin/sh": "", "/engraved": ""} {
		if got := OwnDir(exe); got != want {
			t.Errorf("the folder of %s is %q, want %q", exe, got, want)
		}
	}
}
