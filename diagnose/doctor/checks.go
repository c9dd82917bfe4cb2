package doctor

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"github.com/cilium/ebpf/btf"
	"golang.org/x/sys/unix"

	"entelon/capture"
	"entelon/capture/rings"
	"entelon/exact"
	"entelon/linux/bpf"
	"entelon/linux/perf"
	"entelon/linux/tracefs"
)

// Examine looks at what this machine and this user's rights allow. It changes
// nothing.
func Examine() []Check {
	return []Check{
		checkRights(), checkKernelPart(), checkKernelNames(), checkOtherStacks(), checkTracepoints(), checkProbes(),
		checkHardware(), checkRate(), checkDebugFiles(), checkCompilers(), checkRuntimes(), checkExact(), checkPostgres(),
	}
}

func checkRights() Check {
	c := Check{Name: "Sampling"}
	if err := perf.Allowed(); err != nil {
		c.State, c.Text, c.Remedy = CheckBad, "This user may not sample programs: "+err.Error()+".", capture.Remedy(err)
		return c
	}
	c.State, c.Text = CheckGood, "This user may sample its own programs."
	if os.Geteuid() == 0 {
		c.Text = "All programs can be sampled."
	}
	return c
}

func checkKernelPart() Check {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	fd, err := perf.Open(perf.Attributes(perf.Clock{RateHz: 99, Kernel: true}), 0, -1, 0)
	if err != nil {
		return Check{"Time inside the kernel", CheckPart, "This user may not sample the kernel's part: " + err.Error() + ".", "Collect as root, or ask for: sysctl kernel.perf_event_paranoid=1"}
	}
	unix.Close(fd)
	return Check{Name: "Time inside the kernel", State: CheckGood, Text: "The kernel's part of a program's time is sampled, too."}
}

func checkKernelNames() Check {
	c := Check{Name: "Names of the kernel's functions", Remedy: perf.KernelNamesRemedy()}
	f, err := os.Open("/proc/kallsyms")
	if err != nil {
		c.State, c.Text = CheckPart, "The kernel's list of functions cannot be read: "+err.Error()+"."
		return c
	}
	defer f.Close()
	b := make([]byte, 64<<10)
	n, err := f.Read(b)
	if err != nil {
		c.State, c.Text = CheckPart, "The kernel's list of functions cannot be read: "+err.Error()+"."
		return c
	}
	for _, line := range strings.Split(string(b[:n]), "\n") {
		if addr, _, ok := strings.Cut(line, " "); ok && strings.Trim(addr, "0") != "" {
			return Check{Name: c.Name, State: CheckGood, Text: "The kernel shows where its functions are."}
		}
	}
	c.State, c.Text = CheckPart, "The kernel hides where its functions are (kernel.kptr_restrict is "+perf.Setting("kptr_restrict")+", kernel.perf_event_paranoid "+perf.Setting("perf_event_paranoid")+")."
	return c
}

func checkOtherStacks() Check {
	c := Check{Name: "Programs in the kernel", Remedy: "Collect as root, with a kernel of version 5.15 or later that has type information (CONFIG_DEBUG_INFO_BTF)."}
	cpus, err := perf.Processors()
	if err == nil {
		var types *btf.Spec
		if types, err = bpf.KernelTypes(nil); err == nil {
			var r *bpf.StackReader
			if r, err = bpf.NewStackReader(cpus, types, bpf.StackOptions{StackBytes: capture.DefaultStackBytes}); err == nil {
				err = errors.Join(r.Loaded(), r.Close())
			}
		}
	}
	if err != nil {
		c.State, c.Text = CheckPart, "Stacks that a thread left behind, and Python functions, are not seen: "+err.Error()+"."
		return c
	}
	return Check{Name: c.Name, State: CheckGood, Text: "Signal handlers, goroutines, deep stacks and Python functions are read at the moment of the sample; calls are counted exactly."}
}

func checkTracepoints() Check {
	t, err := tracefs.Open()
	if err == nil {
		_, err = t.Find("sched", "sched_waking")
		err = errors.Join(err, t.Close())
	}
	if err != nil {
		return Check{"Tracepoints", CheckPart, "Waiting for a processor, system calls, disk requests and tracepoints cannot be measured: " + err.Error() + ".", "Collect as root."}
	}
	return Check{Name: "Tracepoints", State: CheckGood, Text: "System calls, disk requests and every tracepoint of the kernel can be measured."}
}

func checkProbes() Check {
	t, err := tracefs.Open()
	if err == nil {
		_, err = t.Read("uprobe_events")
		err = errors.Join(err, t.Close())
	}
	if err != nil {
		return Check{"Probes in programs", CheckPart, "Allocations and calls of functions cannot be counted: " + err.Error() + ".", "Collect as root, with a kernel that has CONFIG_UPROBE_EVENTS."}
	}
	return Check{Name: "Probes in programs", State: CheckGood, Text: "Allocations and calls of functions can be counted."}
}

func checkHardware() Check {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	var missing []string
	for _, k := range rings.CounterKinds {
		if k.Kind != unix.PERF_TYPE_HARDWARE {
			continue
		}
		a := perf.Attributes(perf.Clock{RateHz: 1})
		a.Type, a.Config, a.Sample, a.Sample_type = k.Kind, k.Config, 0, 0
		fd, err := unix.PerfEventOpen(a, 0, -1, -1, unix.PERF_FLAG_FD_CLOEXEC)
		if err != nil {
			missing = append(missing, k.Name)
			continue
		}
		unix.Close(fd)
	}
	if len(missing) > 0 {
		return Check{"Counters of the processor", CheckPart, "Not counted here: " + strings.Join(missing, ", ") + ". The clock is sampled instead.", "A virtual machine has them only if its host hands them on."}
	}
	return Check{Name: "Counters of the processor", State: CheckGood, Text: "Instructions, cycles, cache and branch misses are counted."}
}

func checkRate() Check {
	return Check{Name: "Rate", State: CheckGood, Text: "The kernel allows up to " + perf.Setting("perf_event_max_sample_rate") + " samples a second."}
}

func checkDebugFiles() Check {
	found, err := filepath.Glob("/usr/lib/debug/.build-id/*")
	switch {
	case err == nil && len(found) > 0:
		return Check{Name: "Debug files", State: CheckGood, Text: "Separate debug files are installed under /usr/lib/debug."}
	case os.Getenv("DEBUGINFOD_URLS") != "":
		return Check{Name: "Debug files", State: CheckGood, Text: "Debug files that are missing can be fetched with --debug-server."}
	}
	return Check{"Debug files", CheckPart, "No separate debug files are installed: inlined functions and lines of system libraries are missing.", "Fetch them for a take with: entelon symbols get TAKE. Or install the packages that end in -dbgsym or -dbg."}
}

// checkCompilers asks the C compilers that are installed whether optimised code
// keeps frame pointers. It does not have to, where stacks are walked by tables.
func checkCompilers() Check {
	c := Check{Name: "Compilers' frame pointers", State: CheckGood}
	var keep, omit []string
	for _, name := range []string{"gcc", "clang"} {
		path, err := exec.LookPath(name)
		if err != nil {
			continue
		}
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		cmd := exec.CommandContext(ctx, path, "-O2", "-S", "-x", "c", "-o", "-", "-")
		cmd.Stdin = strings.NewReader("int g(int); int f(int x) { return g(x) + 1; }\n")
		out, err := cmd.Output()
		cancel()
		switch {
		case err != nil:
		case strings.Contains(string(out), "%rsp, %rbp") || strings.Contains(string(out), "x29, sp"):
			keep = append(keep, name)
		default:
			omit = append(omit, name)
		}
	}
	switch {
	case len(keep)+len(omit) == 0:
		c.Text = "No C compiler is installed."
	case len(omit) == 0:
		c.Text = "Optimised code of " + strings.Join(keep, " and ") + " keeps frame pointers."
	default:
		c.Text = "Optimised code of " + strings.Join(omit, " and ") + " keeps no frame pointers. Stacks are unwound by tables, so nothing is missing; only --unwind \"frame pointers\" needs -fno-omit-frame-pointer."
	}
	return c
}

func checkRuntimes() Check {
	var found []string
	for _, x := range []struct{ name, program string }{{"Python", "python3"}, {"Node.js", "node"}, {"Java", "java"}, {"Go", "go"}} {
		if _, err := exec.LookPath(x.program); err == nil {
			found = append(found, x.name)
		}
	}
	if len(found) == 0 {
		return Check{Name: "Runtimes", State: CheckGood, Text: "No language runtime is installed."}
	}
	return Check{Name: "Runtimes", State: CheckGood, Text: "Found: " + strings.Join(found, ", ") + "."}
}

func checkPostgres() Check {
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if err == nil && len(found) > 0 {
		return Check{Name: "PostgreSQL", State: CheckGood, Text: fmt.Sprintf("A server can be started here (%s).", found[len(found)-1])}
	}
	return Check{"PostgreSQL", CheckPart, "PostgreSQL is not installed, so that a server here needs one elsewhere.", "Install it with: apt-get install postgresql"}
}

// checkExact runs a program that does nothing in the emulator, with the plugin.
func checkExact() Check {
	c := Check{Name: "Exact runs"}
	r, err := exact.Once(exact.Options{Command: []string{"/bin/true"}})
	switch {
	case errors.Is(err, exact.ErrNoEmulator):
		c.State, c.Text, c.Remedy = CheckPart, "There is no emulator here, so nothing can be run exactly.", "Install it with: apt-get install qemu-user"
	case err != nil:
		c.State, c.Text, c.Remedy = CheckPart, "The emulator here does not run the plugin: "+err.Error()+".", "Version 7.2 of qemu-user does."
	case len(r.Processes) == 0 || r.Processes[0].Instructions() == 0:
		c.State, c.Text, c.Remedy = CheckPart, "The emulator here counted nothing.", "Version 7.2 of qemu-user does."
	default:
		c.State, c.Text = CheckGood, "Programs can be run in the emulator, which counts every instruction and call."
	}
	return c
}
