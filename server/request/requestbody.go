package request

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"unicode/utf8"

	"github.com/gin-gonic/gin"
)

// Bounds of a request's body, in bytes. A route says which one is its own.
const (
	smallBody  = 64 << 10 // most questions, and the default
	JobBody    = 4 << 20  // settings with long commands
	AnswerBody = 32 << 20 // a collector's answers: the processes of a large machine
	MaxBlock   = 64 << 20 // one piece of a growing take
)

// Read reads the JSON of a request, which the route's bound has cut already. It
// is the one door for it: one value and nothing behind it, and no zero
// characters, which PostgreSQL keeps in no text.
func (s *Server) Read(c *gin.Context, into any, what string) error {
	b, err := io.ReadAll(c.Request.Body)
	if err != nil {
		return fmt.Errorf("%s: %w", what, err)
	}
	if hasZero(b) {
		return badRequest{fmt.Errorf("%s: a text with a zero character cannot be stored", what)}
	}
	d := json.NewDecoder(bytes.NewReader(b))
	if err := d.Decode(into); err != nil {
		return badRequest{fmt.Errorf("%s: %w", what, err)}
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return badRequest{fmt.Errorf("%s: there is more after its end", what)}
	}
	return nil
}

// ReadPiece reads a body of bytes. Room is made as its length says, and no more than for
// a little where that may be a lie.
func ReadPiece(c *gin.Context, most int64) ([]byte, error) {
	const believed = 1 << 20
	var b bytes.Buffer
	b.Grow(int(min(max(0, c.Request.ContentLength), believed)) + bytes.MinRead)
	_, err := b.ReadFrom(http.MaxBytesReader(c.Writer, c.Request.Body, most))
	return b.Bytes(), err
}

// hasZero reports whether JSON holds an escaped zero character; a backslash that
// is itself escaped does not begin one.
func hasZero(b []byte) bool {
	for i := 0; i+1 < len(b); i++ {
		if b[i] != '\\' {
			continue
		}
		if bytes.HasPrefix(b[i:], []byte(`\u0000`)) {
			return true
		}
		i++
	}
	return false
}

// maxText bounds one value in an address, in bytes.
const maxText = 64 << 10

// soundAddress is an error where a part of an address cannot be text of a
// database, or is too long.
func soundAddress(u *url.URL) error {
	query, err := url.ParseQuery(u.RawQuery)
	if err != nil {
		return fmt.Errorf("the address: %w", err)
	}
	texts := []string{u.Path}
	for name, values := range query {
		texts = append(append(texts, name), values...)
	}
	for _, t := range texts {
		if strings.ContainsRune(t, 0) || !utf8.ValidString(t) {
			return errors.New("the address holds a zero character, or bytes that are not UTF-8")
		}
		if len(t) > maxText {
			return fmt.Errorf("a part of the address is longer than %d kB", maxText>>10)
		}
	}
	return nil
}
