// Package takefile writes a take to a file while it is collected, so that at each moment
// the file is a take as far as it goes, and nothing that stood there before is lost until
// something new is there.
//
// A File belongs to the goroutine of its collection; only Good may be asked by others.
package takefile

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"entelon/codec/take"
	"entelon/core/profile"
	"entelon/core/workload"
)

// fileSink writes a take to a file as it comes.
type File struct {
	Path string // "" until the program and the build are known
	file *os.File
	w    *take.Writer
	Good atomic.Int64 // where the last whole block ends
	old  string       // where the take that stood there before is kept meanwhile, "" if none did
	// Aside is where that is when the new one is complete.
	Aside string
	// NamesOnly: of the command's environment only the names are kept, since others
	// can read the take.
	NamesOnly bool
}

// Prepare refuses what could not be written later, before anything is started.
func (s *File) Prepare() error {
	if s.Path == "" {
		return nil
	}
	st, err := os.Stat(s.Path)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	} else if err != nil {
		return fmt.Errorf("--out: %w", err)
	}
	if st.IsDir() {
		return fmt.Errorf("--out %s is a folder; give the name of a file in it", s.Path)
	}
	if !st.Mode().IsRegular() || st.Size() == 0 {
		return nil
	}
	if !IsTake(s.Path) {
		return fmt.Errorf("--out %s exists and is not a take; it was left alone", s.Path)
	}
	return nil
}

// Write keeps count of whole blocks, each of which comes in one call; a block
// that did not fit is cut off again, so that the file stays readable.
func (s *File) Write(b []byte) (int, error) {
	n, err := s.file.Write(b)
	if err != nil {
		if cut := s.file.Truncate(s.Good.Load()); cut != nil {
			err = errors.Join(err, cut)
		}
		if _, seek := s.file.Seek(s.Good.Load(), io.SeekStart); seek != nil {
			err = errors.Join(err, seek)
		}
		return n, err
	}
	s.Good.Add(int64(n))
	return n, nil
}

// Begin implements capture.Sink.
func (s *File) Begin(settings profile.Settings, machine profile.Machine) (err error) {
	if s.Path == "" {
		s.Path = takeName(settings, time.Now())
	}
	if st, statErr := os.Stat(s.Path); statErr == nil && st.Mode().IsRegular() && st.Size() > 0 {
		s.old = s.Path + "~"
		if _, err := os.Lstat(s.old); err == nil { // of a collector that was killed
			if _, err := keepAs(s.old, s.Path); err != nil {
				return err
			}
		}
		if err := os.Rename(s.Path, s.old); err != nil {
			return fmt.Errorf("putting the older take aside: %w", err)
		}
	}
	if s.file, err = os.Create(s.Path); err != nil {
		return errors.Join(fmt.Errorf("writing the take: %w", err), s.Discard())
	}
	if s.NamesOnly {
		settings.Env = settings.EnvNames()
	}
	workload.MaskSettings(&settings)
	s.w, err = take.NewWriter(s, settings, machine)
	return err
}

// Append implements capture.Sink.
func (s *File) Append(p *profile.Profile) error { return s.w.Append(p) }

// Source implements capture.Sink.
func (s *File) Source(f profile.Source) error { return s.w.Source(f) }

// Facts implements capture.Sink.
func (s *File) Facts(f profile.Facts) error { return s.w.Facts(f) }

// Discard undoes Begin where nothing was collected: the older take is back.
func (s *File) Discard() error {
	var errs []error
	if s.file != nil {
		errs = append(errs, s.file.Close())
		if st, err := os.Stat(s.Path); err == nil && st.Mode().IsRegular() {
			errs = append(errs, os.Remove(s.Path))
		}
	}
	if s.old != "" {
		errs = append(errs, os.Rename(s.old, s.Path))
	}
	return errors.Join(errs...)
}

// Close ends the file; broke is why the collection ended early, if it did.
func (s *File) Close(broke error) error {
	if broke == nil {
		broke = s.w.Close()
	}
	err := s.file.Close()
	if s.old != "" {
		aside, asideErr := keepAs(s.old, s.Path)
		s.Aside = aside
		err = errors.Join(err, asideErr)
	}
	if broke != nil {
		what := "writing the take failed"
		if errors.Is(broke, unix.ENOSPC) {
			what = "the disk is full"
		}
		return fmt.Errorf("%s; %s holds what was collected before (%d bytes): %w", what, s.Path, s.Good.Load(), broke)
	}
	if err != nil {
		return fmt.Errorf("closing the take: %w", err)
	}
	return nil
}

// takeName is the default name of a take's file.
func takeName(s profile.Settings, at time.Time) string {
	name := s.Program + "-" + s.Build + "-" + at.Local().Format("20060102-150405")
	return strings.Map(func(r rune) rune {
		if r == filepath.Separator || r < ' ' {
			return '_'
		}
		return r
	}, name) + ".take"
}
