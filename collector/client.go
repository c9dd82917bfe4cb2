package collector

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"entelon/collector/identity"
	"entelon/people"
	"entelon/server/api"
)

// Client asks a server as a collector: it proves its key for a session, and
// again when that ends.
type Client struct {
	base   *url.URL
	folder *identity.Folder
	client *http.Client
	mu     sync.Mutex
	who    []identity.Identity // to be tried, the newest key first
	secret string              // of the session, "" for none
	until  time.Time
}

// refusal is an answer of the server that says no.
type refusal struct {
	status int
	text   string
}

func (r refusal) Error() string { return r.text }

func (c *Client) post(ctx context.Context, path string, in, out any) error {
	b, err := json.Marshal(in)
	if err != nil {
		return err
	}
	return c.ask(ctx, path, nil, "application/json", b, out)
}

// ask asks within a session. One that the server does not know any more, such as
// after its database was restored, is begun again once.
func (c *Client) ask(ctx context.Context, path string, query url.Values, kind string, body []byte, out any) error {
	for again := range 2 {
		secret, err := c.session(ctx, again > 0)
		if err != nil {
			return err
		}
		err = c.Send(ctx, path, query, kind, "Collector "+secret, body, out)
		var no refusal
		if again == 0 && errors.As(err, &no) && no.status == http.StatusUnauthorized {
			continue
		}
		return err
	}
	return nil
}

// session returns the secret of a session.
func (c *Client) session(ctx context.Context, fresh bool) (string, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.secret != "" && !fresh && time.Now().Before(c.until) {
		return c.secret, nil
	}
	c.secret = ""
	var err error
	for i := range c.who {
		var begun api.CollectorSessionOut
		if begun, err = c.begin(ctx, &c.who[i]); err == nil {
			c.secret, c.until = begun.Secret, time.Now().Add(time.Duration(begun.Seconds*0.8*float64(time.Second)))
			if len(c.who) > 1 {
				if err := c.folder.Save(&c.who[i]); err != nil {
					return "", err
				}
				c.who = c.who[i : i+1]
			}
			if begun.Renew {
				err = c.renew(ctx)
			}
			return c.secret, err
		}
		if no := (refusal{}); !errors.As(err, &no) || no.status != http.StatusUnauthorized {
			return "", err
		}
	}
	return "", err
}

// begin answers a challenge.
func (c *Client) begin(ctx context.Context, x *identity.Identity) (out api.CollectorSessionOut, err error) {
	var given api.ChallengeOut
	if err := c.Send(ctx, "collector/challenge", nil, "application/json", "", []byte("{}"), &given); err != nil {
		return out, err
	}
	in := api.CollectorSessionIn{Name: x.Name, Challenge: given.Challenge}
	in.Signature = people.Sign(x.Key, people.SessionText(c.base.Host, x.Name, given.Challenge))
	b, err := json.Marshal(in)
	if err != nil {
		return out, err
	}
	return out, c.Send(ctx, "collector/session", nil, "application/json", "", b, &out)
}

// renew replaces the key. The new one is kept before the server is told of it, so
// that one of the two is good whatever happens in between.
func (c *Client) renew(ctx context.Context) error {
	old := c.who[0]
	x, err := identity.New(old.Server)
	if err != nil {
		return err
	}
	x.Name = old.Name
	if err := c.folder.Propose(x); err != nil {
		return err
	}
	key := x.Key.Public().(ed25519.PublicKey)
	b, err := json.Marshal(api.CollectorKeyIn{PublicKey: people.KeyText(key), Signature: people.Sign(old.Key, people.RenewalText(old.Name, key))})
	if err != nil {
		return err
	}
	c.who = []identity.Identity{*x, old}
	if err := c.Send(ctx, "collector/key", nil, "application/json", "Collector "+c.secret, b, nil); err != nil {
		return fmt.Errorf("renewing the key: %w", err)
	}
	c.who = c.who[:1]
	return c.folder.Save(x)
}

// Send sends one request.
func (c *Client) Send(ctx context.Context, path string, query url.Values, kind, authorization string, body []byte, out any) error {
	u := c.base.JoinPath("api/v1", path)
	u.RawQuery = query.Encode()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, u.String(), bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", kind)
	if authorization != "" {
		req.Header.Set("Authorization", authorization)
	}
	resp, err := c.client.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(io.LimitReader(resp.Body, 8<<20))
	if err != nil {
		return err
	}
	if resp.StatusCode >= 300 {
		var e api.ErrorBody
		if err := json.Unmarshal(b, &e); err != nil || e.Error == "" {
			e.Error = "the server answered " + resp.Status
		}
		return refusal{resp.StatusCode, strings.TrimSuffix(e.Error+"; "+e.Remedy, "; ")}
	}
	if out == nil || len(b) == 0 {
		return nil
	}
	return json.Unmarshal(b, out)
}

// NewClient speaks with a server as one of the identities, the latest first.
func NewClient(base *url.URL, folder *identity.Folder, who []identity.Identity) *Client {
	return &Client{base: base, folder: folder, who: who, client: &http.Client{Timeout: time.Minute}}
}
