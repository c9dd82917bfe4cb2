package serving

import (
	"fmt"
	"net/url"
)

// ServerAddress reads the address of a server.
func ServerAddress(flag, text string) (*url.URL, error) {
	u, err := url.Parse(text)
	if err != nil || u.Host == "" || (u.Scheme != "http" && u.Scheme != "https") {
		return nil, fmt.Errorf("%s %q is not the address of a server; write it as http://HOST:PORT", flag, text)
	}
	return u, nil
}
