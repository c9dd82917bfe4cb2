//go:build !amd64

package launch

// launcher is empty: this program becomes the command itself.
var launcher []byte
