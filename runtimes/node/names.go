// Package node knows whose code a script of Node.js is.
package node

import (
	"strings"

	"entelon/core/profile"
)

// whoseScript tells whose code a script holds.
func KindOf(file string) profile.ModuleKind {
	switch {
	case strings.HasPrefix(file, "node:"), strings.HasPrefix(file, "internal/"):
		return profile.KindRuntime
	case strings.Contains(file, "/node_modules/"):
		return profile.KindLibrary
	}
	return profile.KindOwn
}
