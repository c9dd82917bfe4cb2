package symbol

import (
	"errors"
	"fmt"
	"io"

	"entelon/core/profile"
	"entelon/symbol/elfimage"
)

// OpenBuild opens what names the code of a build: the file at path, where it is of that
// build and has names or finds its debug file, else the debug file alone. It is nil where
// there is neither. path names the file in what is found.
func (f *Finder) OpenBuild(path, id string, kind profile.ModuleKind) (*Object, error) {
	if id == "" || BuildIDOf(path) != id {
		return f.openDebugAlone(path, id, kind)
	}
	file, err := elfimage.OpenRegular(path)
	if err != nil {
		return nil, err
	}
	o, err := OpenObject(file, path, kind, f)
	if err != nil {
		return nil, err
	}
	if o.Prepare(); o.Names() {
		return o, nil
	}
	return nil, errors.Join(o.Fault, o.Close())
}

// openDebugAlone opens a debug file without the file that it belongs to, such as of
// another machine's program. Code is not in it, but all that names code is. A file that
// cannot be read is an error only where no other one serves.
func (f *Finder) openDebugAlone(path, id string, kind profile.ModuleKind) (*Object, error) {
	var errs []error
	for _, p := range f.byID(id) {
		o, err := f.openDebugAt(p, path, id, kind)
		if o != nil {
			return o, nil
		}
		errs = append(errs, err)
	}
	got, err := f.fetched(id)
	if got != "" && err == nil {
		var o *Object
		if o, err = f.openDebugAt(got, path, id, kind); o != nil {
			return o, nil
		}
	}
	return nil, errors.Join(append(errs, err)...)
}

// openDebugAt opens a debug file, nil where there is none or it is of another build.
func (f *Finder) openDebugAt(place, path, id string, kind profile.ModuleKind) (*Object, error) {
	file, err := elfimage.OpenRegular(place)
	if err != nil {
		return nil, nil // not there
	}
	im, err := elfimage.OpenImage(file, place)
	if err = errors.Join(err, file.Close()); err != nil {
		return nil, err
	}
	o := newObject(im, path, kind, f)
	if o.BuildID != id || !o.Names() {
		return nil, o.Close()
	}
	o.DebugFile = place
	fault(o, useShared(o, im, place))
	return o, nil
}

// Names reports whether more than the functions that other files may call have names.
func (o *Object) Names() bool { return !o.ExportsOnly() && (o.DebugFile != "" || hasNames(o)) }

// hasNames reports whether a file itself has the names of its functions.
func hasNames(o *Object) bool {
	return o.file.Section(".symtab") != nil || hasDebug(o) || o.HasGoSection()
}

// BuildIDOf returns the build of the file at a path, "" where there is none or it is not a
// program.
func BuildIDOf(path string) string {
	file, err := elfimage.OpenRegular(path)
	if err != nil {
		return ""
	}
	im, err := elfimage.OpenImage(file, path)
	if err = errors.Join(err, file.Close()); err != nil {
		return ""
	}
	id := buildID(im.ELF)
	if im.Close() != nil {
		return ""
	}
	return id
}

// Keep copies a debug file of a build to where Fetch finds it.
func (f *Finder) Keep(id, path string) error {
	_, err := f.Cache.Put(debugEntry+id, func(w io.Writer) error {
		in, err := elfimage.OpenRegular(path)
		if err != nil {
			return err
		}
		_, err = io.Copy(w, in)
		return errors.Join(err, in.Close())
	})
	if err != nil {
		return fmt.Errorf("keeping a debug file in the symbol cache: %w", err)
	}
	return nil
}
