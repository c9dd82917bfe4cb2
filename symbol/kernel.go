package symbol

import (
	"errors"
	"fmt"
	"io"
	"os"
	"sort"
	"strings"

	"entelon/core/profile"
)

// Kernel names addresses of the running kernel and its modules. The list has
// some hundred thousand lines, most of which are never asked for; so it is
// kept as the text that it is, with the place of each function's line.
type Kernel struct {
	text  []byte
	lines []kernelLine // by address
}

type kernelLine struct {
	addr uint64
	name uint32 // where the name begins in text
}

// ErrHidden means that the kernel shows its addresses to privileged users only.
var ErrHidden = errors.New("the kernel hides its addresses (kernel.kptr_restrict)")

// OpenKernel reads the kernel's list of symbols, /proc/kallsyms. The kernel
// takes some 100 ms to write that list, so it is kept in the cache, which may
// be nil, until the machine is started anew or its modules change.
func OpenKernel(c *Cache) (*Kernel, error) {
	key := kernelKey()
	if c != nil && key != "" {
		if b, ok := c.Get(key); ok {
			if k, ok := unpackKernel(b); ok {
				return k, nil
			}
		}
	}
	f, err := os.Open("/proc/kallsyms")
	if err != nil {
		return nil, err
	}
	defer f.Close()
	k, err := readKernel(f)
	if err == nil && c != nil && key != "" {
		c.Keep(key, k.pack())
	}
	return k, err
}

// maxKernelText bounds the list, so that places in it fit into 32 bits.
const maxKernelText = 1 << 30

// readKernel reads lines of "address type name", then for a kernel module a
// tab and "[module]".
func readKernel(r io.Reader) (*Kernel, error) {
	k := &Kernel{text: make([]byte, 0, 8<<20), lines: make([]kernelLine, 0, 1<<17)}
	for {
		if len(k.text) == cap(k.text) {
			k.text = append(k.text, 0)[:len(k.text)]
		}
		n, err := r.Read(k.text[len(k.text):cap(k.text)])
		k.text = k.text[:len(k.text)+n]
		if err == io.EOF {
			break
		} else if err != nil {
			return nil, fmt.Errorf("kernel symbols: %w", err)
		}
		if len(k.text) > maxKernelText {
			return nil, errors.New("kernel symbols: the list is longer than any known one")
		}
	}
	if err := k.index(); err != nil {
		return nil, err
	}
	if len(k.lines) == 0 {
		return nil, ErrHidden
	}
	byAddress := func(i, j int) bool { return k.lines[i].addr < k.lines[j].addr }
	if !sort.SliceIsSorted(k.lines, byAddress) {
		sort.SliceStable(k.lines, byAddress)
	}
	return k, nil
}

// index finds the lines of functions.
func (k *Kernel) index() error {
	b := k.text
	for at := 0; at < len(b); {
		begin := at
		var addr uint64
		for ; at < len(b) && b[at] != ' ' && b[at] != '\n'; at++ {
			c := b[at] | 0x20 // lower case
			switch {
			case c >= '0' && c <= '9':
				addr = addr<<4 | uint64(c-'0')
			case c >= 'a' && c <= 'f':
				addr = addr<<4 | uint64(c-'a'+10)
			default:
				return fmt.Errorf("kernel symbols: byte %d is in no address", at)
			}
		}
		// A blank, the type, a blank, then the name.
		if at+3 < len(b) && at > begin && addr != 0 {
			if t := b[at+1] | 0x20; t == 't' || t == 'w' {
				k.lines = append(k.lines, kernelLine{addr, uint32(at + 3)})
			}
		}
		for at < len(b) && b[at] != '\n' {
			at++
		}
		at++
	}
	return nil
}

// Locate names a kernel address and the module that it belongs to.
func (k *Kernel) Locate(addr uint64) (Location, string) {
	l := Location{Kind: profile.KindKernel}
	if k != nil {
		if i := sort.Search(len(k.lines), func(i int) bool { return k.lines[i].addr > addr }); i > 0 {
			line, _, _ := strings.Cut(string(k.text[k.lines[i-1].name:min(len(k.text), int(k.lines[i-1].name)+512)]), "\n")
			name, module, inModule := strings.Cut(line, "\t")
			if !inModule {
				module = "[kernel]"
			}
			l.Name, l.Function = name, k.lines[i-1].addr
			return l, module
		}
	}
	l.Unnamed = true
	l.Name = fmt.Sprintf("[kernel]+0x%x", addr)
	return l, "[kernel]"
}
