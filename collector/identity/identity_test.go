package identity

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

func TestOneCollectorAFolder(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "collector")
	f, err := Open(dir, 0)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Open(dir, 200*time.Millisecond); !errors.Is(err, ErrInUse) {
		t.Errorf("a second collector: %v", err)
	}
	time.AfterFunc(100*time.Millisecond, func() { f.Close() })
	g, err := Open(dir, 5*time.Second)
	if err != nil {
		t.Fatal(err)
	}
	defer g.Close()
}

// TestFoldersOfOthers are not used: what is in them could be forged, and what is
// put there could be read.
func TestFoldersOfOthers(t *testing.T) {
	dir := t.TempDir()
	open := filepath.Join(dir, "open")
	if err := os.Mkdir(open, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(open, 0o777); err != nil {
		t.Fatal(err)
	}
	link := filepath.Join(dir, "link")
	if err := os.Symlink(t.TempDir(), link); err != nil {
		t.Fatal(err)
	}
	for path, says := range map[string]string{open: "by others", link: "not a folder"} {
		if f, err := Open(path, 0); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v, %v", path, f, err)
		}
	}
	if os.Geteuid() == 0 {
		theirs := filepath.Join(dir, "theirs")
		if err := os.Mkdir(theirs, 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.Chown(theirs, 65534, 65534); err != nil {
			t.Fatal(err)
		}
		if _, err := Open(theirs, 0); err == nil || !strings.Contains(err.Error(), "another user") {
			t.Errorf("somebody else's: %v", err)
		}
	}
}

// TestRenewalThatBreaksOff leaves both keys to be tried, the new one first.
func TestRenewalThatBreaksOff(t *testing.T) {
	f, err := Open(filepath.Join(t.TempDir(), "c"), 0)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if _, err := f.Load(); !errors.Is(err, ErrNotEnrolled) {
		t.Errorf("an empty folder: %v", err)
	}
	old, err := New("http://127.0.0.1:1")
	if err != nil {
		t.Fatal(err)
	}
	old.Name = "press-2"
	fresh, err := New(old.Server)
	if err != nil {
		t.Fatal(err)
	}
	fresh.Name = old.Name
	if err := errors.Join(f.Save(old), f.Propose(fresh)); err != nil {
		t.Fatal(err)
	}
	both, err := f.Load()
	if err != nil || len(both) != 2 || both[0].PublicKey() != fresh.PublicKey() || both[1].PublicKey() != old.PublicKey() {
		t.Fatalf("%d identities, %v", len(both), err)
	}
	if err := f.Save(&both[0]); err != nil {
		t.Fatal(err)
	}
	if one, err := f.Load(); err != nil || len(one) != 1 || one[0].PublicKey() != fresh.PublicKey() {
		t.Errorf("after it ended: %d, %v", len(one), err)
	}
	st, err := os.Stat(filepath.Join(f.Dir, current))
	if err != nil || st.Mode().Perm() != 0o600 {
		t.Errorf("%v, %v", st.Mode(), err)
	}
	if err := os.WriteFile(filepath.Join(f.Dir, current), []byte("{}"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := f.Load(); err == nil || !strings.Contains(err.Error(), "damaged") {
		t.Errorf("damaged: %v", err)
	}
}
