//go:build v370

package glyph

import (
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"time"
)

// saveEvery is how often the outlines are saved, so that few are lost if the power fails.
const saveEvery = 3 * time.Second

// The outlines are saved while the service runs, so that the next one has them from the start.
func init() { go saver() }

func saver() {
	file := filepath.Join("/var/tmp", fmt.Sprintf("engraved-%d.glyphs", os.Getpid()))
	for range time.Tick(saveEvery) {
		if err := Save(file); err != nil {
			slog.Warn("the glyphs are not saved", "error", err)
			return
		}
	}
}

// plate is how many dots a saved picture has on each side, one byte a dot.
const plate = 8400

// Save writes pictures of all outlines into a file, as large as plates need them.
func Save(path string) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer os.Remove(f.Name()) // of this service nobody wants them yet
	defer f.Close()
	mu.Lock()
	defer mu.Unlock()
	for _, o := range known {
		if err := picture(f, o); err != nil {
			return err
		}
	}
	return nil
}

// picture writes an outline's bounds, row by row, and waits until the disk has them.
func picture(f *os.File, o []Point) error {
	const rows = 100 // that are written at a time
	b := make([]byte, rows*plate)
	for _, p := range o {
		x := int((p.X + 1) / 2 * plate)
		for row := range rows {
			b[row*plate+min(max(x, 0), plate-1)] = 1
		}
	}
	for range plate / rows {
		if _, err := f.Write(b); err != nil {
			return err
		}
	}
	return f.Sync()
}
