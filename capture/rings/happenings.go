package rings

import (
	"cmp"
	"fmt"

	"golang.org/x/sys/unix"

	"entelon/linux/bpf"
	"entelon/resolve/raw"
)

// readEvent reads an event that was written down by itself.
func (d *rawReader) readEvent(h bpf.Header, body []byte) *raw.Record {
	x, ok := bpf.DecodeEvent(h, body)
	if !ok || x.End < x.Begin || int(x.Key.Event) >= len(d.events) {
		return nil
	}
	e := d.events[x.Key.Event]
	out := &d.happening
	*out = raw.Happening{
		Class: classOf(x.Key), Begin: x.Begin, End: x.End, Amount: int64(x.Amount), About: x.About, Address: x.Address, Part: memoryParts[x.Part], Processor: x.Processor,
		Arguments: out.Arguments[:0],
	}
	for _, a := range e.Arguments {
		value, known := x.Register(a.Register)
		if !known {
			break
		}
		out.Arguments = append(out.Arguments, value)
	}
	if e.Role != RoleCall {
		out.Data = x.Words
	}
	d.out.Kind, d.out.PID, d.out.TID, d.out.Happening = raw.Happened, x.Key.Pid, x.Key.Tid, out
	return &d.out
}

var memoryParts = map[uint64]string{bpf.MemoryHeap: "heap", bpf.MemoryStack: "stack"}

// fileOf is what is behind a descriptor as raw records have it.
func fileOf(x bpf.File) *raw.File {
	out := &raw.File{Number: x.Number, Name: x.Path, Sort: "file"}
	switch x.Mode & unix.S_IFMT {
	case unix.S_IFDIR:
		out.Sort = "folder"
	case unix.S_IFCHR, unix.S_IFBLK:
		out.Sort = "device"
	case unix.S_IFIFO:
		out.Sort = "pipe"
		out.Name = cmp.Or(out.Name, fmt.Sprintf("pipe %d", x.Inode))
	case unix.S_IFSOCK:
		out.Sort = "socket"
		out.Name = socketName(x)
	}
	out.Name = cmp.Or(out.Name, fmt.Sprintf("%s %d", out.Sort, x.Inode))
	return out
}

// socketName is who is at the other end of a socket or, where nobody is, what it listens at.
func socketName(x bpf.File) string {
	protocol := fmt.Sprint("protocol ", x.Protocol)
	switch x.Protocol {
	case unix.IPPROTO_TCP:
		protocol = "tcp"
	case unix.IPPROTO_UDP:
		protocol = "udp"
	case unix.IPPROTO_ICMP, unix.IPPROTO_ICMPV6:
		protocol = "icmp"
	}
	switch {
	case x.Peer.IsValid():
		return fmt.Sprintf("%s %s", protocol, x.Peer)
	case x.Family == unix.AF_INET || x.Family == unix.AF_INET6:
		return fmt.Sprintf("%s, own port %d", protocol, x.Own)
	case x.Family == unix.AF_UNIX:
		return cmp.Or(x.Path, fmt.Sprintf("local socket %d", x.Inode))
	case x.Family == unix.AF_NETLINK:
		return "the kernel"
	}
	return ""
}
