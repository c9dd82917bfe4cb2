package terminal

import "entelon/core/profile"

// Share is a part of a total, 0 where that is nothing.
func Share(v, total int64) float64 {
	if total == 0 {
		return 0
	}
	return float64(v) / float64(total)
}

// Shown is a function's name as a table shows it.
func Shown(name string, full bool) string {
	if !full {
		name = profile.Short(name)
	}
	return Plain(name, "")
}
