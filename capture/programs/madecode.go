package programs

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"entelon/linux/perf"
	"entelon/linux/procfs"
	"entelon/symbol/jit"
)

// madeCode is what is known of the code that one process makes at run time. It
// implements resolve.MadeCode.
type madeCode struct {
	world   *World
	pid     uint32
	file    *os.File
	codes   jit.Map
	looked  uint64 // the round in which the map was looked at last
	java    *javaMachine
	maps    map[string]*jit.SourceMap // by script
	faults  map[string]error          // of source maps
	failed  error                     // why there is no map
	unfound int64                     // how often a name was looked for and not there
}

func newMadeCode(w *World, pid uint32, asks bool) *madeCode {
	m := &madeCode{world: w, pid: pid, maps: map[string]*jit.SourceMap{}, faults: map[string]error{}}
	if asks {
		m.java = askJava(pid)
	}
	return m
}

// Find implements resolve.MadeCode.
func (m *madeCode) Find(address, at uint64) (name string, start uint64, ok bool) {
	m.look()
	if name, start, ok = m.codes.Find(address, at); !ok {
		m.unfound++
	}
	return name, start, ok
}

// Coming implements resolve.MadeCode.
func (m *madeCode) Coming(at uint64) bool {
	return m.java != nil && !m.java.settled(m.codes.Last(), at)
}

// Await implements resolve.MadeCode.
func (m *madeCode) Await(at uint64) {
	if m.Coming(at) {
		m.java.await(m.codes.Last(), at)
		m.looked = 0
	}
}

// Leave implements resolve.MadeCode.
func (m *madeCode) Leave() {
	m.world.note(m.close())
	m.world.made = slices.DeleteFunc(m.world.made, func(x *madeCode) bool { return x == m })
}

// look reads what was written since, at most once a round.
func (m *madeCode) look() {
	if m.looked == m.world.round {
		return
	}
	m.looked = m.world.round
	if m.java != nil {
		m.readJava()
		return
	}
	if m.file == nil {
		m.file, m.failed = openMap(m.pid, m.world.Began)
	}
	if m.file != nil {
		m.codes.Read(m.file, perf.Now())
	}
}

// errNoMap is the error for a process that writes no map of its code.
var errNoMap = errors.New("it writes no map of its generated code")

// openMap opens the map that a process writes: /tmp/perf-PID.map in its own
// view of the file system and by its own number. A file that others have put
// there, or that an earlier process of this number has left, is not taken.
func openMap(pid uint32, began time.Time) (*os.File, error) {
	own, uid, started := pid, uint32(os.Geteuid()), began
	if b, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid)); err == nil {
		for line := range strings.Lines(string(b)) {
			f := strings.Fields(line)
			if len(f) > 1 && f[0] == "NSpid:" {
				if n, err := strconv.ParseUint(f[len(f)-1], 10, 32); err == nil {
					own = uint32(n)
				}
			}
			if len(f) > 2 && f[0] == "Uid:" {
				if n, err := strconv.ParseUint(f[2], 10, 32); err == nil {
					uid = uint32(n)
				}
			}
		}
		started = procfs.Started(pid, began)
	}
	var last error = errNoMap
	for _, path := range []string{fmt.Sprintf("/proc/%d/root/tmp/perf-%d.map", pid, own), fmt.Sprintf("/tmp/perf-%d.map", pid)} {
		f, err := os.OpenFile(path, os.O_RDONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK, 0)
		if err != nil {
			continue
		}
		var st unix.Stat_t
		switch err := unix.Fstat(int(f.Fd()), &st); {
		case err != nil:
			last = err
		case st.Mode&unix.S_IFMT != unix.S_IFREG:
			last = fmt.Errorf("%s is not a file", path)
		case st.Uid != uid && st.Uid != 0:
			last = fmt.Errorf("%s belongs to another user than the process", path)
		case time.Unix(st.Mtim.Unix()).Before(started.Add(-time.Second)):
			last = fmt.Errorf("%s is of an earlier process", path)
		default:
			return f, nil
		}
		f.Close()
	}
	return nil, last
}

// SourceMap implements resolve.MadeCode.
func (m *madeCode) SourceMap(script string) *jit.SourceMap {
	if !filepath.IsAbs(script) {
		return nil
	}
	known, ok := m.maps[script]
	if !ok {
		path := fmt.Sprintf("/proc/%d/root%s", m.pid, script)
		if _, err := os.Stat(path); err != nil {
			path = script
		}
		var err error
		if known, err = jit.OpenSourceMap(path, script); err != nil && !errors.Is(err, os.ErrNotExist) {
			m.faults[script] = err
		}
		m.maps[script] = known
	}
	return known
}

// close lets go of the map's file. The file itself is removed where it was
// written because we asked for it.
func (m *madeCode) close() error {
	if m.java != nil {
		m.java.end()
	}
	if m.file == nil {
		return nil
	}
	err := m.file.Close()
	if m.world.AskedMaps && m.pid == m.world.Command {
		err = errors.Join(err, os.Remove(filepath.Join("/tmp", filepath.Base(m.file.Name()))))
	}
	if errors.Is(err, os.ErrNotExist) {
		err = nil // it was in another view of the file system, which has gone with the process
	}
	return err
}

// MapFault is what is wrong with the names of the code that a process makes.
type MapFault struct {
	PID     uint32
	Missing error // why there is no map
	Fault   error // why some of it is missing
	Source  error // what is wrong with a script's source map
}

// MapFaults lists them.
func (w *World) MapFaults() (out []MapFault) {
	for _, m := range w.made {
		f := MapFault{PID: m.pid, Fault: m.codes.Fault}
		if m.unfound > 0 { // where all have names, it does not matter how they were come by
			f.Missing = m.failed
		}
		for _, err := range m.faults {
			f.Source = err
			break
		}
		out = append(out, f)
	}
	return out
}
