package bpf

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"os"

	"github.com/cilium/ebpf/btf"
)

// kernelFields are the fields of the kernel's structures that the programs read, as
// programs/kernel.h declares them. A field of another structure of these has that as
// its type. What an older kernel does not have is left out where few programs need it:
// they alone cannot be loaded there.
var kernelFields = []struct {
	structure string
	fields    []string
	few       bool
}{
	{"thread_struct", []string{"fsbase"}, false},
	{"mm_struct", []string{"start_stack", "start_code", "start_brk", "brk"}, false},
	{"pt_regs", []string{"orig_ax", "ip", "sp", "ax", "bp", "r14", "bx", "cx", "dx", "si", "di", "r8", "r9"}, false},
	{"signal_struct", []string{"live"}, false},
	{"task_struct", []string{"__state", "stack", "in_iowait", "pid", "tgid", "sas_ss_sp", "sas_ss_size", "mm", "real_parent", "files", "signal", "thread"}, false},
	{"super_block", []string{"s_dev"}, true},
	{"inode", []string{"i_mode", "i_ino", "i_sb"}, true},
	{"qstr", []string{"name"}, true},
	{"dentry", []string{"d_parent", "d_name"}, true},
	{"vfsmount", []string{"mnt_root"}, true},
	{"mount", []string{"mnt_parent", "mnt_mountpoint", "mnt"}, true},
	{"path", []string{"mnt", "dentry"}, true},
	{"file", []string{"f_inode", "private_data", "f_path"}, true},
	{"fdtable", []string{"max_fds", "fd"}, true},
	{"files_struct", []string{"fdt"}, true},
	{"in6_addr", nil, true},
	{"sock_common", []string{"skc_daddr", "skc_dport", "skc_num", "skc_family", "skc_v6_daddr"}, true},
	{"sock", []string{"__sk_common", "sk_protocol"}, true},
	{"socket", []string{"sk"}, true},
	{"unix_address", []string{"len"}, true},
	{"unix_sock", []string{"addr", "peer"}, true},
	{"block_device", []string{"bd_dev"}, true},
	{"bvec_iter", []string{"bi_size"}, true},
	{"request", []string{"bio"}, true},
	{"bio", []string{"bi_next", "bi_bdev", "bi_opf", "bi_iter"}, true},
	{"vm_area_struct", []string{"vm_file"}, true},
}

// Cache keeps what takes long to find out.
type Cache interface {
	Get(name string) (b []byte, ok bool)
	Keep(name string, b []byte)
}

// KernelTypesKey is the name under which a cache keeps what KernelTypes found of this kernel.
func KernelTypesKey() (string, error) {
	notes, err := os.ReadFile("/sys/kernel/notes")
	return fmt.Sprintf("kernel-types-%x", sha256.Sum256(fmt.Append(notes, kernelFields))), err
}

// KernelTypes returns the kernel's description of the fields that the programs read.
// Finding them in that of all its types takes about 40 ms, so they are kept in a cache,
// which may be nil, by the kernel's own build ID, which /sys/kernel/notes holds.
func KernelTypes(cache Cache) (*btf.Spec, error) {
	key, err := KernelTypesKey()
	if err != nil {
		cache = nil
	}
	if cache != nil {
		if b, ok := cache.Get(key); ok {
			if spec, err := btf.LoadSpecFromReader(bytes.NewReader(b)); err == nil {
				return spec, nil
			}
		}
	}
	b, err := readKernelTypes()
	if err != nil {
		return nil, fmt.Errorf("reading the kernel's types: %w", err)
	}
	if cache != nil {
		cache.Keep(key, b)
	}
	return btf.LoadSpecFromReader(bytes.NewReader(b))
}

// readKernelTypes makes structures that have the fields alone, where the kernel has them.
func readKernelTypes() ([]byte, error) {
	all, err := btf.LoadKernelSpec()
	if err != nil {
		return nil, err
	}
	word := &btf.Int{Name: "unsigned long", Size: 8}
	bits := &btf.Int{Name: "unsigned int", Size: 4}
	number := &btf.Int{Name: "int", Size: 4, Encoding: btf.Signed}
	half := &btf.Int{Name: "short unsigned int", Size: 2}
	pointer := &btf.Pointer{Target: &btf.Void{}}
	made := map[string]btf.Type{}
	out, err := btf.NewBuilder(nil, nil)
	if err != nil {
		return nil, err
	}
	for _, s := range kernelFields {
		var in *btf.Struct
		switch err := all.TypeByName(s.structure, &in); {
		case err != nil && s.few:
			continue
		case err != nil:
			return nil, err
		}
		small := &btf.Struct{Name: s.structure, Size: in.Size}
		for _, name := range s.fields {
			at, field, ok := fieldOf(in, name)
			switch {
			case !ok && s.few:
				continue
			case !ok:
				return nil, fmt.Errorf("%s has no %s", s.structure, name)
			}
			f := btf.Member{Name: name, Type: word, Offset: at, BitfieldSize: field.BitfieldSize}
			switch t := btf.UnderlyingType(field.Type).(type) {
			case *btf.Pointer:
				f.Type = pointer
			case *btf.Int:
				switch t.Size {
				case 4:
					f.Type = number
				case 2:
					f.Type = half
				}
				if f.BitfieldSize != 0 {
					f.Type = bits
				}
			case *btf.Struct:
				if t.Name == "" && t.Size == 4 { // an atomic number
					f.Type = number
					break
				}
				if f.Type = made[t.Name]; f.Type == nil && s.few {
					continue
				} else if f.Type == nil {
					return nil, fmt.Errorf("%s in %s is a %s", name, s.structure, t.Name)
				}
			}
			small.Members = append(small.Members, f)
		}
		made[s.structure] = small
		if _, err := out.Add(small); err != nil {
			return nil, err
		}
	}
	return out.Marshal(nil, nil)
}

// fieldOf finds a field, also in parts of the structure that have no name.
func fieldOf(in *btf.Struct, name string) (at btf.Bits, field btf.Member, ok bool) {
	return memberOf(in.Members, name)
}

func memberOf(members []btf.Member, name string) (at btf.Bits, field btf.Member, ok bool) {
	for _, m := range members {
		if m.Name == name {
			return m.Offset, m, true
		}
		if m.Name != "" {
			continue
		}
		var within []btf.Member
		switch inner := btf.UnderlyingType(m.Type).(type) {
		case *btf.Struct:
			within = inner.Members
		case *btf.Union:
			within = inner.Members
		}
		if at, field, ok := memberOf(within, name); ok {
			return m.Offset + at, field, true
		}
	}
	return 0, btf.Member{}, false
}
