// Package option has flags that several commands have: where names come from, what of a take
// is looked at, how a log is written; and the exit codes.
//
// Flags are set before a command runs, in its one goroutine.
package option

import (
	"fmt"
	"net/url"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"entelon/cmd/entelon/terminal"
	"entelon/symbol"
	"entelon/symbol/cache"
)

// Size is a flag for a number of bytes, such as 4096, 16k or 2G.
type Size int64

var sizeUnits = map[byte]int64{'k': 1 << 10, 'm': 1 << 20, 'g': 1 << 30}

// String implements pflag.Value.
func (s *Size) String() string {
	if *s == 0 {
		return ""
	}
	for _, u := range "gmk" {
		if n := sizeUnits[byte(u)]; *s > 0 && int64(*s)%n == 0 {
			return fmt.Sprintf("%d%c", int64(*s)/n, u)
		}
	}
	return strconv.FormatInt(int64(*s), 10)
}

// Type implements pflag.Value.
func (s *Size) Type() string { return "SIZE" }

// Set implements pflag.Value.
func (s *Size) Set(v string) error {
	digits, unit := strings.ToLower(strings.TrimSuffix(strings.TrimSuffix(v, "B"), "i")), int64(1)
	if n := len(digits); n > 0 && sizeUnits[digits[n-1]] > 0 {
		unit = sizeUnits[digits[n-1]]
		digits = digits[:n-1]
	}
	n, err := strconv.ParseInt(digits, 10, 64)
	if err != nil || n <= 0 || n > 1<<50/unit {
		return fmt.Errorf("%q is not a size; write 4096, 16k or 2G", v)
	}
	*s = Size(n * unit)
	return nil
}

// symbolFlags say where names come from besides the objects themselves.
type Symbols struct {
	dirs    []string
	servers []string
	cache   string
	Limit   Size
	Note    string // what is not as wished, for after the take
}

// Add gives a command the flags.
func (f *Symbols) Add(c *cobra.Command) {
	f.Limit = cache.DefaultLimit
	c.Flags().StringArrayVar(&f.dirs, "debug-dir", nil, "look for separate debug files in this `DIR`, too; may be repeated")
	c.Flags().StringArrayVar(&f.servers, "debug-server", nil, "fetch debug files that are missing here by build ID from this `URL`; may be repeated")
	c.Flags().StringVar(&f.cache, "symbol-cache", "", "keep names and fetched debug files in this `DIR`, \"off\" for none (default: entelon/symbols in the user's folder for caches)")
	c.Flags().Var(&f.Limit, "symbol-cache-size", "how large that may become")
	_ = c.MarkFlagDirname("debug-dir")
	_ = c.MarkFlagDirname("symbol-cache")
}

// Finder looks for debug files as the flags say.
func (f *Symbols) Finder() (*symbol.Finder, error) {
	out := &symbol.Finder{Servers: f.servers}
	for _, s := range f.servers {
		if u, err := url.Parse(s); err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
			return nil, fmt.Errorf("--debug-server %q: give an address such as http://localhost:8002", s)
		}
	}
	for _, d := range f.dirs {
		if st, err := os.Stat(d); err != nil || !st.IsDir() {
			return nil, fmt.Errorf("--debug-dir %s: there is no such directory", d)
		}
	}
	out.Dirs = append(append(out.Dirs, f.dirs...), symbol.SystemDebugDir)
	if f.cache == "off" {
		if len(f.servers) > 0 {
			return nil, fmt.Errorf("--debug-server needs the symbol cache, which --symbol-cache off turns off")
		}
		return out, nil
	}
	dir, err := f.cache, error(nil)
	if dir == "" {
		dir, err = cache.DefaultCacheDir()
	}
	if err == nil {
		out.Cache, err = cache.Open(dir, int64(f.Limit))
	}
	if err != nil && (f.cache != "" || len(f.servers) > 0) {
		return nil, err
	}
	if err != nil { // a user without a home of his own: names are found anew each time
		f.Note = "names are not kept for the next take: " + terminal.OneLine(err)
		out.Cache = nil
	}
	return out, nil
}
