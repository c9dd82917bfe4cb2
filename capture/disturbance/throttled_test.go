package disturbance

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"
)

func write(t *testing.T, path, text string) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

func TestSlowedDownAndHeldBack(t *testing.T) {
	root := t.TempDir()
	cpu := func(n int, kind string, count int) {
		write(t, fmt.Sprintf("%s/sys/devices/system/cpu/cpu%d/thermal_throttle/%s_throttle_count", root, n, kind), fmt.Sprintln(count))
	}
	stat := func(group string, usec int) {
		write(t, filepath.Join(root, "sys/fs/cgroup", group, "cpu.stat"), fmt.Sprintf("usage_usec 900\nnr_throttled 3\nthrottled_usec %d\n", usec))
	}
	cpu(0, "core", 5)
	cpu(0, "package", 1)
	cpu(1, "core", 0)
	write(t, filepath.Join(root, "proc/42/cgroup"), "0::/shop/desk\n")
	write(t, filepath.Join(root, "proc/43/cgroup"), "4:memory:/x\n3:cpu,cpuacct:/old\n")
	stat("shop", 1000)
	stat("shop/desk", 0)
	write(t, filepath.Join(root, "sys/fs/cgroup/cpu/old/cpu.stat"), "nr_periods 1\nthrottled_time 5000000\n")
	before := ReadSlowed(root, []int{42, 43, 44})
	if hot, times, held := ReadSlowed(root, []int{42, 43}).Since(before); len(hot) != 0 || times != 0 || held != 0 {
		t.Errorf("nothing happened, and %v, %d, %v is said", hot, times, held)
	}
	cpu(0, "core", 7)
	stat("shop", 301_000)
	if hot, times, held := ReadSlowed(root, []int{42, 43}).Since(before); !slices.Equal(hot, []string{"cpu0"}) || times != 2 || held != 300*time.Millisecond {
		t.Errorf("%v, %d, %v", hot, times, held)
	}
	write(t, filepath.Join(root, "sys/fs/cgroup/cpu/old/cpu.stat"), "nr_periods 1\nthrottled_time 905000000\n")
	if _, _, held := ReadSlowed(root, []int{42, 43}).Since(before); held != 900*time.Millisecond {
		t.Errorf("held back for %v", held)
	}
}
