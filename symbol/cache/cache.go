// Package cache keeps on disk what took long to find out about files: names of addresses, tables. It
// is shared by processes; a lock guards the first error of each opened one.
package cache

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"sync"
	"time"

	"entelon/symbol/elfimage"
)

// Cache keeps on disk, by build ID, what was found out about objects: fetched
// debug files and resolved names. Each entry is one file that is written
// aside and then renamed, so that a crash leaves either all of it or nothing;
// what is damaged all the same is not used and is written anew. When the
// entries take more than Limit bytes, those unused for longest go.
type Cache struct {
	Dir   string
	Limit int64 // bytes

	mu     sync.Mutex
	failed error
}

// DefaultLimit is the bound where the user sets none.
const DefaultLimit = 2 << 30

// tempAge is the age from which on a file that was never renamed is a crash's.
const tempAge = time.Hour

// DefaultCacheDir is where a user's cache is: below XDG_CACHE_HOME or ~/.cache.
func DefaultCacheDir() (string, error) {
	dir, err := os.UserCacheDir()
	if err != nil {
		return "", fmt.Errorf("finding the folder for caches: %w", err)
	}
	return filepath.Join(dir, "entelon", "symbols"), nil
}

// Open makes the folder where it is missing and brings it within its
// bound.
func Open(dir string, limit int64) (*Cache, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("making the symbol cache: %w", err)
	}
	c := &Cache{Dir: dir, Limit: limit}
	if c.trimmedLately() {
		return c, nil
	}
	return c, c.Trim()
}

// Looking through thousands of entries takes longer than all else at the start of a take, so
// how much there was is written down, and believed for trimAgain where trimRoom bytes were left.
// An entry of largeEntry bytes takes it back.
const (
	trimmedName = ".trimmed"
	trimAgain   = time.Hour
	trimRoom    = 512 << 20
	largeEntry  = 1 << 20
)

// trimmedLately reports whether the entries are known to be well within the bound.
func (c *Cache) trimmedLately() bool {
	path := filepath.Join(c.Dir, trimmedName)
	st, err := os.Stat(path)
	if err != nil {
		return false
	}
	if age := time.Since(st.ModTime()); age < 0 || age > trimAgain {
		return false
	}
	b, err := os.ReadFile(path)
	if err != nil {
		return false
	}
	total, err := strconv.ParseInt(string(b), 10, 64)
	return err == nil && total >= 0 && total <= c.Limit-trimRoom
}

// Find returns the path of an entry, and "" where there is none. The entry
// counts as used now.
func (c *Cache) Find(name string) string {
	path := filepath.Join(c.Dir, name)
	if _, err := os.Stat(path); err != nil {
		return ""
	}
	now := time.Now()
	if err := os.Chtimes(path, now, now); err != nil {
		return "" // it has just been removed by another collector
	}
	return path
}

// Put writes an entry and returns its path.
func (c *Cache) Put(name string, write func(io.Writer) error) (path string, err error) {
	f, err := os.CreateTemp(c.Dir, "new-*")
	if err != nil {
		return "", err
	}
	err = write(f)
	if err == nil {
		err = f.Sync()
	}
	if st, statErr := f.Stat(); statErr != nil || st.Size() >= largeEntry {
		err = errors.Join(err, statErr, c.remove(trimmedName))
	}
	path = filepath.Join(c.Dir, name)
	if err = errors.Join(err, f.Close()); err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		return "", errors.Join(err, os.Remove(f.Name()))
	}
	return path, nil
}

// Get returns a small entry; ok is false where there is none.
func (c *Cache) Get(name string) (b []byte, ok bool) {
	path := c.Find(name)
	if path == "" {
		return nil, false
	}
	b, err := os.ReadFile(path)
	return b, err == nil
}

// Keep writes a small entry. Nothing depends on whether that works, so a
// failure is only noted, for Failed to tell.
func (c *Cache) Keep(name string, b []byte) {
	c.keep(name, func(w io.Writer) error {
		_, err := w.Write(b)
		return err
	})
}

func (c *Cache) keep(name string, write func(io.Writer) error) {
	if _, err := c.Put(name, write); err != nil {
		c.mu.Lock()
		defer c.mu.Unlock()
		if c.failed == nil {
			c.failed = err
		}
	}
}

// Failed returns the first reason for which an entry could not be kept.
func (c *Cache) Failed() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.failed
}

// Trim removes what a crash left and, beyond the bound, what was unused for
// longest.
func (c *Cache) Trim() error {
	entries, err := os.ReadDir(c.Dir)
	if err != nil {
		return fmt.Errorf("looking through the symbol cache: %w", err)
	}
	var files []fs.FileInfo
	var total int64
	for _, e := range entries {
		info, err := e.Info()
		if err != nil || !info.Mode().IsRegular() {
			continue // removed meanwhile by another collector
		}
		if e.Name() == trimmedName {
			continue
		}
		if strings.HasPrefix(e.Name(), "new-") {
			if time.Since(info.ModTime()) > tempAge {
				if err := c.remove(e.Name()); err != nil {
					return err
				}
			}
			continue
		}
		files = append(files, info)
		total += info.Size()
	}
	sort.Slice(files, func(i, j int) bool { return files[i].ModTime().Before(files[j].ModTime()) })
	for _, f := range files {
		if total <= c.Limit {
			break
		}
		if err := c.remove(f.Name()); err != nil {
			return err
		}
		total -= f.Size()
	}
	c.keep(trimmedName, func(w io.Writer) error {
		_, err := io.WriteString(w, strconv.FormatInt(total, 10))
		return err
	})
	return nil
}

func (c *Cache) remove(name string) error {
	if err := os.Remove(filepath.Join(c.Dir, name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("trimming the symbol cache: %w", err)
	}
	return nil
}

// Digest returns the SHA-256 of a file's bytes. It is worked out again whenever
// anything about the file has changed.
func (c *Cache) Digest(im *elfimage.Image) string {
	at := ""
	if im.File != "" {
		sum := sha256.Sum256([]byte(im.File))
		at = "digest-" + hex.EncodeToString(sum[:16])
		if b, ok := c.Get(at); ok && len(b) == sha256.Size {
			return hex.EncodeToString(b)
		}
	}
	sum := sha256.Sum256(im.Bytes)
	if at != "" {
		c.Keep(at, sum[:])
	}
	return hex.EncodeToString(sum[:])
}
