package statistics

import (
	"fmt"
	"math"
	"strings"
)

// Signed is a share in percent with its sign: "+1.7 %", "−14.2 %".
func Signed(share float64) string {
	return strings.Replace(fmt.Sprintf("%+.1f %%", 100*share), "-", "−", 1)
}

// Between is the interval of a ratio in words, as changes in percent; "" where both ends read the
// same.
func (e *Estimate) Between() string {
	low, high := Signed(e.RatioLow-1), Signed(e.RatioHigh-1)
	if e.RatioHigh == 0 || low == high {
		return ""
	}
	return fmt.Sprintf(" (%s to %s)", low, high)
}

// Change is a ratio in words, of what a measure is called: "31 % more", "4.0 % less" of time and
// "4.0 % fewer" of what is counted.
func Change(ratio float64, of string) string {
	word := "more"
	if ratio < 1 {
		word = "less"
		if strings.HasSuffix(of, "s") {
			word = "fewer"
		}
	}
	p := 100 * math.Abs(ratio-1)
	if p < 10 {
		return fmt.Sprintf("%.1f %% %s", p, word)
	}
	return fmt.Sprintf("%.0f %% %s", p, word)
}
