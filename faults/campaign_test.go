package faults

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"entelon/bench/section"
	"entelon/server/api"
	"entelon/store/private"
)

var (
	kills = flag.Int("kills", 24, "how many faults are made")
	seed  = flag.Uint64("seed", 0, "of the faults; 0 is another one each time")
	write = flag.String("write", "", "the document to write what came of it into")
)

// record is what was acknowledged.
type record struct {
	mu                       sync.Mutex
	uploads                  []upload
	jobs                     []string
	reads, wrong             atomic.Int64
	refusedUploads, refusals atomic.Int64
}

// TestCampaign breaks things one after the other, and then looks whether all that
// was acknowledged is there.
func TestCampaign(t *testing.T) {
	if *seed == 0 {
		*seed = uint64(time.Now().UnixNano())
	}
	t.Logf("seed %d", *seed)
	s := open(t)
	r := rand.New(rand.NewPCG(*seed, 7))
	ctx, stop := context.WithCancel(context.Background())
	var rec record
	var working sync.WaitGroup
	work := func(every time.Duration, do func(n uint64)) {
		working.Go(func() {
			for n := uint64(1); ctx.Err() == nil; n++ {
				do(n)
				select {
				case <-ctx.Done():
				case <-time.After(every):
				}
			}
		})
	}
	for w := range uint64(2) {
		work(150*time.Millisecond, func(n uint64) {
			u, ok := s.sent(ctx, *seed%1_000_000+w*10_000_000+n)
			if !ok {
				rec.refusedUploads.Add(1)
				return
			}
			rec.mu.Lock()
			defer rec.mu.Unlock()
			rec.uploads = append(rec.uploads, u)
		})
	}
	work(1500*time.Millisecond, func(n uint64) {
		id, ok := s.collect(ctx, time.Duration(300+n%7*300)*time.Millisecond)
		if !ok {
			rec.refusals.Add(1)
			return
		}
		rec.mu.Lock()
		defer rec.mu.Unlock()
		rec.jobs = append(rec.jobs, id)
	})
	work(50*time.Millisecond, func(n uint64) {
		rec.mu.Lock()
		if len(rec.uploads) == 0 {
			rec.mu.Unlock()
			return
		}
		u := rec.uploads[int(n*7919)%len(rec.uploads)]
		rec.mu.Unlock()
		if n%3 == 0 {
			s.ask(ctx, "GET", "/takes/"+u.key+"/flame", nil)
		}
		if status, b := s.ask(ctx, "GET", "/takes/"+u.key+"/file", nil); status == http.StatusOK {
			rec.reads.Add(1)
			if sum := sha256.Sum256(b); hex.EncodeToString(sum[:]) != u.digest {
				rec.wrong.Add(1)
				t.Errorf("take %s was read as other bytes than were sent", u.key)
			}
		} else if status == http.StatusNotFound {
			rec.wrong.Add(1)
			t.Errorf("take %s was acknowledged and is not there", u.key)
		}
	})
	made := s.breakThings(r, *kills)
	s.empty()
	s.heal()
	time.Sleep(2 * time.Second)
	stop()
	working.Wait()
	s.settle(&rec)
	faults := s.check(&rec)
	if t.Failed() {
		b, _ := os.ReadFile(s.log.Name())
		t.Logf("the end of the log: %s", b[max(0, len(b)-4000):])
	}
	t.Logf("%v; %d uploads and %d jobs acknowledged, %d files read", made, len(rec.uploads), len(rec.jobs), rec.reads.Load())
	if *write != "" && !t.Failed() {
		if err := report(*write, made, &rec, faults); err != nil {
			t.Fatal(err)
		}
	}
}

// breakThings makes faults one after the other, and repairs what does not repair
// itself: it starts again who was killed, as a service manager does.
func (s *shop) breakThings(r *rand.Rand, n int) map[string]int {
	made := map[string]int{}
	pause := func(most int) { time.Sleep(time.Duration(r.IntN(most)) * time.Millisecond) }
	kinds := []struct {
		name   string
		weight int
		do     func()
	}{
		{"the server is killed", 5, func() { s.kill(&s.server); pause(400); s.startServer() }},
		{"the collector is killed", 5, func() { s.kill(&s.collector); pause(400); s.startCollector() }},
		{"a database process is killed", 4, func() {
			if list := s.postgres(false); len(list) > 0 {
				_ = syscall.Kill(list[r.IntN(len(list))], syscall.SIGKILL)
			}
		}},
		{"the database is killed", 3, func() {
			for _, pid := range s.postgres(true) {
				_ = syscall.Kill(pid, syscall.SIGKILL)
			}
		}},
		{"everything is killed", 2, func() {
			for _, pid := range append(s.postgres(false), s.postgres(true)...) {
				_ = syscall.Kill(pid, syscall.SIGKILL)
			}
			s.kill(&s.server)
			s.kill(&s.collector)
			s.startServer()
			s.startCollector()
		}},
		{"the database's disk is full", 1, func() { s.fill("database"); pause(3000); s.empty() }},
		{"the disk for uploads is full", 1, func() { s.fill("temp"); pause(2000); s.empty() }},
		{"the spool's disk is full", 1, func() { s.fill("state"); pause(3000); s.empty() }},
		{"the clock jumps", 1, func() { s.jump(r) }},
		{"the network is cut", 2, func() { s.cable("down"); s.net.cut(); pause(1500); s.cable("up") }},
		{"connections break", 3, func() { s.net.cut() }},
		{"the network stands still", 2, func() { s.net.stands.Store(true); pause(2000); s.net.stands.Store(false) }},
		{"the network is slow", 1, func() { s.net.delay.Store(int64(200 * time.Millisecond)); pause(3000); s.net.delay.Store(0) }},
		{"the network repeats", 2, func() { s.net.repeat.Store(true); pause(1500); s.net.repeat.Store(false) }},
	}
	sum := 0
	for _, k := range kinds {
		sum += k.weight
	}
	for i := range n {
		at := r.IntN(sum)
		if i < len(kinds) { // each once at least
			at = 0
			for _, k := range kinds[:i] {
				at += k.weight
			}
		}
		for _, k := range kinds {
			if at -= k.weight; at < 0 {
				began := time.Now()
				k.do()
				s.alive()
				s.t.Logf("%s: %.1f s", k.name, time.Since(began).Seconds())
				made[k.name]++
				break
			}
		}
		pause(700)
	}
	return made
}

func (s *shop) cable(state string) {
	if err := exec.Command("ip", "link", "set", s.link, state).Run(); err != nil {
		s.t.Errorf("the network could not be set %s: %v", state, err)
	}
}

func (s *shop) kill(c **exec.Cmd) {
	s.mu.Lock()
	defer s.mu.Unlock()
	_ = (*c).Process.Kill() // it may have ended by itself
	_ = (*c).Wait()
}

// alive starts again who has ended because of what was done to others, as a
// service manager would.
func (s *shop) alive() {
	s.mu.Lock()
	gone := syscall.Kill(s.server.Process.Pid, 0) != nil || zombie(s.server.Process.Pid)
	lost := zombie(s.collector.Process.Pid)
	s.mu.Unlock()
	if gone {
		s.kill(&s.server)
		s.startServer()
	}
	if lost {
		s.kill(&s.collector)
		s.startCollector()
	}
}

func zombie(pid int) bool {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	return err != nil || strings.Contains(string(b), ") Z ")
}

// postgres are the database's processes: the first one, or all others.
func (s *shop) postgres(first bool) (out []int) {
	data := filepath.Join(s.disks["database"], "d", "data")
	b, err := os.ReadFile(filepath.Join(data, "postmaster.pid"))
	if err != nil {
		return nil
	}
	main, err := strconv.Atoi(strings.SplitN(string(b), "\n", 2)[0])
	if err != nil {
		return nil
	}
	if first {
		return []int{main}
	}
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return nil
	}
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil || pid == main {
			continue
		}
		if cwd, err := os.Readlink(fmt.Sprintf("/proc/%d/cwd", pid)); err == nil && cwd == data {
			out = append(out, pid)
		}
	}
	return out
}

// jump moves all times that the database knows, which is what a jump of the
// server's clock looks like to it.
func (s *shop) jump(r *rand.Rand) {
	address, err := private.Running(filepath.Join(s.disks["database"], "d"))
	if err != nil {
		return // it does not run just now
	}
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	db, err := pgx.Connect(ctx, address)
	if err != nil {
		return
	}
	defer db.Close(ctx)
	by := fmt.Sprintf("%d seconds", (r.IntN(2)*2-1)*(60+r.IntN(7200)))
	for _, sql := range []string{
		"UPDATE jobs SET created_at = created_at + $1::interval, started_at = started_at + $1::interval, heard_at = heard_at + $1::interval",
		"UPDATE collectors SET seen_at = seen_at + $1::interval", "UPDATE collector_sessions SET expires_at = expires_at + $1::interval",
	} {
		if _, err := db.Exec(ctx, sql, by); err != nil {
			return // it was killed meanwhile
		}
	}
}

// heal waits until everything answers again.
func (s *shop) heal() {
	for deadline := time.Now().Add(2 * time.Minute); ; time.Sleep(200 * time.Millisecond) {
		s.alive()
		if status, _ := s.ask(context.Background(), "GET", "/me", nil); status == http.StatusOK {
			return
		}
		if time.Now().After(deadline) {
			s.t.Fatal("the server does not answer again")
		}
	}
}

// settle waits until no job is open and the spool is empty.
func (s *shop) settle(rec *record) {
	deadline := time.Now().Add(3 * time.Minute)
	for _, id := range rec.jobs {
		for {
			var j api.JobOut
			status, b := s.ask(context.Background(), "GET", "/jobs/"+id, nil)
			if status == http.StatusOK && json.Unmarshal(b, &j) == nil && (j.State == "done" || j.State == "failed") {
				break
			}
			if time.Now().After(deadline) {
				s.t.Errorf("a job never ended: %d, %s", status, b)
				break
			}
			s.alive()
			time.Sleep(100 * time.Millisecond)
		}
	}
	for {
		left, err := filepath.Glob(filepath.Join(s.disks["state"], "c", "spool", "*"))
		if err == nil && len(left) == 0 {
			return
		}
		if time.Now().After(deadline) {
			s.t.Errorf("left in the spool: %v, %v", left, err)
			return
		}
		time.Sleep(200 * time.Millisecond)
	}
}

// check compares what was acknowledged with what is there, byte for byte, and the
// tables with each other. It returns how often what came out.
func (s *shop) check(rec *record) map[string]int {
	ctx := context.Background()
	out := map[string]int{}
	for _, u := range rec.uploads {
		status, b := s.ask(ctx, "GET", "/takes/"+u.key+"/file", nil)
		if sum := sha256.Sum256(b); status != http.StatusOK || hex.EncodeToString(sum[:]) != u.digest {
			s.t.Errorf("take %s was acknowledged, and its file is answered with %d and other bytes", u.key, status)
			out["takes lost or changed"]++
		}
	}
	for _, id := range rec.jobs {
		var j api.JobOut
		status, b := s.ask(ctx, "GET", "/jobs/"+id, nil)
		if status != http.StatusOK || json.Unmarshal(b, &j) != nil {
			s.t.Errorf("job %s was acknowledged and is answered with %d", id, status)
			continue
		}
		switch {
		case j.Take != "" && j.Error == "":
			out["jobs with a whole take"]++
		case j.Take != "":
			out["jobs with what had come of a take"]++
		case j.Error == "":
			s.t.Errorf("job %s has neither a take nor a reason: %s", id, b)
		default:
			out["jobs that failed, and said why"]++
		}
		if j.Take != "" {
			if status, _ := s.ask(ctx, "GET", "/takes/"+j.Take+"/hot", nil); status != http.StatusOK {
				s.t.Errorf("the take of job %s is answered with %d", id, status)
			}
		}
	}
	address, err := private.Running(filepath.Join(s.disks["database"], "d"))
	if err != nil {
		s.t.Fatal(err)
	}
	db, err := pgx.Connect(ctx, address)
	if err != nil {
		s.t.Fatal(err)
	}
	defer db.Close(ctx)
	for what, sql := range map[string]string{
		"takes whose file is not as long as it should be": "SELECT count(*) FROM takes t WHERE size <> (SELECT coalesce(sum(length(data)), 0) FROM take_blobs b WHERE b.take_id = t.id)",
		"takes whose file has another digest":             "SELECT count(*) FROM takes t WHERE digest <> (SELECT encode(sha256(string_agg(data, ''::bytea ORDER BY seq)), 'hex') FROM take_blobs b WHERE b.take_id = t.id)",
		"takes with samples and without figures":          "SELECT count(*) FROM takes t WHERE samples > 0 AND NOT EXISTS (SELECT 1 FROM function_figures f WHERE f.take_id = t.id)",
		"takes that are there twice":                      "SELECT count(*) - count(DISTINCT digest) FROM takes",
		"jobs whose take is not there":                    "SELECT count(*) FROM jobs j WHERE take_key <> '' AND NOT EXISTS (SELECT 1 FROM takes t WHERE t.key = j.take_key)",
		"jobs whose take has another digest":              "SELECT count(*) FROM jobs j JOIN takes t ON t.key = j.take_key WHERE j.digest <> t.digest",
		"pieces of jobs that have ended":                  "SELECT count(*) FROM job_blobs b JOIN jobs j ON j.id = b.job_id WHERE j.state IN ('done', 'failed') AND NOT j.closed_early",
		"builds without takes":                            "SELECT count(*) FROM builds b WHERE NOT EXISTS (SELECT 1 FROM takes t WHERE t.build_id = b.id)",
		"takes of jobs that are there twice":              "SELECT count(*) FROM (SELECT take_key FROM jobs WHERE take_key <> '' GROUP BY 1 HAVING count(*) > 1) x",
	} {
		var n int
		if err := db.QueryRow(ctx, sql).Scan(&n); err != nil {
			s.t.Fatalf("%s: %v", what, err)
		}
		if out[what] = n; n != 0 {
			s.t.Errorf("%s: %d", what, n)
		}
	}
	if left, err := filepath.Glob(filepath.Join(s.disks["temp"], "*")); err != nil || len(left) != 0 {
		s.t.Errorf("left of uploads: %v, %v", left, err)
	}
	return out
}

func report(path string, made map[string]int, rec *record, found map[string]int) error {
	var b strings.Builder
	total := 0
	for _, n := range made {
		total += n
	}
	fmt.Fprintf(&b, "%d faults, seed %d.\n\n| what was done | how often |\n|---|--:|\n", total, *seed)
	for _, name := range slices.Sorted(maps.Keys(made)) {
		fmt.Fprintf(&b, "| %s | %d |\n", name, made[name])
	}
	fmt.Fprintf(&b, "\nMeanwhile %d uploads were acknowledged and %d refused or broken off, %d takes were asked for and %d could not be, and %d files were read, %d of them wrong.\n\n| what was there afterwards | |\n|---|--:|\n", len(rec.uploads), rec.refusedUploads.Load(), len(rec.jobs), rec.refusals.Load(), rec.reads.Load(), rec.wrong.Load())
	fmt.Fprintf(&b, "| takes lost or changed | %d |\n", found["takes lost or changed"])
	for _, name := range slices.Sorted(maps.Keys(found)) {
		if name != "takes lost or changed" {
			fmt.Fprintf(&b, "| %s | %d |\n", name, found[name])
		}
	}
	return section.Write(path, "campaign", "make faults", b.String())
}
