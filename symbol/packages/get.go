package packages

import (
	"context"
	"errors"
	"fmt"
	"os"

	"entelon/symbol"
)

// Get fetches the debug file of a build from the package that has it, and keeps it where
// the finder looks. The file at path must be of that build, for packages go by version.
// asked, which may be nil, is told of the package before it is downloaded.
func Get(ctx context.Context, f *symbol.Finder, path, id string, asked func(Package)) (err error) {
	if f.Cache == nil {
		return errors.New("without a symbol cache there is no place to keep it")
	}
	if symbol.BuildIDOf(path) != id {
		return fmt.Errorf("%w: %s is not on this machine, or of another build", ErrNone, path)
	}
	p, err := Of(ctx, path)
	if err != nil {
		return err
	}
	d, err := Debug(ctx, p)
	if err != nil {
		return err
	}
	if d.Size > f.Cache.Limit {
		return fmt.Errorf("%s has %d bytes, more than the symbol cache may hold (--symbol-cache-size)", d.Name, d.Size)
	}
	if asked != nil {
		asked(d)
	}
	dir, err := os.MkdirTemp("", "entelon-package-*")
	if err != nil {
		return fmt.Errorf("making a folder to unpack in: %w", err)
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	files, err := Fetch(ctx, d, dir)
	if err != nil {
		return err
	}
	found := false
	for _, file := range files {
		has := symbol.BuildIDOf(file)
		if has == "" {
			continue
		}
		if err := f.Keep(has, file); err != nil {
			return err
		}
		found = found || has == id
	}
	if !found {
		return fmt.Errorf("%w: %s %s has no debug file of this very build", ErrNone, d.Name, d.Version)
	}
	return f.Cache.Trim()
}
