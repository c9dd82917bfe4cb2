package capture

import (
	"testing"

	"entelon/capture/launch"
)

func TestRemedies(t *testing.T) {
	for _, err := range []error{ErrNotAllowed, ErrNoProcess, launch.ErrNoCommand, launch.ErrNoDir, ErrRate} {
		if Remedy(err) == "" {
			t.Errorf("%v: nothing says what to do", err)
		}
	}
	if Remedy(nil) != "" {
		t.Error("there is a remedy for nothing")
	}
}
