package serving

import (
	"crypto/tls"
	"log/slog"
	"os"
	"sync"
	"time"
)

// certificate is a certificate that is read again when its file has changed, so
// that a renewed one needs no restart.
type certificate struct {
	cert, key string
	log       *slog.Logger
	mu        sync.Mutex
	now       *tls.Certificate
	read      time.Time // the time of the file that was read
	looked    time.Time
}

// LookForCertificate is how often the file is looked at.
const LookForCertificate = 10 * time.Second

func newCertificate(cert, key string, log *slog.Logger) (*certificate, error) {
	c := &certificate{cert: cert, key: key, log: log}
	return c, c.load()
}

func (c *certificate) load() error {
	st, err := os.Stat(c.cert)
	if err != nil {
		return err
	}
	x, err := tls.LoadX509KeyPair(c.cert, c.key)
	if err != nil {
		return err
	}
	c.now, c.read = &x, st.ModTime()
	return nil
}

// get is for tls.Config. One that cannot be read leaves the one before.
func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if time.Since(c.looked) > LookForCertificate {
		c.looked = time.Now()
		if st, err := os.Stat(c.cert); err != nil || !st.ModTime().Equal(c.read) {
			if err := c.load(); err != nil {
				c.log.Error("the certificate has changed and cannot be read; the one before is used", "error", err)
			} else {
				c.log.Info("the certificate was read again")
			}
		}
	}
	return c.now, nil
}
