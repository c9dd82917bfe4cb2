package capture

import (
	"testing"

	"entelon/linux/procfs"
)

func TestTicks(t *testing.T) {
	if got := procfs.Ticks("7 (a) b (c) S 1 7 7 0 -1 4194304 100 0 0 0 30 12 0 0 20 0 1 0 500 4096 77 0"); got != 42 {
		t.Errorf("%d ticks", got)
	}
	if got := procfs.Ticks("rubbish"); got != 0 {
		t.Errorf("%d ticks of rubbish", got)
	}
}
