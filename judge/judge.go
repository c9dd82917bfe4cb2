// Package judge is for tests that measure. What such a test measures says nothing while the
// host of a virtual machine keeps its processors from it: ticks do not come, and time that
// passed outside is counted as a program's. What failed then is tried again, and is left
// without a judgement if it fails each time; what fails while nothing was taken away has
// failed.
package judge

import (
	"fmt"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"entelon/linux/procfs"
)

const (
	// disturbing is how much of one processor the host may take away before a
	// measurement is none.
	disturbing = 0.1
	tries      = 3
	// long is after how much time nothing is tried again.
	long = 3 * time.Minute
)

// Try is a test with one try at its measurement. Error and Errorf speak against what was
// measured; Fatal and Fatalf end the test, whatever the host did.
type Try struct {
	*testing.T
	faults []string
}

// Error says what speaks against the measurement.
func (j *Try) Error(a ...any) {
	j.add(strings.TrimSpace(fmt.Sprintln(a...)))
}

// Errorf says what speaks against the measurement.
func (j *Try) Errorf(format string, a ...any) {
	j.add(fmt.Sprintf(format, a...))
}

// add keeps what its caller's caller says, with where.
func (j *Try) add(fault string) {
	if _, file, line, ok := runtime.Caller(2); ok {
		fault = fmt.Sprintf("%s:%d: %s", filepath.Base(file), line, fault)
	}
	j.faults = append(j.faults, fault)
}

// Failed says whether something speaks against the measurement so far.
func (j *Try) Failed() bool { return len(j.faults) > 0 || j.T.Failed() }

// Fairly measures until nothing speaks against what was measured. It fails the test by what
// was found while the host took nothing away, and leaves the test out if the host disturbed
// each try: three of them, or as many as began within three minutes.
func Fairly(t *testing.T, measure func(*Try)) {
	t.Helper()
	fairly(t, procfs.StolenTime, measure)
}

// fairly is Fairly by a given count of the time that was taken away.
func fairly(t testing.TB, stolen func() time.Duration, measure func(*Try)) {
	t.Helper()
	inner, _ := t.(*testing.T)
	began := time.Now()
	var taken float64
	var last []string
	for n := 0; n < tries && (n == 0 || time.Since(began) < long); n++ {
		j := &Try{T: inner}
		tried, before := time.Now(), stolen()
		measure(j)
		if len(j.faults) == 0 {
			return
		}
		last, taken = j.faults, float64(stolen()-before)/float64(max(1, time.Since(tried)))
		if taken < disturbing {
			for _, f := range last {
				t.Error(f)
			}
			return
		}
		t.Logf("the host took %.0f %% of a processor away: %s", 100*taken, strings.Join(last, "; "))
	}
	t.Skipf("disturbed three times: the host took %.0f %% of a processor away: %s", 100*taken, strings.ReplaceAll(strings.Join(last, "; "), "\n", " "))
}
