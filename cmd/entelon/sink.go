package main

import (
	"errors"
	"fmt"
	"io"
	"os"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"entelon/codec/take"
	"entelon/core/profile"
)

// fileSink writes a take to a file as it comes.
type fileSink struct {
	path string // "" until the program and the build are known
	file *os.File
	w    *take.Writer
	good atomic.Int64 // where the last whole block ends
	old  string       // where the take that stood there before is kept meanwhile, "" if none did
	// namesOnly: of the command's environment only the names are kept, since others
	// can read the take.
	namesOnly bool
}

// prepare refuses what could not be written later, before anything is started.
func (s *fileSink) prepare() error {
	if s.path == "" {
		return nil
	}
	st, err := os.Stat(s.path)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	} else if err != nil {
		return fmt.Errorf("--out: %w", err)
	}
	if st.IsDir() {
		return fmt.Errorf("--out %s is a folder; give the name of a file in it", s.path)
	}
	if !st.Mode().IsRegular() || st.Size() == 0 {
		return nil
	}
	_, err = take.ReadFile(s.path, take.Options{Limits: take.Limits{Block: 1, Unpacked: 1}})
	var broken *take.Error
	if errors.As(err, &broken) && broken.Reason == take.NotATake {
		return fmt.Errorf("--out %s exists and is no take; it was left as it is", s.path)
	}
	return nil
}

// Write keeps count of whole blocks, each of which comes in one call; a block
// that did not fit is cut off again, so that the file stays readable.
func (s *fileSink) Write(b []byte) (int, error) {
	n, err := s.file.Write(b)
	if err != nil {
		if cut := s.file.Truncate(s.good.Load()); cut != nil {
			err = errors.Join(err, cut)
		}
		if _, seek := s.file.Seek(s.good.Load(), io.SeekStart); seek != nil {
			err = errors.Join(err, seek)
		}
		return n, err
	}
	s.good.Add(int64(n))
	return n, nil
}

func (s *fileSink) Begin(settings profile.Settings, machine profile.Machine) (err error) {
	if s.path == "" {
		s.path = takeName(settings, time.Now())
	}
	if st, statErr := os.Stat(s.path); statErr == nil && st.Mode().IsRegular() {
		s.old = s.path + "~"
		if err := os.Rename(s.path, s.old); err != nil {
			return fmt.Errorf("putting the older take aside: %w", err)
		}
	}
	if s.file, err = os.Create(s.path); err != nil {
		return errors.Join(fmt.Errorf("writing the take: %w", err), s.discard())
	}
	if s.namesOnly {
		settings.Env = settings.EnvNames()
	}
	s.w, err = take.NewWriter(s, settings, machine)
	return err
}

func (s *fileSink) Append(p *profile.Profile) error { return s.w.Append(p) }

func (s *fileSink) Source(f profile.Source) error { return s.w.Source(f) }

func (s *fileSink) Facts(f profile.Facts) error { return s.w.Facts(f) }

// discard undoes Begin where nothing was collected: the older take is back.
func (s *fileSink) discard() error {
	var errs []error
	if s.file != nil {
		errs = append(errs, s.file.Close())
		if st, err := os.Stat(s.path); err == nil && st.Mode().IsRegular() {
			errs = append(errs, os.Remove(s.path))
		}
	}
	if s.old != "" {
		errs = append(errs, os.Rename(s.old, s.path))
	}
	return errors.Join(errs...)
}

// close ends the file; broke is why the collection ended early, if it did.
func (s *fileSink) close(broke error) error {
	if broke == nil {
		broke = s.w.Close()
	}
	err := s.file.Close()
	if s.old != "" {
		err = errors.Join(err, os.Remove(s.old))
	}
	if broke != nil {
		what := "writing the take failed"
		if errors.Is(broke, unix.ENOSPC) {
			what = "the disk is full"
		}
		return fmt.Errorf("%s; %s holds what was collected before (%d bytes): %w", what, s.path, s.good.Load(), broke)
	}
	if err != nil {
		return fmt.Errorf("closing the take: %w", err)
	}
	return nil
}
