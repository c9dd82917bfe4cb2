package serving

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
)

// largestSecret bounds a file with a secret, in bytes.
const largestSecret = 64 << 10

// secretFile reads a secret from a file that only its owner can read. A secret on
// a command line, or in an environment, is everybody's who can look there.
func secretFile(flag, path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", fmt.Errorf("%s: %w", flag, err)
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return "", fmt.Errorf("%s: %w", flag, err)
	}
	if !st.Mode().IsRegular() {
		return "", fmt.Errorf("%s %s is not a regular file", flag, path)
	}
	others := os.FileMode(0o077)
	if dir := os.Getenv("CREDENTIALS_DIRECTORY"); dir != "" && filepath.Dir(path) == filepath.Clean(dir) {
		others = 0o037 // a service manager's own folder, whose files are for this user by a list that shows as the group's
	}
	if st.Mode().Perm()&others != 0 {
		return "", fmt.Errorf("%s %s can be read by others; close it with: chmod 600 %s", flag, path, path)
	}
	b, err := io.ReadAll(io.LimitReader(f, largestSecret))
	if err != nil {
		return "", fmt.Errorf("%s: %w", flag, err)
	}
	text := strings.TrimSpace(string(b))
	if text == "" {
		return "", fmt.Errorf("%s %s is empty", flag, path)
	}
	return text, nil
}

// TokenPlace is where a token is looked for if no file is named.
func TokenPlace() string {
	dir, err := os.UserConfigDir()
	if err != nil {
		return ""
	}
	return filepath.Join(dir, "entelon", "token")
}

// Token reads the token of who sends or asks: from a file that was named, else
// from its usual place, "" where there is none.
func Token(path string) (string, error) {
	if path != "" {
		return secretFile("--token-file", path)
	}
	place := TokenPlace()
	if _, err := os.Stat(place); place == "" || err != nil {
		return "", nil
	}
	return secretFile("the token in", place)
}
