package symbol

import (
	"bytes"
	"context"
	"debug/elf"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"entelon/symbol/cache"
	"entelon/symbol/elfimage"
)

// SystemDebugDir is where Linux distributions put separate debug files.
const SystemDebugDir = "/usr/lib/debug"

// Finder finds the separate debug files of objects: in folders by build ID
// (.build-id/ab/cdef….debug) and by debug link (a file name with a checksum
// in the section .gnu_debuglink), then from servers by build ID.
type Finder struct {
	Dirs    []string     // the user's first, then the system's
	Servers []string     // addresses such as http://localhost:8002; none are asked unless given
	Cache   *cache.Cache // nil: nothing is kept, and nothing is fetched
	Client  *http.Client
	Context context.Context // ends what is being fetched, as that of a request does; nil: nothing does
	Coming  func(bytes int) // is told as a file comes, for who waits; nil: nobody

	mu     sync.Mutex
	failed map[string]error // by build ID, so that nothing is asked for twice
	down   map[string]error // servers that did not answer; they are not asked again
}

// maxFetched bounds a debug file that a server sends, fetchTime how long that
// may take, and answerTime how long a server may be silent before it.
const (
	maxFetched = 8 << 30
	fetchTime  = 5 * time.Minute
	answerTime = 30 * time.Second
)

// defaultClient gives a server that is silent up early, since the end of a
// take waits for the names.
var defaultClient = &http.Client{Transport: &http.Transport{
	Proxy:                 http.ProxyFromEnvironment,
	DialContext:           (&net.Dialer{Timeout: 10 * time.Second}).DialContext,
	TLSHandshakeTimeout:   10 * time.Second,
	ResponseHeaderTimeout: answerTime,
}}

// debugEntry begins the names of debug files in the cache; the build follows.
const debugEntry = "debug-"

// errNotFound says that no server has the file.
var errNotFound = errors.New("no server has it")

// findDebug looks for the object's separate debug file and opens it.
func findDebug(o *Object) error {
	for _, path := range o.finder.candidates(o) {
		im, err := o.finder.open(path, o)
		if err != nil {
			return fmt.Errorf("its debug file %w", err)
		}
		if im != nil {
			return useDebug(o, im, path)
		}
	}
	path, err := o.finder.fetched(o.BuildID)
	if path == "" || err != nil {
		return err
	}
	im, err := o.finder.open(path, o)
	if err != nil || im == nil {
		return errors.Join(err, os.Remove(path))
	}
	return useDebug(o, im, path)
}

// fetched returns the debug file of a build from the cache or from a server, "" where
// there is none.
func (f *Finder) fetched(id string) (path string, err error) {
	if id == "" || f.Cache == nil {
		return "", nil
	}
	ctx := f.Context
	if ctx == nil {
		ctx = context.Background()
	}
	ctx, stop := context.WithTimeout(ctx, fetchTime)
	defer stop()
	path, err = f.Fetch(ctx, id)
	if errors.Is(err, errNotFound) {
		return "", nil
	}
	if err != nil {
		return "", fmt.Errorf("fetching its debug file: %w", err)
	}
	return path, nil
}

// useDebug takes a debug file into use, with the one that it shares parts with.
func useDebug(o *Object, im *elfimage.Image, path string) error {
	o.debug, o.DebugFile = im, path
	return useShared(o, im, path)
}

// useShared opens what a debug file shares with others, where it does.
func useShared(o *Object, im *elfimage.Image, path string) error {
	b, err := im.Section(".gnu_debugaltlink")
	if b == nil || err != nil {
		return err
	}
	name, id, ok := bytes.Cut(b, []byte{0})
	if !ok {
		return errors.New("its debug file names no shared file")
	}
	link := string(name)
	if !filepath.IsAbs(link) {
		link = filepath.Join(filepath.Dir(path), link)
	}
	want := hex.EncodeToString(id)
	places := append([]string{link}, o.finder.byID(want)...)
	got, err := o.finder.fetched(want)
	if err != nil {
		return err
	}
	for _, p := range append(places, got) {
		f, err := elfimage.OpenRegular(p)
		if err != nil {
			continue
		}
		shared, err := elfimage.OpenImage(f, p)
		f.Close()
		if err != nil {
			return err
		}
		if buildID(shared.ELF) == want {
			o.shared = shared
			return nil
		}
		if err := shared.Close(); err != nil {
			return err
		}
	}
	return fmt.Errorf("%s, which its debug file shares parts with, was not found", link)
}

func (f *Finder) byID(id string) []string {
	if len(id) < 4 {
		return nil
	}
	var out []string
	for _, d := range f.Dirs {
		out = append(out, filepath.Join(d, ".build-id", id[:2], id[2:]+".debug"))
	}
	return out
}

// candidates lists the paths at which an object's debug file may be, the best
// first. Only files that exist are listed.
func (f *Finder) candidates(o *Object) []string {
	all := f.byID(o.BuildID)
	dir, base := filepath.Split(o.Path)
	link, _ := debugLink(o.image)
	if link != "" && filepath.Base(link) == link {
		all = append(all, filepath.Join(dir, link), filepath.Join(dir, ".debug", link))
	}
	for _, d := range f.Dirs {
		if link != "" && filepath.Base(link) == link {
			all = append(all, filepath.Join(d, dir, link), filepath.Join(d, link))
		}
		if o.BuildID != "" && d != SystemDebugDir { // the program itself, before it was stripped
			all = append(all, filepath.Join(d, base), filepath.Join(d, base+".debug"))
		}
	}
	var out []string
	for _, p := range all {
		if st, err := os.Stat(p); err == nil && st.Mode().IsRegular() && p != o.Path {
			out = append(out, p)
		}
	}
	return out
}

// debugLink reads the name and the checksum of a separate debug file.
func debugLink(im *elfimage.Image) (name string, sum uint32) {
	b, err := im.Section(".gnu_debuglink")
	if err != nil || len(b) < 8 {
		return "", 0
	}
	n := bytes.IndexByte(b, 0)
	at := (n + 4) &^ 3
	if n <= 0 || at+4 > len(b) {
		return "", 0
	}
	return string(b[:n]), im.ELF.ByteOrder.Uint32(b[at:])
}

// open opens a candidate; it returns nil where the file belongs to another
// build.
func (f *Finder) open(path string, o *Object) (*elfimage.Image, error) {
	file, err := elfimage.OpenRegular(path)
	if err != nil {
		return nil, nil // gone since, or another user's
	}
	defer file.Close()
	im, err := elfimage.OpenImage(file, path)
	if err != nil {
		return nil, err
	}
	if id := buildID(im.ELF); id != "" || o.BuildID != "" {
		if id == o.BuildID {
			return im, nil
		}
		return nil, im.Close()
	}
	h := crc32.NewIEEE()
	if _, err := io.Copy(h, file); err != nil {
		return nil, errors.Join(err, im.Close())
	}
	if _, sum := debugLink(o.image); h.Sum32() == sum {
		return im, nil
	}
	return nil, im.Close()
}

// Fetch returns the path of the debug file of a build ID in the cache, asking
// the servers in turn where it is not there yet. The protocol is one request,
// GET /buildid/ID/debuginfo, answered with the file.
func (f *Finder) Fetch(ctx context.Context, id string) (string, error) {
	if _, err := hex.DecodeString(id); err != nil || len(id) < 8 {
		return "", fmt.Errorf("%q is not a build ID", id)
	}
	name := debugEntry + id
	if path := f.Cache.Find(name); path != "" {
		return path, nil
	}
	if len(f.Servers) == 0 {
		return "", errNotFound
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if err := f.failed[id]; err != nil {
		return "", err
	}
	err := errNotFound
	for _, server := range f.Servers {
		if why := f.down[server]; why != nil {
			err = why
			continue
		}
		path, ferr := f.fetch(ctx, strings.TrimRight(server, "/")+"/buildid/"+id+"/debuginfo", name)
		if ferr == nil {
			return path, f.Cache.Trim()
		}
		if !errors.Is(ferr, errNotFound) {
			err = ferr
		}
		var silent *url.Error
		if errors.As(ferr, &silent) {
			if f.down == nil {
				f.down = map[string]error{}
			}
			f.down[server] = ferr
		}
	}
	if f.failed == nil {
		f.failed = map[string]error{}
	}
	f.failed[id] = err
	return "", err
}

func (f *Finder) fetch(ctx context.Context, address, name string) (path string, err error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return "", err
	}
	client := f.Client
	if client == nil {
		client = defaultClient
	}
	res, err := client.Do(req)
	if err != nil {
		return "", err
	}
	defer res.Body.Close()
	switch {
	case res.StatusCode == http.StatusNotFound:
		return "", errNotFound
	case res.StatusCode != http.StatusOK:
		return "", fmt.Errorf("%s answers %s", address, res.Status)
	case res.ContentLength > maxFetched:
		return "", fmt.Errorf("%s has %d bytes, more than %d", address, res.ContentLength, int64(maxFetched))
	}
	return f.Cache.Put(name, func(w io.Writer) error {
		var head [4]byte
		if _, err := io.ReadFull(res.Body, head[:]); err != nil || string(head[:]) != elf.ELFMAG {
			return fmt.Errorf("%s is not an ELF file", address)
		}
		if _, err := w.Write(head[:]); err != nil {
			return err
		}
		n, err := io.Copy(w, io.LimitReader(f.heard(res.Body), maxFetched))
		if err == nil && n == maxFetched {
			err = fmt.Errorf("%s has more than %d bytes", address, int64(maxFetched))
		}
		return err
	})
}

// heard is a body of which Coming is told.
func (f *Finder) heard(body io.Reader) io.Reader {
	if f.Coming == nil {
		return body
	}
	return io.TeeReader(body, counting(f.Coming))
}

// counting is a Writer that keeps nothing.
type counting func(bytes int)

// Write implements io.Writer.
func (c counting) Write(b []byte) (int, error) {
	c(len(b))
	return len(b), nil
}
