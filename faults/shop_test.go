package faults

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"entelon/codec/take"
	"entelon/core/invent"
	"entelon/core/profile"
	"entelon/server/api"
)

// shop is an installation: a server with its PostgreSQL, a collector in a network
// of its own, and the proxy between them.
type shop struct {
	t         *testing.T
	bin       string
	dir       string // on the disk
	disks     map[string]string
	address   string
	net       *proxy
	space     string // the network namespace of the collector
	link      string // its end here
	host      string
	token     string
	mu        sync.Mutex // guards the processes
	server    *exec.Cmd
	collector *exec.Cmd
	log       *os.File
}

// subnet is where the collector's network is; it is nobody's by RFC 2544.
const subnet = "198.18.77"

func (s *shop) run(words ...string) {
	s.t.Helper()
	if b, err := exec.Command(words[0], words[1:]...).CombinedOutput(); err != nil {
		s.t.Fatalf("%s: %v: %s", strings.Join(words, " "), err, b)
	}
}

func open(t *testing.T) *shop {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("only root can make networks and disks to break")
	}
	dir, err := os.MkdirTemp("/var/tmp", "entelon-faults-*")
	if err != nil {
		t.Fatal(err)
	}
	s := &shop{t: t, dir: dir, bin: filepath.Join(dir, "entelon"), disks: map[string]string{}}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	build := exec.Command("go", "build", "-o", s.bin, "../cmd/entelon")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if b, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, b)
	}
	if s.log, err = os.Create(filepath.Join(dir, "log")); err != nil {
		t.Fatal(err)
	}
	// Each folder that is written to is a disk of its own, to be filled.
	for name, size := range map[string]string{"database": "2500m", "temp": "48m", "state": "24m"} {
		path := filepath.Join(dir, name)
		if err := os.Mkdir(path, 0o755); err != nil {
			t.Fatal(err)
		}
		if err := syscall.Mount("none", path, "tmpfs", 0, "size="+size); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = syscall.Unmount(path, syscall.MNT_DETACH) })
		s.disks[name] = path
	}
	if err := os.Chmod(s.disks["temp"], 0o1777); err != nil {
		t.Fatal(err)
	}
	id := fmt.Sprint(os.Getpid() % 100_000)
	s.space, s.link, s.host = "entelon-"+id, "ent"+id+"a", subnet+".1"
	s.run("ip", "netns", "add", s.space)
	t.Cleanup(func() { _ = exec.Command("ip", "netns", "del", s.space).Run() })
	s.run("ip", "link", "add", s.link, "type", "veth", "peer", "name", "collector", "netns", s.space)
	s.run("ip", "addr", "add", s.host+"/30", "dev", s.link)
	s.run("ip", "link", "set", s.link, "up")
	s.run("ip", "-n", s.space, "addr", "add", subnet+".2/30", "dev", "collector")
	s.run("ip", "-n", s.space, "link", "set", "collector", "up")
	s.run("ip", "-n", s.space, "link", "set", "lo", "up")
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	s.address = l.Addr().String()
	l.Close()
	if s.net, err = newProxy(s.host+":0", s.address); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.net.l.Close() })
	link := s.startServer()
	s.enrol(link)
	s.startCollector()
	t.Cleanup(func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		for _, c := range []*exec.Cmd{s.collector, s.server} {
			_ = c.Process.Signal(syscall.SIGTERM)
			_ = c.Wait()
		}
	})
	return s
}

// startServer starts the server and waits until it says where it is.
func (s *shop) startServer() (link string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for tries := 1; ; tries++ {
		s.server = exec.Command(s.bin, "serve", "--user", "7420:7420", "--no-collector", "--listen", s.address, "--host", s.host, "--data", filepath.Join(s.disks["database"], "d"), "--link", "--log-level", "warn")
		s.server.Env = append(os.Environ(), "TMPDIR="+s.disks["temp"])
		s.server.Stderr = s.log
		out, err := s.server.StdoutPipe()
		if err != nil {
			s.t.Fatal(err)
		}
		if err := s.server.Start(); err != nil {
			s.t.Fatal(err)
		}
		lines := bufio.NewScanner(out)
		for lines.Scan() {
			if _, after, ok := strings.Cut(lines.Text(), "/enter/"); ok {
				go func() { _, _ = io.Copy(io.Discard, out) }()
				return strings.TrimSpace(after)
			}
		}
		_ = s.server.Wait()
		if tries == 1 && s.full() { // the one start that may fail is that on a full disk
			s.empty()
			continue
		}
		b, _ := os.ReadFile(s.log.Name())
		s.t.Fatalf("the server does not start: %s", b[max(0, len(b)-3000):])
	}
}

func (s *shop) enrol(link string) {
	s.t.Helper()
	jar, err := cookiejar.New(nil)
	if err != nil {
		s.t.Fatal(err)
	}
	c := &http.Client{Jar: jar}
	post := func(path string, in, out any) {
		s.t.Helper()
		b, err := json.Marshal(in)
		if err != nil {
			s.t.Fatal(err)
		}
		resp, err := c.Post("http://"+s.address+"/api/v1"+path, "application/json", bytes.NewReader(b))
		if err != nil {
			s.t.Fatal(err)
		}
		defer resp.Body.Close()
		text, err := io.ReadAll(resp.Body)
		if err != nil || resp.StatusCode >= 300 || json.Unmarshal(text, out) != nil {
			s.t.Fatalf("%s: %s, %v: %s", path, resp.Status, err, text)
		}
	}
	var token api.NewTokenOut
	var enrol api.CollectorLinkOut
	post("/enter", api.EnterIn{Link: link}, &struct{}{})
	post("/me/tokens", api.TokenIn{Name: "faults", Role: "collect"}, &token)
	post("/collectors", api.CollectorNameIn{Name: "press"}, &enrol)
	s.token = token.Secret
	_, port, _ := net.SplitHostPort(s.net.l.Addr().String())
	s.run("ip", "netns", "exec", s.space, s.bin, "collector", "enrol", "http://"+net.JoinHostPort(s.host, port)+enrol.Path, "--state", filepath.Join(s.disks["state"], "c"))
}

func (s *shop) startCollector() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.collector = exec.Command("ip", "netns", "exec", s.space, s.bin, "collector", "--state", filepath.Join(s.disks["state"], "c"), "--log-level", "error", "--symbol-cache", "off")
	s.collector.Stderr = s.log
	if err := s.collector.Start(); err != nil {
		s.t.Fatal(err)
	}
}

// fill fills a disk to its last byte.
func (s *shop) fill(name string) {
	f, err := os.Create(filepath.Join(s.disks[name], "ballast"))
	if err != nil {
		return // it is full
	}
	defer f.Close()
	b := make([]byte, 1<<20)
	for len(b) > 0 {
		if _, err := f.Write(b); err != nil {
			b = b[:len(b)/2]
		}
	}
}

// full reports whether some disk is filled.
func (s *shop) full() bool {
	for _, path := range s.disks {
		if _, err := os.Stat(filepath.Join(path, "ballast")); err == nil {
			return true
		}
	}
	return false
}

// empty takes the ballast from all disks.
func (s *shop) empty() {
	for _, path := range s.disks {
		_ = os.Remove(filepath.Join(path, "ballast")) // most have none
	}
}

// ask asks the server; status is 0 where it does not answer.
func (s *shop) ask(ctx context.Context, method, path string, body io.Reader) (status int, answer []byte) {
	ctx, cancel := context.WithTimeout(ctx, 60*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, method, "http://"+s.address+"/api/v1"+path, body)
	if err != nil {
		return 0, nil
	}
	req.Header.Set("Authorization", "Bearer "+s.token)
	req.Header.Set("Content-Type", "application/json")
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return 0, nil
	}
	defer resp.Body.Close()
	if answer, err = io.ReadAll(resp.Body); err != nil {
		return 0, nil
	}
	return resp.StatusCode, answer
}

// upload is a take that the server has acknowledged.
type upload struct{ key, digest string }

// sent sends a take that nobody has sent before.
func (s *shop) sent(ctx context.Context, seed uint64) (upload, bool) {
	shape := invent.Small
	shape.Samples = 500 + int(seed%40)*500
	x := invent.Take(seed, shape)
	x.Settings.Program, x.Settings.Build = fmt.Sprint("program ", seed%5), fmt.Sprint("build ", seed%17)
	var b bytes.Buffer
	if err := take.Write(&b, x); err != nil {
		s.t.Error(err)
		return upload{}, false
	}
	sum := sha256.Sum256(b.Bytes())
	status, answer := s.ask(ctx, "POST", "/takes", &b)
	var out api.AddedOut
	if status != http.StatusCreated && status != http.StatusOK || json.Unmarshal(answer, &out) != nil {
		return upload{}, false
	}
	return upload{out.Take.Key, hex.EncodeToString(sum[:])}, true
}

// collect asks for a take of some length.
func (s *shop) collect(ctx context.Context, length time.Duration) (id string, ok bool) {
	b, err := json.Marshal(api.JobIn{Collector: "press", Settings: &profile.Settings{Command: []string{"sh", "-c", "while :; do :; done"}, RateHz: 199, ForNS: int64(length)}})
	if err != nil {
		s.t.Error(err)
		return "", false
	}
	status, answer := s.ask(ctx, "POST", "/jobs", bytes.NewReader(b))
	var out api.JobOut
	if status != http.StatusAccepted || json.Unmarshal(answer, &out) != nil {
		return "", false
	}
	return out.ID, true
}
