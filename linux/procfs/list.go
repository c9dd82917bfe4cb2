package procfs

import (
	"debug/elf"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// lookAgain is how long the processor time of all processes is watched.
const lookAgain = 250 * time.Millisecond

// List lists what runs on this machine, the busiest first. It looks twice,
// a moment apart, to see who is busy.
func List() ([]Running, error) {
	before, err := TicksByProcess()
	if err != nil {
		return nil, err
	}
	began := time.Now()
	time.Sleep(lookAgain)
	took := time.Since(began).Seconds()
	up, err := uptime()
	if err != nil {
		return nil, err
	}
	owners := map[uint32]string{}
	var out []Running
	for pid, ticks := range before {
		p, stat, ok := readProcess(pid, owners)
		if !ok {
			continue // it has ended meanwhile, or is a thread of the kernel
		}
		p.CPU = float64(Ticks(stat)-ticks) / TicksASecond / took
		p.UsedS = float64(Ticks(stat)) / TicksASecond
		f := strings.Fields(stat[strings.LastIndexByte(stat, ')')+1:])
		if len(f) > 1 {
			p.Parent, _ = strconv.Atoi(f[1])
		}
		if len(f) > 19 {
			p.Threads, _ = strconv.Atoi(f[17])
			if start, err := strconv.ParseFloat(f[19], 64); err == nil {
				p.AgeS = max(0, up-start/TicksASecond)
			}
		}
		out = append(out, p)
	}
	sort.Slice(out, func(i, j int) bool {
		if out[i].CPU != out[j].CPU {
			return out[i].CPU > out[j].CPU
		}
		return out[i].PID < out[j].PID
	})
	return out, nil
}

func uptime() (float64, error) {
	b, err := os.ReadFile("/proc/uptime")
	if err != nil {
		return 0, fmt.Errorf("listing processes: %w", err)
	}
	first, _, _ := strings.Cut(string(b), " ")
	return strconv.ParseFloat(first, 64)
}

// TicksByProcess returns the processor time of all processes, in ticks.
func TicksByProcess() (map[int]int64, error) {
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return nil, fmt.Errorf("listing processes: %w", err)
	}
	out := map[int]int64{}
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		if b, err := os.ReadFile(filepath.Join("/proc", e.Name(), "stat")); err == nil {
			out[pid] = Ticks(string(b))
		}
	}
	return out, nil
}

func readProcess(pid int, owners map[uint32]string) (p Running, stat string, ok bool) {
	dir := fmt.Sprintf("/proc/%d", pid)
	b, err := os.ReadFile(dir + "/stat")
	line, err2 := os.ReadFile(dir + "/cmdline")
	if err != nil || err2 != nil || len(line) == 0 {
		return p, "", false
	}
	p = Running{PID: pid, Name: ThreadName(uint32(pid), uint32(pid)), Command: strings.Split(strings.TrimRight(string(line), "\x00"), "\x00")}
	if exe, err := os.Readlink(dir + "/exe"); err == nil {
		p.Program = strings.TrimSuffix(exe, " (deleted)")
	}
	var st unix.Stat_t
	if unix.Stat(dir, &st) == nil {
		name, known := owners[st.Uid]
		if !known {
			name = strconv.Itoa(int(st.Uid))
			if u, err := user.LookupId(name); err == nil {
				name = u.Username
			}
			owners[st.Uid] = name
		}
		p.Owner = name
	}
	p.Runtime = runtimeOf(pid, p.Program)
	return p, string(b), true
}

// runtimeOf tells a process's language runtime by its file and its libraries.
func runtimeOf(pid int, program string) string {
	switch base := filepath.Base(program); {
	case strings.HasPrefix(base, "python"):
		return "python"
	case base == "node" || base == "nodejs":
		return "node"
	case base == "java":
		return "java"
	}
	for _, f := range MappedFiles(pid) {
		switch base := filepath.Base(f); {
		case strings.HasPrefix(base, "libpython"):
			return "python"
		case base == "libjvm.so":
			return "java"
		}
	}
	if f, err := os.Open(fmt.Sprintf("/proc/%d/exe", pid)); err == nil {
		defer f.Close()
		if hasGo(f) {
			return "go"
		}
	}
	return ""
}

// hasGo reports whether a file has the Go linker's function table.
func hasGo(f *os.File) bool {
	e, err := elf.NewFile(f)
	if err != nil {
		return false
	}
	return e.Section(".gopclntab") != nil || e.Section(".data.rel.ro.gopclntab") != nil
}

// Running is a process that could be attached to.
type Running struct {
	PID     int
	Name    string
	Command []string
	Owner   string
	Program string // path of its file, "" where that may not be read
	Runtime string // "go", "python", "node", "java" or ""
	Threads int
	AgeS    float64
	CPU     float64 // processors that it uses now
	Parent  int     // number of the process that started it
	UsedS   float64 // processor time since it began
}
