package procfs

import (
	"os"
	"strconv"
)

// Sampler is a process that has events of the kernel's sampling interface open.
type Sampler struct {
	PID  int
	Name string
}

// samplerLinks bounds the descriptors that are looked at, and with them the time: each costs
// about a microsecond.
const samplerLinks = 20_000

// Samplers lists processes that sample on this machine, but for one, as far as this user may
// see; at most so many.
func Samplers(but, most int) (out []Sampler) {
	members, err := Members()
	if err != nil {
		return nil
	}
	left := samplerLinks
	for _, m := range members {
		if m.PID == but || left <= 0 {
			continue
		}
		dir := "/proc/" + strconv.Itoa(m.PID) + "/fd"
		d, err := os.Open(dir)
		if err != nil {
			continue // it has ended, or belongs to another user
		}
		names, _ := d.Readdirnames(left) // of what cannot be read nothing is known
		d.Close()
		left -= len(names)
		for _, n := range names {
			if to, err := os.Readlink(dir + "/" + n); err == nil && to == "anon_inode:[perf_event]" {
				out = append(out, Sampler{m.PID, m.Name})
				break
			}
		}
		if len(out) == most {
			break
		}
	}
	return out
}
