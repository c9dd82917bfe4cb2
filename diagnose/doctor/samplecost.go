package doctor

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"runtime"
	"sort"
	"strconv"
	"strings"
	"time"

	"entelon/capture"
	"entelon/core/profile"
)

// spinWord, as the first argument, makes this binary a program that looks at
// the clock all the time, some calls deep, and prints how long it was stopped.
const spinWord = "__spin"

// spinFor is how long the cost of sampling is measured.
const spinFor = 400 * time.Millisecond

// Spinner spins if this process was started to do so, and returns otherwise.
func Spinner() {
	if len(os.Args) != 2 || os.Args[1] != spinWord {
		return
	}
	runtime.LockOSThread()
	var gaps []int64
	spin(20, &gaps)
	for _, g := range gaps {
		fmt.Println(g)
	}
	os.Exit(0)
}

// spin looks at the clock, so many calls deep, and notes the times in
// nanoseconds between two looks that are longer than a look takes.
//
//go:noinline
func spin(depth int, gaps *[]int64) int {
	if depth > 0 {
		return spin(depth-1, gaps) + 1
	}
	const look = 1500
	begin := time.Now()
	last := begin
	for last.Sub(begin) < spinFor {
		now := time.Now()
		if d := now.Sub(last); d > look {
			*gaps = append(*gaps, int64(d))
			now = time.Now()
		}
		last = now
	}
	return 0
}

// MeasureCost measures on this machine what a sample costs when so much of the
// stack is copied; 0 is the default.
func MeasureCost(ctx context.Context, stackBytes int) (SampleCost, error) {
	self, err := os.Executable()
	if err != nil {
		return SampleCost{}, fmt.Errorf("finding this program's own file: %w", err)
	}
	gaps := func(rate int) (sum float64, facts profile.Facts, err error) {
		var out bytes.Buffer
		o := capture.Options{Settings: profile.Settings{Command: []string{self, spinWord}, RateHz: rate, StackBytes: stackBytes, Program: "cost", Build: "cost"}, Stdout: &out, Stderr: os.Stderr}
		res, err := capture.Collect(ctx, o, capture.NoSink{})
		if err != nil {
			return 0, facts, err
		}
		res.Wait()
		var all []float64
		for _, f := range strings.Fields(out.String()) {
			v, err := strconv.ParseFloat(f, 64)
			if err != nil {
				return 0, facts, err
			}
			all = append(all, v)
		}
		sort.Float64s(all)
		// The longest tenth is what the machine does anyway.
		for _, v := range all[:len(all)*9/10] {
			sum += v
		}
		return sum, res.Take.Facts, nil
	}
	// What does not depend on the rate, such as reading names, is in both; the
	// lower of two is less disturbed.
	const high, low = 9973, 997
	var most, least float64
	var many, few profile.Facts
	for turn := range 2 {
		b, f, err1 := gaps(low)
		a, m, err2 := gaps(high)
		if err := errors.Join(err1, err2); err != nil {
			return SampleCost{}, fmt.Errorf("measuring what a sample costs: %w", err)
		}
		if turn == 0 || f.CollectorNS < few.CollectorNS {
			few = f
		}
		if turn == 0 || m.CollectorNS < many.CollectorNS {
			many = m
		}
		if turn == 0 || a < most {
			most = a
		}
		if turn == 0 || b < least {
			least = b
		}
	}
	n := float64(many.Samples - few.Samples)
	if n < 100 {
		return SampleCost{}, fmt.Errorf("measuring what a sample costs: the machine is too busy, there were only %d samples", many.Samples)
	}
	return SampleCost{
		StopNS:      max(1000, (most-least)/n),
		CollectorNS: max(500, float64(many.CollectorNS-few.CollectorNS)/n),
	}, nil
}

// SampleCost is what one sample costs.
type SampleCost struct {
	StopNS      float64 // for which the program is stopped
	CollectorNS float64 // of processor time of the collector
}
