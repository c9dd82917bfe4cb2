package tracefs

import (
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"entelon/linux"
)

// Probes are places in programs that the kernel counts as tracepoints of its
// own. The kernel's other way to probe a program, an event that names a file,
// cannot be inherited: making a thread would fail in the program. The list is
// one for the whole system; ours are in a group with our process's number, and
// what a killed collector left there (which does nothing) is removed by the
// next one.
type Probes struct {
	tracing *List
	group   string
	names   []string
}

const probeGroup = "entelon_"

// NewProbes removes what collectors that are no more left in the list.
func NewProbes(t *List) (*Probes, error) {
	p := &Probes{tracing: t, group: fmt.Sprintf("%s%d", probeGroup, os.Getpid())}
	return p, p.sweep()
}

// sweep removes probes of collectors that are no more.
func (p *Probes) sweep() error {
	list, err := p.tracing.Read("uprobe_events")
	if errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("this kernel has no probes in programs: %w", linux.ErrProbe)
	} else if err != nil {
		return fmt.Errorf("reading the kernel's list of probes: %w", err)
	}
	for _, line := range strings.Split(list, "\n") { // p:GROUP/NAME FILE:OFFSET
		name, _, _ := strings.Cut(strings.TrimPrefix(line, "p:"), " ")
		group, _, _ := strings.Cut(name, "/")
		pid, err := strconv.Atoi(strings.TrimPrefix(group, probeGroup))
		if err != nil || !strings.HasPrefix(group, probeGroup) || unix.Kill(pid, 0) != unix.ESRCH {
			continue
		}
		if err := p.write("-:" + name); err != nil {
			return err
		}
	}
	return nil
}

func (p *Probes) write(line string) error {
	fd, err := unix.Openat(int(p.tracing.dir.Fd()), "uprobe_events", unix.O_WRONLY|unix.O_APPEND|unix.O_CLOEXEC, 0)
	if err != nil {
		return fmt.Errorf("opening the kernel's list of probes: %w", err)
	}
	_, err = unix.Write(fd, []byte(line+"\n"))
	if err = errors.Join(err, unix.Close(fd)); err != nil {
		return fmt.Errorf("writing to the kernel's list of probes: %w", err)
	}
	return nil
}

// Add puts a probe at an offset of a file. The kernel is given the file by its
// number here: a path may have letters that the list takes for its own.
func (p *Probes) Add(f *os.File, offset uint64) (Tracepoint, error) {
	name := fmt.Sprintf("p%d", len(p.names))
	if err := p.write(fmt.Sprintf("p:%s/%s /proc/%d/fd/%d:0x%x", p.group, name, os.Getpid(), f.Fd(), offset)); err != nil {
		return Tracepoint{}, fmt.Errorf("%w: %w", linux.ErrProbe, err)
	}
	p.names = append(p.names, name)
	return p.tracing.Find(p.group, name)
}

// Close removes the probes; the events on them must be closed before.
func (p *Probes) Close() error {
	var errs []error
	for _, n := range p.names {
		errs = append(errs, p.write("-:"+p.group+"/"+n))
	}
	p.names = nil
	return errors.Join(errs...)
}
