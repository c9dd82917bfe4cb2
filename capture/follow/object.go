package follow

import (
	"errors"

	"entelon/core/profile"
	"entelon/symbol"
	"entelon/symbol/elfimage"
)

// errNotCode is the error about a file that is not there, or holds no code.
var errNotCode = errors.New("it is not a file of code")

// within looks into a file of code. The error is errNotCode, or what look says.
func within(path string, look func(*symbol.Object) error) error {
	f, err := elfimage.OpenRegular(path)
	if err != nil {
		return errNotCode
	}
	o, err := symbol.OpenObject(f, path, profile.KindOwn, nil)
	if err != nil {
		return errNotCode
	}
	return errors.Join(look(o), o.Close())
}
