package judge

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"
)

// recorder is a test that writes down what is said of it. Of its methods, those that are
// not here are not called.
type recorder struct {
	testing.TB
	said []string
}

func (r *recorder) Helper()        {}
func (r *recorder) Error(a ...any) { r.said = append(r.said, "error: "+fmt.Sprint(a...)) }
func (r *recorder) Logf(format string, a ...any) {
	r.said = append(r.said, "log: "+fmt.Sprintf(format, a...))
}
func (r *recorder) Skipf(format string, a ...any) {
	r.said = append(r.said, "skip: "+fmt.Sprintf(format, a...))
}

// TestFairly: what fails on a machine of its own fails at once; what fails while the host
// takes time away is tried again, and is left out after the third try.
func TestFairly(t *testing.T) {
	for name, c := range map[string]struct {
		takes float64 // of a processor, by the host
		wrong int     // tries that go wrong
		tries int
		said  []string // how what is said begins
	}{
		"right":                 {0.9, 0, 1, nil},
		"wrong":                 {0, 1, 1, []string{"error: judge_test.go:49: the ink is dry"}},
		"disturbed once":        {0.9, 1, 2, []string{"log: "}},
		"disturbed three times": {0.9, 9, 3, []string{"log: ", "log: ", "log: ", "skip: disturbed three times: the host took"}},
	} {
		t.Run(name, func(t *testing.T) {
			r, n := &recorder{}, 0
			began := time.Now()
			stolen := func() time.Duration { return time.Duration(c.takes * float64(time.Since(began))) }
			fairly(r, stolen, func(j *Try) {
				n++
				time.Sleep(5 * time.Millisecond)
				if n <= c.wrong {
					j.Error("the ink is dry")
				}
			})
			if n != c.tries || !slices.EqualFunc(r.said, c.said, strings.HasPrefix) {
				t.Errorf("%d tries, it says %q", n, r.said)
			}
		})
	}
}
