package follow

import "testing"

func TestInstructionsThatTheKernelDoes(t *testing.T) {
	for code, want := range map[string]bool{
		"\x55\x48\x89\xe5": true, "\x41\x57\x41\x56": true, "\x90\x90": true, "\xe9\x00\x00\x00\x00": true, "\x74\x05": true,
		"\xf3\x0f\x1e\xfa": false, "\x48\x83\xec\x18": false, "\x49\x3b\x66\x10": false, "": false, "\x55": false,
	} {
		if got := emulates([]byte(code)); got != want {
			t.Errorf("% x: %v", code, got)
		}
	}
}
