package people

import (
	"crypto/ed25519"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"time"
)

// A collector proves who it is by a key pair that was made on its machine and
// never leaves it. The server keeps the public half. To begin a session the
// collector signs a challenge of the server's; the session's secret is then good
// for what collectors may do, and for nothing else.

// challengeFor is how long a challenge can be answered.
const challengeFor = time.Minute

// ErrChallenge is an answer to a challenge that was never given, or too long ago.
var ErrChallenge = errors.New("the challenge is too old; ask for another one")

// NewChallenge returns a challenge that Challenged recognises: the time until
// which it is good, a nonce, and an HMAC of both, so that nothing has to be kept
// for who only asks.
func NewChallenge(key []byte, now time.Time) (string, error) {
	b := binary.BigEndian.AppendUint64(nil, uint64(now.Add(challengeFor).UnixMilli()))
	nonce := make([]byte, 16)
	if _, err := rand.Read(nonce); err != nil {
		return "", fmt.Errorf("making a challenge: %w", err)
	}
	b = append(b, nonce...)
	return base64.RawURLEncoding.EncodeToString(append(b, sum(key, b)...)), nil
}

func sum(key, b []byte) []byte {
	h := hmac.New(sha256.New, key)
	h.Write(b) // which never fails
	return h.Sum(nil)
}

// Challenged reports whether a challenge was made with a key and is still good.
func Challenged(key []byte, challenge string, now time.Time) error {
	b, err := base64.RawURLEncoding.DecodeString(challenge)
	if err != nil || len(b) != 8+16+sha256.Size || !hmac.Equal(sum(key, b[:24]), b[24:]) {
		return ErrChallenge
	}
	if until := time.UnixMilli(int64(binary.BigEndian.Uint64(b))); now.After(until) || until.Sub(now) > 2*challengeFor {
		return ErrChallenge
	}
	return nil
}

// What is signed says what it is for, and to which server, so that an answer
// cannot be handed on to another server or used for something else.

// SessionText is what a collector signs to begin a session.
func SessionText(host, name, challenge string) []byte {
	return []byte("entelon collector session\n" + host + "\n" + name + "\n" + challenge)
}

// RenewalText is what a collector signs with its old key to replace it.
func RenewalText(name string, key ed25519.PublicKey) []byte {
	return []byte("entelon collector key\n" + name + "\n" + KeyText(key))
}

// KeyText writes a public key as it is sent and kept.
func KeyText(key ed25519.PublicKey) string { return base64.RawStdEncoding.EncodeToString(key) }

// ErrKey is a public key that is not one.
var ErrKey = errors.New("this is not a public key of 32 bytes in base64")

// ParseKey reads what KeyText wrote.
func ParseKey(s string) (ed25519.PublicKey, error) {
	b, err := base64.RawStdEncoding.DecodeString(s)
	if err != nil || len(b) != ed25519.PublicKeySize {
		return nil, ErrKey
	}
	return b, nil
}

// Signed reports whether a text was signed by the owner of a public key.
func Signed(key string, text []byte, signature string) bool {
	k, err := ParseKey(key)
	if err != nil {
		return false
	}
	s, err := base64.RawStdEncoding.DecodeString(signature)
	return err == nil && ed25519.Verify(k, text, s)
}

// Sign signs a text.
func Sign(key ed25519.PrivateKey, text []byte) string {
	return base64.RawStdEncoding.EncodeToString(ed25519.Sign(key, text))
}
