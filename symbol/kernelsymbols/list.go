// Package kernelsymbols names addresses of the running kernel and its modules by the list
// that it tells of them, which is kept packed from one collection to the next.
//
// A List is not changed after it was opened and may be read by many goroutines until it
// is closed.
package kernelsymbols

import (
	"errors"
	"fmt"
	"io"
	"os"
	"runtime/debug"
	"sort"
	"strings"

	"entelon/core/profile"
	"entelon/symbol"
	"entelon/symbol/cache"
	"entelon/symbol/elfimage"
)

// List names addresses of the running kernel and its modules.
type List struct {
	packed packedKernel
	mapped bool // from a file of the cache
}

// Close gives back what it has mapped; it names nothing from then on.
func (k *List) Close() error {
	if k == nil || !k.mapped {
		return nil
	}
	b := k.packed
	k.packed, k.mapped = nil, false
	return elfimage.UnmapFile(b)
}

// kernelLine is a function of the kernel's list of symbols. The list has some hundred
// thousand lines, most of which are never asked for; so it is kept as text.
type kernelLine struct {
	addr uint64
	name uint32 // where the name begins in the text
}

// ErrHidden means that the kernel shows its addresses to privileged users only.
var ErrHidden = errors.New("the kernel hides its addresses (kernel.kptr_restrict)")

// Open reads the kernel's list of symbols, /proc/kallsyms. The kernel
// takes some 100 ms to write that list, so it is kept in the cache, which may
// be nil, until the machine is started anew or its modules change.
func Open(c *cache.Cache) (*List, error) {
	key := kernelKey()
	if c != nil && key != "" {
		if k := kept(c, key); k != nil {
			return &List{k, true}, nil
		}
	}
	f, err := os.Open("/proc/kallsyms")
	if err != nil {
		return nil, err
	}
	defer f.Close()
	k, err := readKernel(f)
	if err == nil && c != nil && key != "" {
		c.Keep(key, k.packed)
	}
	return k, err
}

// maxKernelText bounds the list, so that places in it fit into 32 bits.
const maxKernelText = 1 << 30

// readKernel reads lines of "address type name", then for a kernel module a
// tab and "[module]".
func readKernel(r io.Reader) (*List, error) {
	text := make([]byte, 0, 8<<20)
	for {
		if len(text) == cap(text) {
			text = append(text, 0)[:len(text)]
		}
		n, err := r.Read(text[len(text):cap(text)])
		text = text[:len(text)+n]
		if err == io.EOF {
			break
		} else if err != nil {
			return nil, fmt.Errorf("kernel symbols: %w", err)
		}
		if len(text) > maxKernelText {
			return nil, errors.New("kernel symbols: the list is longer than any known one")
		}
	}
	lines, err := indexKernel(text)
	if err != nil {
		return nil, err
	}
	if len(lines) == 0 {
		return nil, ErrHidden
	}
	byAddress := func(i, j int) bool { return lines[i].addr < lines[j].addr }
	if !sort.SliceIsSorted(lines, byAddress) {
		sort.SliceStable(lines, byAddress)
	}
	return &List{packed: pack(text, lines)}, nil
}

// indexKernel finds the lines of functions.
func indexKernel(b []byte) ([]kernelLine, error) {
	lines := make([]kernelLine, 0, 1<<17)
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
				return nil, fmt.Errorf("kernel symbols: byte %d is in no address", at)
			}
		}
		// A blank, the type, a blank, then the name.
		if at+3 < len(b) && at > begin && addr != 0 {
			if t := b[at+1] | 0x20; t == 't' || t == 'w' {
				lines = append(lines, kernelLine{addr, uint32(at + 3)})
			}
		}
		for at < len(b) && b[at] != '\n' {
			at++
		}
		at++
	}
	return lines, nil
}

// Locate names a kernel address and the module that it belongs to.
func (k *List) Locate(addr uint64) (symbol.Location, string) {
	l := symbol.Location{Kind: profile.KindKernel}
	if name, module, at, ok := k.find(addr); ok {
		l.Name, l.Function = name, at
		return l, module
	}
	l.Unnamed = true
	l.Name = fmt.Sprintf("[kernel]+0x%x", addr)
	return l, "[kernel]"
}

// find returns the function at an address; none where the list has none, or cannot be
// read any more.
func (k *List) find(addr uint64) (name, module string, at uint64, ok bool) {
	if k == nil || k.packed == nil {
		return "", "", 0, false
	}
	defer debug.SetPanicOnFault(debug.SetPanicOnFault(true))
	defer func() {
		if recover() != nil {
			ok = false
		}
	}()
	p := k.packed
	i := sort.Search(p.count(), func(i int) bool { return p.address(i) > addr }) - 1
	if i < 0 {
		return "", "", 0, false
	}
	name, module, inModule := strings.Cut(p.line(i), "\t")
	if !inModule {
		module = "[kernel]"
	}
	return name, module, p.address(i), true
}
