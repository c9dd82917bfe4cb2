// Package identity keeps who a collector is, in a folder that nobody else can
// read or use at the same time: its name, its server, and the private half of its
// key pair, which never leaves the machine. The folder holds the collector's
// spool, too.
//
// A Folder is locked against other processes; within one, it belongs to one goroutine.
package identity

import (
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"entelon/people"
)

// Identity is who a collector is.
type Identity struct {
	Name   string             `json:"name"`
	Server string             `json:"server"` // its address, as a URL
	Key    ed25519.PrivateKey `json:"key"`
}

// Folder is a collector's folder, held by this process alone.
type Folder struct {
	Dir  string
	lock *os.File
}

// Errors of a folder.
var (
	ErrInUse       = errors.New("another collector uses this folder; end it, or choose another with --state")
	ErrNotEnrolled = errors.New("this collector is not enrolled; ask for a link on the Machines page and run: entelon collector enrol LINK")
)

const (
	current = "identity.json"
	next    = "identity.next.json" // a key that the server may know already, or not yet
)

// Open takes hold of a folder, making it if there is none. Another collector that
// is just ending gets a moment to do so.
func Open(dir string, wait time.Duration) (*Folder, error) {
	if err := os.MkdirAll(filepath.Dir(dir), 0o755); err != nil {
		return nil, fmt.Errorf("making the collector's folder: %w", err)
	}
	if err := os.Mkdir(dir, 0o700); err != nil && !errors.Is(err, os.ErrExist) {
		return nil, fmt.Errorf("making the collector's folder: %w", err)
	}
	if err := private(dir); err != nil {
		return nil, err
	}
	f := &Folder{Dir: dir}
	for deadline := time.Now().Add(wait); ; time.Sleep(50 * time.Millisecond) {
		var err error
		f.lock, err = hold(filepath.Join(dir, "lock"))
		if err == nil {
			break
		}
		if !errors.Is(err, ErrInUse) || time.Now().After(deadline) {
			return nil, fmt.Errorf("%s: %w", dir, err)
		}
	}
	if err := os.Mkdir(f.Spool(), 0o700); err != nil && !errors.Is(err, os.ErrExist) {
		return nil, errors.Join(fmt.Errorf("making the spool: %w", err), f.Close())
	}
	if err := private(f.Spool()); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// Spool is where takes are until the server has them.
func (f *Folder) Spool() string { return filepath.Join(f.Dir, "spool") }

// Close lets the folder go.
func (f *Folder) Close() error { return f.lock.Close() }

// New makes a key pair for a collector that is yet to be enrolled.
func New(server string) (*Identity, error) {
	_, key, err := ed25519.GenerateKey(nil)
	if err != nil {
		return nil, fmt.Errorf("making a key: %w", err)
	}
	return &Identity{Server: server, Key: key}, nil
}

// PublicKey is the public half of the key, as it is sent.
func (x *Identity) PublicKey() string {
	return people.KeyText(x.Key.Public().(ed25519.PublicKey))
}

// Load returns who the collector is: the identities to try, the newest key
// first. A renewal that broke off leaves two.
func (f *Folder) Load() ([]Identity, error) {
	var out []Identity
	for _, name := range []string{next, current} {
		b, err := os.ReadFile(filepath.Join(f.Dir, name))
		if errors.Is(err, os.ErrNotExist) {
			continue
		} else if err != nil {
			return nil, fmt.Errorf("reading the collector's key: %w", err)
		}
		var x Identity
		if err := json.Unmarshal(b, &x); err != nil || len(x.Key) != ed25519.PrivateKeySize || x.Name == "" {
			return nil, fmt.Errorf("%s is damaged; remove it and enrol the collector again", filepath.Join(f.Dir, name))
		}
		out = append(out, x)
	}
	if len(out) == 0 {
		return nil, ErrNotEnrolled
	}
	return out, nil
}

// Save keeps who the collector is.
func (f *Folder) Save(x *Identity) error {
	if err := f.write(current, x); err != nil {
		return err
	}
	return f.drop()
}

// Propose keeps a key that the server is about to be told, beside the old one.
func (f *Folder) Propose(x *Identity) error { return f.write(next, x) }

// drop removes a proposal.
func (f *Folder) drop() error {
	if err := os.Remove(filepath.Join(f.Dir, next)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("keeping the collector's key: %w", err)
	}
	return nil
}

// write replaces a file of the folder, whole or not at all.
func (f *Folder) write(name string, x *Identity) error {
	b, err := json.Marshal(x)
	if err != nil {
		return err
	}
	made := filepath.Join(f.Dir, name+".new")
	out, err := os.OpenFile(made, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err == nil {
		_, err = out.Write(b)
		err = errors.Join(err, out.Sync(), out.Close())
	}
	if err == nil {
		err = os.Rename(made, filepath.Join(f.Dir, name))
	}
	if err != nil {
		return fmt.Errorf("keeping the collector's key: %w", err)
	}
	return nil
}
