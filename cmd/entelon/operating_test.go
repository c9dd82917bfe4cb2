package main

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"entelon/cmd/entelon/serving"
	"entelon/store/private"
)

// get asks without signing in.
func get(t *testing.T, address string) (*http.Response, string) {
	t.Helper()
	resp, err := http.Get(address)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	if err != nil {
		t.Fatal(err)
	}
	return resp, string(b)
}

// TestWhatOperatorsAsk: whether it lives, whether it answers, its numbers, and
// one line of JSON for each request, with its number.
func TestWhatOperatorsAsk(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	base := "http://" + d.address
	for path, want := range map[string]string{"/healthz": "ok\n", "/readyz": "ready\n"} {
		if resp, body := get(t, base+path); resp.StatusCode != http.StatusOK || body != want {
			t.Errorf("%s: %s, %q", path, resp.Status, body)
		}
	}
	d.ask("GET", "/takes", nil, nil)
	resp, body := get(t, base+"/metrics")
	if resp.StatusCode != http.StatusOK {
		t.Fatalf("%s: %s", resp.Status, body)
	}
	for _, want := range []string{
		`entelon_requests_total{method="GET",route="/api/v1/takes",status="200"}`, "entelon_request_seconds_bucket", "entelon_takes 0", "entelon_database_up 1",
		"entelon_memory_used_bytes", "entelon_memory_limit_bytes", `entelon_requests_waiting{kind="heavy"} 0`, "entelon_database_bytes", "go_memstats_heap_alloc_bytes", "process_open_fds",
	} {
		if !strings.Contains(body, want) {
			t.Errorf("the metrics lack %s", want)
		}
	}
	// Behind a proxy, who asks from elsewhere needs a token.
	req, err := http.NewRequest("GET", base+"/metrics", nil)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("X-Forwarded-For", "192.0.2.7")
	for token, status := range map[string]int{"": 401, "wrong": 401, d.token: 200} {
		req.Header.Del("Authorization")
		if token != "" {
			req.Header.Set("Authorization", "Bearer "+token)
		}
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		if resp.StatusCode != status {
			t.Errorf("metrics with the token %.5q: %s", token, resp.Status)
		}
	}
	for path, status := range map[string]int{"/": 200, "/programs": 200, "/takes/x": 200, "/programs/a%2Fb": 200, "/wp-login.php": 404, "/takes/x/y": 404, "/enrol/x": 404, "/api/v1/nothing": 404} {
		resp, _ := get(t, base+path)
		if resp.StatusCode != status {
			t.Errorf("%s: %s, want %d", path, resp.Status, status)
		}
		if len(resp.Header.Get("X-Request-Id")) != 16 || !strings.Contains(resp.Header.Get("Content-Security-Policy"), "base-uri 'none'; form-action 'self'") || resp.Header.Get("Strict-Transport-Security") != "" {
			t.Errorf("%s has the headers %v", path, resp.Header)
		}
	}
}

// TestLogOfRequests: one line of JSON for each, with who asked, from where, and
// the number that the answer has.
func TestLogOfRequests(t *testing.T) {
	t.Parallel()
	dir := folderForAll(t)
	cmd := exec.Command(program("entelon"), serveWords("--log-level", "info", "--no-collector", "--listen", "127.0.0.1:0", "--data", filepath.Join(dir, "database"), "--proxy-header", "X-Client")...)
	var log bytes.Buffer
	cmd.Stderr = &log
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	var address, link string
	if _, err := fmt.Fscanf(out, "Entelon is at %s (Ctrl-C ends it)\nSign in, once and within a day, at %s\n", &address, &link); err != nil {
		t.Fatal(err)
	}
	s := enter(t, address, link)
	req, err := http.NewRequest("GET", address+"/api/v1/programs", nil)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("X-Client", "198.51.100.1, 192.0.2.9")
	resp, err := s.client.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	resp.Body.Close()
	if err := cmd.Process.Signal(syscall.SIGINT); err != nil {
		t.Fatal(err)
	}
	_ = cmd.Wait()
	found := 0
	for line := range strings.Lines(log.String()) {
		var x struct {
			Msg, ID, Who, From, Route, Level string
			Status                           int
			MS                               float64
		}
		if err := json.Unmarshal([]byte(line), &x); err != nil {
			t.Errorf("a line is not JSON: %s", line)
			continue
		}
		if x.ID == resp.Header.Get("X-Request-Id") {
			found++
			if x.Who != "owner" || x.From != "192.0.2.9" || x.Route != "/api/v1/programs" || x.Status != 200 || x.Level != "INFO" || x.MS <= 0 {
				t.Errorf("%s", line)
			}
		}
	}
	if found != 1 {
		t.Errorf("%d lines of the request", found)
	}
}

// folderForAll makes a folder that every user can reach.
func folderForAll(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("/var/tmp", "entelon-test-*")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	return dir
}

// certify writes a certificate with a number.
func certify(t *testing.T, dir string, number int64) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	x := &x509.Certificate{SerialNumber: big.NewInt(number), Subject: pkix.Name{CommonName: "localhost"}, DNSNames: []string{"localhost"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour)}
	cert, err := x509.CreateCertificate(rand.Reader, x, x, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	private, err := x509.MarshalECPrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	for name, block := range map[string]*pem.Block{"key.pem": {Type: "EC PRIVATE KEY", Bytes: private}, "cert.pem": {Type: "CERTIFICATE", Bytes: cert}} {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, pem.EncodeToMemory(block), 0o600); err != nil {
			t.Fatal(err)
		}
		if os.Geteuid() == 0 {
			if err := os.Chown(path, 7420, 7420); err != nil {
				t.Fatal(err)
			}
		}
	}
}

// TestRenewedCertificate is used without a restart; browsers are told to come by
// https from now on.
func TestRenewedCertificate(t *testing.T) {
	t.Parallel()
	dir := folderForAll(t)
	certify(t, dir, 1)
	address := freeAddress(t)
	cmd := exec.Command(program("entelon"), serveWords("--no-collector", "--listen", address, "--data", filepath.Join(dir, "database"), "--cert", filepath.Join(dir, "cert.pem"), "--key", filepath.Join(dir, "key.pem"))...)
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() {
		_ = cmd.Process.Signal(syscall.SIGINT)
		_ = cmd.Wait()
	}()
	if _, err := io.ReadFull(out, make([]byte, 10)); err != nil {
		t.Fatal(err)
	}
	serial := func() int64 {
		c, err := tls.Dial("tcp", address, &tls.Config{InsecureSkipVerify: true, ServerName: "localhost"})
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		return c.ConnectionState().PeerCertificates[0].SerialNumber.Int64()
	}
	if n := serial(); n != 1 {
		t.Fatalf("certificate %d", n)
	}
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	resp, err := client.Get("https://" + address + "/healthz")
	if err != nil {
		t.Fatal(err)
	}
	resp.Body.Close()
	if resp.Header.Get("Strict-Transport-Security") == "" {
		t.Error("browsers may come without https the next time")
	}
	time.Sleep(time.Second) // the file's time
	certify(t, dir, 2)
	for deadline := time.Now().Add(30 * time.Second); serial() != 2; time.Sleep(500 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatal("the renewed certificate is not used")
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "cert.pem"), []byte("half"), 0o600); err != nil {
		t.Fatal(err)
	}
	time.Sleep(serving.LookForCertificate + time.Second)
	if n := serial(); n != 2 {
		t.Errorf("after a broken one: %d", n)
	}
}

// contents are all rows of all tables, as text, in a fixed order.
func contents(t *testing.T, address string) map[string]string {
	t.Helper()
	ctx := context.Background()
	db, err := pgx.Connect(ctx, address)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(ctx)
	rows, err := db.Query(ctx, "SELECT tablename FROM pg_tables WHERE schemaname = 'public' ORDER BY 1")
	if err != nil {
		t.Fatal(err)
	}
	tables, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]string{}
	for _, table := range tables {
		var text string
		if err := db.QueryRow(ctx, fmt.Sprintf("SELECT count(*) || ' ' || md5(coalesce(string_agg(x::text, E'\\n' ORDER BY x::text), '')) FROM %s x", table)).Scan(&text); err != nil {
			t.Fatal(err)
		}
		out[table] = text
	}
	return out
}

// TestBackupAndRestore: what is restored is equal to what a running server had,
// row by row and byte by byte, and is served.
func TestBackupAndRestore(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	takes, err := filepath.Glob("../../demo/takes/*.take")
	if err != nil || len(takes) < 3 {
		t.Fatal(takes, err)
	}
	if r := entelon(t, append([]string{"send", "--to", "http://" + d.address, "--token-file", secretIn(t, d.token)}, takes[:3]...)...); r.code != 0 {
		t.Fatal(r.stderr)
	}
	data := filepath.Join(d.dir, "database")
	file := filepath.Join(d.dir, "x.backup")
	if r := entelon(t, "backup", file, "--data", data); r.code != 0 {
		t.Fatal(r.stderr)
	}
	if st, err := os.Stat(file); err != nil || st.Mode().Perm() != 0o600 || st.Size() < 10_000 {
		t.Errorf("%v, %v", st, err)
	}
	address, err := private.Running(data)
	if err != nil {
		t.Fatal(err)
	}
	want := contents(t, address)
	fails(t, entelon(t, "restore", file, "--data", data), "another Entelon")
	other := filepath.Join(d.dir, "other")
	if r := entelon(t, "restore", file, "--data", other); r.code != 0 || !strings.Contains(r.stdout, "with 3 takes") {
		t.Fatal(r.stdout, r.stderr)
	}
	pg, err := private.Start(context.Background(), private.Options{Dir: other})
	if err != nil {
		t.Fatal(err)
	}
	got := contents(t, pg.Address)
	if err := pg.Stop(); err != nil {
		t.Error(err)
	}
	for table, text := range want {
		// The moments at which tokens were last used go on.
		if got[table] != text && table != "tokens" && table != "people" && table != "sessions" {
			t.Errorf("%s: %s was restored as %s", table, text, got[table])
		}
	}
	if len(got) != len(want) {
		t.Errorf("%d tables were restored as %d", len(want), len(got))
	}
	fails(t, entelon(t, "restore", file, "--data", other), "not empty")
	fails(t, entelon(t, "restore", takes[0], "--data", filepath.Join(d.dir, "third")), "is not a backup")
	fails(t, entelon(t, "backup", file, "--data", filepath.Join(d.dir, "nowhere")), "no such file")
}

// TestLinkFromTheCommandLine signs the owner in while the server runs.
func TestLinkFromTheCommandLine(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	r := entelon(t, "person", "link", "owner", "--data", filepath.Join(d.dir, "database"), "--at", "http://"+d.address)
	if r.code != 0 {
		t.Fatal(r.stderr)
	}
	enter(t, "http://"+d.address, strings.TrimSpace(r.stdout))
	fails(t, entelon(t, "person", "link", "nobody", "--data", filepath.Join(d.dir, "database")), "there is nobody named")
	fails(t, entelon(t, "person", "link", "owner", "--data", filepath.Join(d.dir, "elsewhere")), "no such file")
}

// TestSlowAndSilentClients are not waited for.
func TestSlowAndSilentClients(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	began := time.Now()
	open := func(text string) net.Conn {
		c, err := net.Dial("tcp", d.address)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { c.Close() })
		if _, err := io.WriteString(c, text); err != nil {
			t.Fatal(err)
		}
		return c
	}
	head := "POST /api/v1/takes HTTP/1.1\r\nHost: " + d.address + "\r\nAuthorization: Bearer " + d.token + "\r\nContent-Type: application/octet-stream\r\n"
	silent := map[string]net.Conn{
		"half a head":   open("GET / HTTP/1.1\r\nHost: " + d.address + "\r\n"),
		"nothing":       open(""),
		"half a body":   open("POST /api/v1/sign-in HTTP/1.1\r\nHost: " + d.address + "\r\nContent-Type: application/json\r\nContent-Length: 100\r\n\r\n{"),
		"half a upload": open(head + "Content-Length: 1000000\r\n\r\nENT"),
	}
	slow := open(head + "Content-Length: 1000000\r\n\r\nENT")
	over := make(chan time.Duration, 1)
	go func() { // a byte a second
		for {
			if _, err := slow.Write([]byte{0}); err != nil {
				over <- time.Since(began)
				return
			}
			time.Sleep(time.Second)
		}
	}()
	for name, c := range silent {
		if err := c.SetReadDeadline(time.Now().Add(45 * time.Second)); err != nil {
			t.Fatal(err)
		}
		if _, err := io.Copy(io.Discard, c); err != nil {
			t.Errorf("%s: it is waited for after %v: %v", name, time.Since(began).Round(time.Second), err)
		}
	}
	select {
	case <-over:
	case <-time.After(45 * time.Second):
		t.Error("an upload at a byte a second goes on")
	}
}

// TestUnits: the service manager finds the server's unit well closed, and every
// flag that units, containers and proxies name is one that the program has.
func TestUnits(t *testing.T) {
	known := entelon(t, "serve", "--help").stdout + entelon(t, "collector", "--help").stdout
	files, err := filepath.Glob("../../deploy/*")
	if err != nil || len(files) < 6 {
		t.Fatal(files, err)
	}
	for _, file := range files {
		b, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		for _, word := range strings.FieldsFunc(string(b), func(r rune) bool { return strings.ContainsRune(" \n\",[]", r) }) {
			if name, _, _ := strings.Cut(word, "="); strings.HasPrefix(name, "--") && !strings.Contains("--read-only --tmpfs --cap-drop --secret --memory --now", name) && !strings.Contains(known, name+" ") {
				t.Errorf("%s names %s, which there is not", file, name)
			}
		}
	}
	if _, err := exec.LookPath("systemd-analyze"); err != nil {
		return
	}
	for unit, most := range map[string]float64{"entelon.service": 2, "entelon-collector.service": 7.5} {
		b, err := exec.Command("systemd-analyze", "security", "--offline=true", "../../deploy/"+unit).CombinedOutput()
		var level float64
		_, after, ok := strings.Cut(string(b), "exposure level for "+unit+": ")
		if _, scan := fmt.Sscan(after, &level); err != nil || !ok || scan != nil {
			t.Logf("%s could not be judged here: %v", unit, err)
			continue
		}
		if level > most {
			t.Errorf("%s is exposed by %v, at most %v is wanted", unit, level, most)
		}
	}
}
