package capture

import "testing"

func TestProgramNames(t *testing.T) {
	for path, want := range map[string]string{
		"/srv/bin/engraved-3.5.0": "engraved", "engraved": "engraved", "/usr/bin/python3.11": "python", "inkraster_v1.3": "inkraster",
		"shares-stripped": "shares-stripped", "a.out": "a.out", "7.5": "7.5", "libink.so.6": "libink.so.6", "cc1plus": "cc1plus", "x-1": "x-1",
	} {
		if got := ProgramName(path); got != want {
			t.Errorf("%s: %s, want %s", path, got, want)
		}
	}
}
