package option

import (
	"fmt"
	"strconv"
	"strings"
)

// Share is a flag for a share: "0.5%" or "0.005".
type Share float64

// String implements pflag.Value.
func (s *Share) String() string { return fmt.Sprintf("%g%%", 100*float64(*s)) }

// Type implements pflag.Value.
func (s *Share) Type() string { return "SHARE" }

// Set implements pflag.Value.
func (s *Share) Set(v string) error {
	text, percent := strings.CutSuffix(strings.TrimSpace(v), "%")
	n, err := strconv.ParseFloat(strings.TrimSpace(text), 64)
	if percent {
		n /= 100
	}
	if err != nil || !(n > 0) || n > 1 {
		return fmt.Errorf("%q is not a share; write 0.5%% or 0.005", v)
	}
	*s = Share(n)
	return nil
}
