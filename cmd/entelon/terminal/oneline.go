package terminal

import (
	"errors"
	"strings"

	"entelon/capture"
	"entelon/codec/take"
)

// OneLine makes a single clear line of an error, with what to do where known.
func OneLine(err error) string {
	line, remedy := err.Error(), ""
	var broken *take.Error
	if errors.As(err, &broken) {
		remedy = broken.Remedy()
	} else {
		remedy = capture.Remedy(err)
	}
	line = Plain(strings.ReplaceAll(line, "\n", "; "), "")
	if remedy != "" {
		return line + "; " + remedy
	}
	return line
}
