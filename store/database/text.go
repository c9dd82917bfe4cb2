package database

import (
	"bytes"
	"crypto/rand"
	"encoding/base32"
	"strings"
)

// WithoutZeros leaves the escaped zero characters out of JSON; a backslash that
// is itself escaped does not begin one.
func WithoutZeros(b []byte) []byte {
	out := b[:0:0]
	for i := 0; i < len(b); i++ {
		if b[i] != '\\' || i+1 == len(b) {
			out = append(out, b[i])
			continue
		}
		if bytes.HasPrefix(b[i:], []byte(`\u0000`)) {
			i += 5
			continue
		}
		out = append(out, b[i], b[i+1])
		i++
	}
	return out
}

// Plain leaves out what PostgreSQL's text cannot hold.
func Plain(s string) string { return strings.ToValidUTF8(strings.ReplaceAll(s, "\x00", ""), "\uFFFD") }

// NewKey returns a short name for addresses, not to be guessed.
func NewKey() string {
	var b [10]byte
	if _, err := rand.Read(b[:]); err != nil {
		panic(err) // the standard library never lets this happen
	}
	return strings.ToLower(base32.StdEncoding.EncodeToString(b[:]))
}
