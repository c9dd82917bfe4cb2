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
	if file, err := elfimage.OpenRegular(path); err == nil {
		o, err := OpenObject(file, path, kind, f)
		if err != nil {
			return nil, err
		}
		o.Prepare()
		if o.BuildID == id && o.Names() {
			return o, nil
		}
		fault := o.Fault
		if err := o.Close(); err != nil {
			return nil, err
		}
		if o.BuildID == id {
			return nil, fault
		}
	}
	return f.openDebugAlone(path, id, kind)
}

// openDebugAlone opens a debug file without the file that it belongs to, such as of
// another machine's program. Code is not in it, but all that names code is.
func (f *Finder) openDebugAlone(path, id string, kind profile.ModuleKind) (*Object, error) {
	places := f.byID(id)
	got, err := f.fetched(id)
	if err != nil {
		return nil, err
	}
	for _, p := range append(places, got) {
		file, err := elfimage.OpenRegular(p)
		if err != nil {
			continue // "" or not there
		}
		im, err := elfimage.OpenImage(file, p)
		if err = errors.Join(err, file.Close()); err != nil {
			return nil, err
		}
		o := newObject(im, path, kind, f)
		if o.BuildID != id || !o.Names() {
			if err := o.Close(); err != nil {
				return nil, err
			}
			continue
		}
		o.DebugFile = p
		fault(o, useShared(o, im, p))
		return o, nil
	}
	return nil, nil
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
	_, err := f.Cache.put(debugEntry+id, func(w io.Writer) error {
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
