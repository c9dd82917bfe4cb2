package cache

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"
)

func TestCacheIsBounded(t *testing.T) {
	c, err := Open(t.TempDir(), 100)
	if err != nil {
		t.Fatal(err)
	}
	for i := range 4 {
		name := fmt.Sprint("entry-", i)
		c.Keep(name, make([]byte, 40))
		if err := c.Failed(); err != nil {
			t.Fatal(err)
		}
		old := time.Now().Add(time.Duration(i-10) * time.Minute)
		if err := os.Chtimes(filepath.Join(c.Dir, name), old, old); err != nil {
			t.Fatal(err)
		}
	}
	if _, ok := c.Get("entry-0"); !ok { // which makes it the last used
		t.Fatal("an entry is gone before the bound was met")
	}
	crashed := filepath.Join(c.Dir, "new-123")
	if err := os.WriteFile(crashed, make([]byte, 10), 0o600); err != nil {
		t.Fatal(err)
	}
	long := time.Now().Add(-2 * tempAge)
	if err := os.Chtimes(crashed, long, long); err != nil {
		t.Fatal(err)
	}
	if c, err = Open(c.Dir, 100); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]bool{"entry-0": true, "entry-1": false, "entry-2": false, "entry-3": true, "new-123": false} {
		if _, err := os.Stat(filepath.Join(c.Dir, name)); (err == nil) != want {
			t.Errorf("%s is there: %v", name, !want)
		}
	}
	if _, err := c.Put("half", func(w io.Writer) error {
		_, _ = w.Write([]byte("half")) // to a file in a folder that is there
		return errors.New("the disk is full")
	}); err == nil {
		t.Error("no error for a write that failed")
	}
	if err := os.Remove(filepath.Join(c.Dir, trimmedName)); err != nil {
		t.Error(err)
	}
	entries, err := os.ReadDir(c.Dir)
	if err != nil || len(entries) != 2 {
		t.Errorf("after a failed write there are %d entries, %v", len(entries), err)
	}
}

// TestCacheIsLookedThroughSeldom: what is far within its bound is not looked through at each
// opening, but after a large entry and after an hour it is.
func TestCacheIsLookedThroughSeldom(t *testing.T) {
	dir := t.TempDir()
	crashed := filepath.Join(dir, "new-123")
	// looked opens the cache and reports whether it was looked through: what a crash left is gone then.
	looked := func() bool {
		t.Helper()
		if err := os.WriteFile(crashed, nil, 0o600); err != nil {
			t.Fatal(err)
		}
		long := time.Now().Add(-2 * tempAge)
		if err := os.Chtimes(crashed, long, long); err != nil {
			t.Fatal(err)
		}
		c, err := Open(dir, DefaultLimit)
		if err != nil {
			t.Fatal(err)
		}
		c.Keep("small", []byte("names"))
		if err := c.Failed(); err != nil {
			t.Fatal(err)
		}
		_, err = os.Stat(crashed)
		return err != nil
	}
	if !looked() || looked() {
		t.Error("the first opening looks through it, and the second does not")
	}
	long := time.Now().Add(-2 * trimAgain)
	if err := os.Chtimes(filepath.Join(dir, trimmedName), long, long); err != nil {
		t.Fatal(err)
	}
	if !looked() || looked() {
		t.Error("after an hour it is looked through, once")
	}
	(&Cache{Dir: dir, Limit: DefaultLimit}).Keep("large", make([]byte, largeEntry))
	if !looked() || looked() {
		t.Error("after a large entry it is looked through, once")
	}
	if _, err := Open(dir, largeEntry-1); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(filepath.Join(dir, "large")); err == nil {
		t.Error("a smaller bound is not held at once")
	}
}
