// Package people has the rules of who may do what, and how passwords, tokens
// and links are made and kept. It knows no database and no network.
//
// It holds nothing.
package people

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/crypto/argon2"
)

// Role is what a person may do; each may do what those before it may.
type Role string

// The roles.
const (
	Look    Role = "look"    // see takes and comparisons
	Work    Role = "work"    // notes, pins, upload, removal
	Collect Role = "collect" // launch, attach, count
)

var rank = map[Role]int{Look: 1, Work: 2, Collect: 3}

// ParseRole reads a role by name.
func ParseRole(s string) (Role, error) {
	if rank[Role(s)] == 0 {
		return "", fmt.Errorf("there is no role %q; choose look, work or collect", s)
	}
	return Role(s), nil
}

// May reports whether who has a role may do what needs another one.
func (r Role) May(needed Role) bool { return rank[r] >= rank[needed] && rank[r] > 0 }

// Least returns the lower of two roles.
func Least(a, b Role) Role {
	if rank[a] < rank[b] {
		return a
	}
	return b
}

// Errors about names and passwords.
var (
	ErrName     = errors.New("a name has 1 to 60 letters, digits, blanks or . _ @ -")
	ErrPassword = errors.New("a password has at least 10 and at most 200 letters")
)

// CheckName refuses names that could be taken for something else.
func CheckName(name string) error {
	if name != strings.TrimSpace(name) || !utf8.ValidString(name) || utf8.RuneCountInString(name) == 0 || utf8.RuneCountInString(name) > 60 {
		return ErrName
	}
	for _, r := range name {
		if !unicode.IsLetter(r) && !unicode.IsDigit(r) && !strings.ContainsRune(" ._@-", r) {
			return ErrName
		}
	}
	return nil
}

// Parameters of argon2id, as RFC 9106 (section 4, second choice) recommends:
// three passes over 64 MiB in four lanes.
const (
	passes   = 3
	memory   = 64 << 10 // KiB
	lanes    = 4
	saltSize = 16
	keySize  = 32
)

// Hash returns what is kept of a password, with its salt and the parameters.
func Hash(password string) (string, error) {
	if n := utf8.RuneCountInString(password); n < 10 || n > 200 {
		return "", ErrPassword
	}
	salt := make([]byte, saltSize)
	if _, err := rand.Read(salt); err != nil {
		return "", fmt.Errorf("making a salt: %w", err)
	}
	key := argon2.IDKey([]byte(password), salt, passes, memory, lanes, keySize)
	e := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, memory, passes, lanes, e.EncodeToString(salt), e.EncodeToString(key)), nil
}

// nobody is a hash that no password has; checking against it takes as long as
// checking a real one, so that the time does not tell whether a name exists.
const nobody = "$argon2id$v=19$m=65536,t=3,p=4$AAAAAAAAAAAAAAAAAAAAAA$AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"

// Check reports whether a password is the one that was kept; kept is "" for
// who has none.
func Check(password, kept string) bool {
	none := kept == ""
	if none {
		kept = nobody
	}
	parts := strings.Split(kept, "$")
	if len(parts) != 6 || parts[1] != "argon2id" || len(password) > 2000 {
		return false
	}
	var version, m, t, p int
	if _, err := fmt.Sscanf(parts[2], "v=%d", &version); err != nil || version != argon2.Version {
		return false
	}
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &m, &t, &p); err != nil || m < 8 || m > 1<<20 || t < 1 || t > 16 || p < 1 || p > 16 {
		return false
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	key, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err1 != nil || err2 != nil || len(key) == 0 {
		return false
	}
	got := argon2.IDKey([]byte(password), salt, uint32(t), uint32(m), uint8(p), uint32(len(key)))
	return subtle.ConstantTimeCompare(got, key) == 1 && !none
}

// Secret returns a new secret of 256 bits, for a session, a token or a link.
func Secret() (string, error) {
	b := make([]byte, 32)
	if _, err := rand.Read(b); err != nil {
		return "", fmt.Errorf("making a secret: %w", err)
	}
	return base64.RawURLEncoding.EncodeToString(b), nil
}

// Digest is what is kept of a secret. It needs no salt and no slow hash, since
// nobody can guess a secret of 256 bits.
func Digest(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}
