package symbol

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"sort"
	"strconv"
	"strings"

	"entelon/core/profile"
)

// Kernel names addresses of the running kernel and its modules.
type Kernel struct {
	symbols []kernelSymbol
}

type kernelSymbol struct {
	addr   uint64
	name   string
	module string
}

// ErrHidden means that the kernel shows its addresses to privileged users only.
var ErrHidden = errors.New("the kernel hides its addresses (kernel.kptr_restrict)")

// OpenKernel reads the kernel's list of symbols, /proc/kallsyms.
func OpenKernel() (*Kernel, error) {
	f, err := os.Open("/proc/kallsyms")
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return readKernel(f)
}

// readKernel reads lines of "address type name [module]".
func readKernel(r io.Reader) (*Kernel, error) {
	k := &Kernel{}
	sc := bufio.NewScanner(r)
	for sc.Scan() {
		f := strings.Fields(sc.Text())
		if len(f) < 3 || !strings.ContainsAny(f[1], "tTwW") {
			continue
		}
		addr, err := strconv.ParseUint(f[0], 16, 64)
		if err != nil {
			return nil, fmt.Errorf("kernel symbols: %w", err)
		}
		if addr == 0 {
			continue
		}
		s := kernelSymbol{addr: addr, name: f[2], module: "[kernel]"}
		if len(f) > 3 {
			s.module = f[3]
		}
		k.symbols = append(k.symbols, s)
	}
	if err := sc.Err(); err != nil {
		return nil, fmt.Errorf("kernel symbols: %w", err)
	}
	if len(k.symbols) == 0 {
		return nil, ErrHidden
	}
	sort.SliceStable(k.symbols, func(i, j int) bool { return k.symbols[i].addr < k.symbols[j].addr })
	return k, nil
}

// Locate names a kernel address and the module that it belongs to.
func (k *Kernel) Locate(addr uint64) (Location, string) {
	l := Location{Kind: profile.KindKernel}
	if k != nil {
		if i := sort.Search(len(k.symbols), func(i int) bool { return k.symbols[i].addr > addr }); i > 0 {
			s := k.symbols[i-1]
			l.Name, l.Function = s.name, s.addr
			return l, s.module
		}
	}
	l.Unnamed = true
	l.Name = fmt.Sprintf("[kernel]+0x%x", addr)
	return l, "[kernel]"
}
