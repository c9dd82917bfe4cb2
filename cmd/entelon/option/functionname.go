package option

import (
	"fmt"
	"slices"
	"strings"

	"entelon/core/profile"
)

// FunctionName is the full name of the function of a take that a flag means: by that name,
// or by the short one that tables show, where only one is called so.
func FunctionName(flag, name, file string, p *profile.Profile) (string, error) {
	if name == "" || p.HasFunction(name) {
		return name, nil
	}
	var like []string
	for i := range p.Functions {
		full := p.FunctionName(profile.FunctionID(i))
		if i > 0 && profile.Short(full) == name && !slices.Contains(like, full) {
			like = append(like, full)
		}
	}
	switch len(like) {
	case 0:
		return "", fmt.Errorf("%s %s: the take has no such function; look it up with: entelon hot %s --full", flag, name, file)
	case 1:
		return like[0], nil
	}
	const shown = 4
	return "", fmt.Errorf("%s %s may be %s; give one of these names in full", flag, name, strings.Join(like[:min(shown, len(like))], ", or "))
}
