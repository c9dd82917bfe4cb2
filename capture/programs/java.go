package programs

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"entelon/linux/perf"
	"entelon/linux/procfs"
	"entelon/runtimes/java"
)

// javaEvery is how often a running Java machine is asked for a map of its
// compiled methods: they are compiled again and moved, and those that are
// dropped in between leave no name.
const javaEvery = 2 * time.Second

// javaPatience is how long in nanoseconds a machine that does not answer may
// take to begin.
const javaPatience = 5_000_000_000

// javaMachine asks one Java machine.
type javaMachine struct {
	pid  uint32
	stop chan struct{}
	now  chan struct{} // ask at once
	once sync.Once

	mu     sync.Mutex
	maps   [][]byte // that were not taken in yet
	times  []uint64 // at which each was asked for
	failed error
	ended  bool
	began  uint64
}

func askJava(pid uint32) *javaMachine {
	m := &javaMachine{pid: pid, stop: make(chan struct{}), now: make(chan struct{}, 1), began: perf.Now()}
	go m.run()
	return m
}

func (m *javaMachine) run() {
	defer func() {
		m.mu.Lock()
		m.ended = true
		m.mu.Unlock()
	}()
	for first := true; ; first = false {
		at := perf.Now()
		b, err := javaMap(m.pid)
		m.mu.Lock()
		if err == nil {
			m.maps, m.times, m.failed = append(m.maps, b), append(m.times, at), nil
		} else if len(m.times) == 0 || !errors.Is(err, os.ErrNotExist) {
			m.failed = err
		}
		m.mu.Unlock()
		if errors.Is(err, os.ErrNotExist) && !first {
			m.last(at)
			return // it has ended
		}
		wait := javaEvery
		if err != nil {
			wait = 200 * time.Millisecond // it is only beginning
		}
		select {
		case <-m.stop:
			return
		case <-m.now:
		case <-time.After(wait):
		}
	}
}

// last takes the map that a machine writes when it ends, if it was told to.
func (m *javaMachine) last(at uint64) {
	b, err := readMapOnce(m.pid)
	if err != nil {
		return // it was not
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.maps, m.times, m.failed = append(m.maps, b), append(m.times, at), nil
}

func (m *javaMachine) end() { m.once.Do(func() { close(m.stop) }) }

// settled reports whether a map is there that was made after a time, or none
// will come.
func (m *javaMachine) settled(last, at uint64) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	return last > at || len(m.times) > 0 && m.times[len(m.times)-1] > at || m.ended ||
		m.failed != nil && at > m.began+javaPatience
}

// await asks at once, and waits until the names of a sample are there or it is
// known that they will not come.
func (m *javaMachine) await(last, at uint64) {
	if m.settled(last, at) {
		return
	}
	select {
	case m.now <- struct{}{}:
	default: // it will already
	}
	const every, most = 20 * time.Millisecond, 4 * time.Second
	for waited := time.Duration(0); waited < most && !m.settled(last, at); waited += every {
		time.Sleep(every)
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.ended = true // it was given its time; no sample waits for it again
}

// readJava takes in the maps that have arrived.
func (m *madeCode) readJava() {
	m.java.mu.Lock()
	maps, times := m.java.maps, m.java.times
	m.java.maps, m.java.times = nil, nil
	m.failed = m.java.failed
	m.java.mu.Unlock()
	for i, b := range maps {
		m.codes.Again(bytes.NewReader(b), times[i])
	}
}

// javaMap asks a Java machine for a map of its compiled methods, by the
// mechanism that its own command jcmd uses: a file asks it to listen, it then
// takes a command on a local socket, and writes /tmp/perf-PID.map.
func javaMap(pid uint32) ([]byte, error) {
	root := fmt.Sprintf("/proc/%d/root", pid)
	own := pid
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return nil, fmt.Errorf("process %d: %w", pid, os.ErrNotExist)
	}
	var uid, gid int
	var caught uint64
	for line := range strings.Lines(string(status)) {
		f := strings.Fields(line)
		if len(f) < 2 {
			continue
		}
		var err error
		switch f[0] {
		case "NSpid:":
			var n uint64
			if n, err = strconv.ParseUint(f[len(f)-1], 10, 32); err == nil {
				own = uint32(n)
			}
		case "Uid:":
			uid, err = strconv.Atoi(f[min(2, len(f)-1)])
		case "Gid:":
			gid, err = strconv.Atoi(f[min(2, len(f)-1)])
		case "SigCgt:":
			caught, err = strconv.ParseUint(f[1], 16, 64)
		}
		if err != nil {
			return nil, fmt.Errorf("reading the state of process %d: %w", pid, err)
		}
	}
	// Asked all the same, it would print all its threads' stacks instead.
	const off = "-XX:+DisableAttachMechanism"
	for _, file := range []string{"cmdline", "environ"} {
		if b, err := os.ReadFile(fmt.Sprintf("/proc/%d/%s", pid, file)); err == nil && bytes.Contains(b, []byte(off)) {
			return nil, errors.New("it was started with " + off)
		}
	}
	socket := fmt.Sprintf("%s/tmp/.java_pid%d", root, own)
	if me := os.Geteuid(); me != 0 && me != uid {
		return nil, errors.New("it belongs to another user")
	}
	if _, err := os.Stat(socket); err != nil {
		// Without its handler this signal would end it.
		if caught&(1<<(uint(unix.SIGQUIT)-1)) == 0 {
			return nil, errors.New("it does not listen yet")
		}
		if err := java.Attach(pid, own, uid, gid, root, socket); err != nil {
			return nil, err
		}
	}
	c, err := net.DialTimeout("unix", socket, time.Second)
	if err != nil {
		return nil, fmt.Errorf("asking the Java virtual machine: %w", err)
	}
	defer c.Close()
	if err := c.SetDeadline(time.Now().Add(10 * time.Second)); err != nil {
		return nil, fmt.Errorf("asking the Java virtual machine: %w", err)
	}
	if _, err := c.Write([]byte("1\x00jcmd\x00Compiler.perfmap\x00\x00\x00")); err != nil {
		return nil, fmt.Errorf("asking the Java virtual machine: %w", err)
	}
	answer, err := io.ReadAll(io.LimitReader(c, 64<<10))
	if err != nil {
		return nil, fmt.Errorf("asking the Java virtual machine: %w", err)
	}
	code, text, _ := strings.Cut(string(answer), "\n")
	if code != "0" {
		return nil, fmt.Errorf("this Java virtual machine writes no map of its methods; version 17 and later do: %s", strings.TrimSpace(strings.ReplaceAll(text, "\n", " ")))
	}
	return readMapOnce(pid)
}

// readMapOnce reads a map that was made for us, and removes it.
func readMapOnce(pid uint32) ([]byte, error) {
	f, err := openMap(pid, procfs.Started(pid, time.Now().Add(-time.Minute)))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	defer os.Remove(f.Name())
	const most = 1 << 30
	b, err := io.ReadAll(io.LimitReader(f, most))
	if err != nil {
		return nil, fmt.Errorf("reading the map: %w", err)
	}
	return b, nil
}
