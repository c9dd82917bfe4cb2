package resolve

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"entelon/core/profile"
	"entelon/linux/perf"
	"entelon/linux/procfs"
	"entelon/runtimes/java"
	"entelon/runtimes/node"
	"entelon/symbol"
)

// jitCode is what is known of the code that one process makes at run time.
type jitCode struct {
	pid    uint32
	file   *os.File
	Codes  symbol.JITMap
	looked uint64 // the round of the consumer in which the map was looked at last
	java   *javaMachine
	frames map[jitPlace]profile.FrameID
	maps   map[string]*symbol.SourceMap // by script
	Faults map[string]error             // of source maps
	Failed error                        // why there is no map
}

type jitPlace struct {
	start uint64
	name  string
	found profile.Found
}

// jit returns what is known of a process's code, which is looked for when the
// first sample hits it.
func (p *Process) jit() *jitCode {
	if p.Made == nil {
		p.Made = &jitCode{pid: p.PID, frames: map[jitPlace]profile.FrameID{}, maps: map[string]*symbol.SourceMap{}, Faults: map[string]error{}}
	}
	return p.Made
}

// look reads what was written since, at most once a round.
func (j *jitCode) look(round uint64, began time.Time) {
	if j.looked == round {
		return
	}
	j.looked = round
	if j.java != nil {
		j.readJava()
		return
	}
	if j.file == nil {
		j.file, j.Failed = openMap(j.pid, began)
	}
	if j.file != nil {
		j.Codes.Read(j.file, perf.Now())
	}
}

// errNoMap is the error for a process that writes no map of its code.
var errNoMap = errors.New("it writes no map of the code that it makes")

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
			last = fmt.Errorf("%s is no file", path)
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

// jitFrame returns the frame of an address in code made at run time, 0 where
// no map names it.
func (r *Resolver) jitFrame(p *Process, addr, at uint64, found profile.Found) profile.FrameID {
	j := p.jit()
	j.look(r.Round, r.Began)
	name, start, ok := j.Codes.Find(addr, at)
	if !ok {
		return 0
	}
	key := jitPlace{start, name, found}
	if f, ok := j.frames[key]; ok {
		return f
	}
	fn := r.jitFunction(j, name)
	f := r.Builder.Frame(profile.Frame{Function: r.Builder.Function(fn), Address: start, Found: found})
	j.frames[key] = f
	return f
}

// jitFunction makes the function that a name of a map means.
func (r *Resolver) jitFunction(j *jitCode, name string) profile.Function {
	fn := profile.Function{Linkage: r.Builder.Intern(name)}
	module := func(path string) profile.ModuleID {
		return r.Builder.Module(profile.Module{Path: r.Builder.Intern(path), Kind: profile.KindJIT})
	}
	if s, ok := symbol.ParseScriptName(name); ok {
		file, line := s.File, s.Line
		if m := j.sourceMap(s.File); m != nil {
			if source, to, ok := m.Find(s.Line, s.Column); ok {
				file, line = source, to
			}
		}
		short := s.Function
		if strings.HasPrefix(short, "(") { // one of many in a file
			short = fmt.Sprintf("%s %s:%d", strings.TrimSuffix(short, ")"), filepath.Base(file), line)
			short += ")"
		}
		fn.Name, fn.File, fn.Line = r.Builder.Intern(short), r.Builder.Intern(file), line
		fn.Kind, fn.Module = (node.Runtime{}).KindOf(file), module(file)
		return fn
	}
	if j.java != nil {
		fn.Name = r.Builder.Intern(java.Name(name))
		if java.Name(name) == name {
			fn.Linkage = 0
		}
		fn.Kind, fn.Module = java.KindOf(name), module(java.Package(name))
		return fn
	}
	fn.Name, fn.Linkage, fn.Module = r.Builder.Intern(name), 0, module("//anon")
	fn.Kind = profile.KindJIT
	for _, tag := range []string{"Builtin:", "BytecodeHandler:", "Handler:", "Stub:", "RegExp:", "LoadIC:", "KeyedLoadIC:", "StoreIC:"} {
		if strings.HasPrefix(name, tag) {
			fn.Kind = profile.KindRuntime
		}
	}
	return fn
}

// sourceMap returns the map of a script, nil where it has none.
func (j *jitCode) sourceMap(script string) *symbol.SourceMap {
	if !filepath.IsAbs(script) {
		return nil
	}
	m, ok := j.maps[script]
	if !ok {
		path := fmt.Sprintf("/proc/%d/root%s", j.pid, script)
		if _, err := os.Stat(path); err != nil {
			path = script
		}
		var err error
		if m, err = symbol.OpenSourceMap(path, script); err != nil && !errors.Is(err, os.ErrNotExist) {
			j.Faults[script] = err
		}
		j.maps[script] = m
	}
	return m
}

// leaveMade forgets the code that a process has made.
func (p *Process) leaveMade() {
	if p.Made != nil && p.Made.java != nil {
		p.Made.java.end()
	}
	p.Made = nil
}

// close lets go of the map's file. The file itself is removed where it was
// written because we asked for it.
func (j *jitCode) close(ours bool) error {
	if j == nil || j.file == nil {
		return nil
	}
	err := j.file.Close()
	if ours {
		err = errors.Join(err, os.Remove(filepath.Join("/tmp", filepath.Base(j.file.Name()))))
	}
	if errors.Is(err, os.ErrNotExist) {
		err = nil // it was in another view of the file system, which has gone with the process
	}
	return err
}
