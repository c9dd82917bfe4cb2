/* What is behind a descriptor: a file with its path, a socket with its peer. It is told once, in a
 * record of its own with a number made for it, and by that number afterwards. A path is read from the
 * kernel's own names, from the innermost outwards, across what is mounted: nobody has to look at the
 * descriptor later, when it may be another one's. */
#pragma once

#include "tally.h"

enum file_bound {
	FILE_PARTS = 20,       /* of a path, that are told; of a deeper one the innermost */
	FILE_PART_BYTES = 64,  /* what is longer is cut */
	FILE_ADDRESS_BYTES = 120,
	FILES_TOLD = 1 << 14,
	FILE_CUT = 1,      /* a path is only its inner end */
	FILE_ROOTLESS = 2, /* it is none, but the name of what is in no folder */
};
FOR_GO(file_bound);

enum {
	MODE_SORT = 0170000,
	MODE_SOCKET = 0140000,
	INTERNET = 2, /* families of addresses */
	INTERNET_6 = 10,
	LOCAL = 1,
	PATH_BEGIN = 2, /* of a local address, behind its family */
};

/* Its header's words: addr is the number, low the mode, high the inode, sp the device, pc the family
 * and above it the protocol of a socket, bp its peer's port as the network has it and above that its
 * own, system_sp what kind of path it is. What follows are parts of a path, or an address. */
struct file_record {
	struct record_header r;
	union {
		u8 parts[FILE_PARTS][FILE_PART_BYTES];
		u8 address[FILE_ADDRESS_BYTES];
	};
};

/* A path while it is read. */
struct path_walk {
	struct file_record f;
	struct dentry *name;
	struct dentry *root; /* of what is mounted here: */
	struct mount *mounted;
	u64 n; /* parts that were read */
};

struct {
	__uint(type, BPF_MAP_TYPE_LRU_HASH);
	__type(key, u64);
	__type(value, u32);
	__uint(max_entries, FILES_TOLD);
} files_told SEC(".maps");

struct {
	__uint(type, BPF_MAP_TYPE_PERCPU_ARRAY);
	__type(key, u32);
	__type(value, struct path_walk);
	__uint(max_entries, 1);
} file_scratch SEC(".maps");

/* file_behind finds the file of a descriptor of the present process. */
inlined struct file *file_behind(u32 descriptor)
{
	struct task_struct *task = (struct task_struct *)bpf_get_current_task();
	struct files_struct *files = 0;
	struct fdtable *table = 0;
	struct file **list = 0, *f = 0;
	unsigned int most = 0;

	READ(files, task->files);
	if (!files || READ(table, files->fdt) != 0 || READ(most, table->max_fds) != 0 || descriptor >= most)
		return 0;
	READ(list, table->fd);
	bpf_probe_read_kernel(&f, sizeof(f), list + descriptor);
	return f;
}

/* What follows has names of its own, so that the kernel checks it once, and not at each place where it is
 * called. */

/* path_step reads one part of a path; 0: there are no more. */
__attribute__((noinline)) u64 path_step(void)
{
	u32 zero = 0;
	struct path_walk *x = bpf_map_lookup_elem(&file_scratch, &zero);
	struct dentry *name, *parent = 0;
	struct mount *mounted, *outer = 0;
	u64 at = 0, n;

	if (!x)
		return 0;
	name = x->name;
	mounted = x->mounted;
	READ(parent, name->d_parent);
	if (name == x->root || name == parent) {
		READ(outer, mounted->mnt_parent);
		if (outer == mounted || outer == 0) {
			x->f.r.system_sp = 0;
			return 0;
		}
		READ(x->name, mounted->mnt_mountpoint);
		x->mounted = outer;
		READ(x->root, outer->mnt.mnt_root);
		return 1;
	}
	n = x->n;
	bounded(n);
	if (n >= FILE_PARTS)
		return 0;
	READ(at, name->d_name.name);
	bpf_probe_read_kernel_str(x->f.parts[n], FILE_PART_BYTES, (void *)at);
	x->n = n + 1;
	x->name = parent;
	return 1;
}

/* write_path puts the parts of a file's path into the record, and returns how many there are. */
__attribute__((noinline)) u64 write_path(u64 file)
{
	struct file *f = (struct file *)file;
	struct vfsmount *mounted = 0;
	u32 zero = 0;
	struct path_walk *x = bpf_map_lookup_elem(&file_scratch, &zero);
	struct dentry *name;
	u64 at = 0;

	if (!x)
		return 0;
	READ(x->name, f->f_path.dentry);
	READ(mounted, f->f_path.mnt);
	READ(x->root, mounted->mnt_root);
	x->mounted = (struct mount *)((u64)mounted - __builtin_preserve_field_info(((struct mount *)0)->mnt, 0));
	x->n = 0;
	x->f.r.system_sp = FILE_CUT;
	for (int i = 0; i < FILE_PARTS + 8; i++) {
		if (!path_step())
			break;
	}
	if (x->n == 0) { /* the root itself, or what was never in any folder */
		name = x->name;
		READ(at, name->d_name.name);
		bpf_probe_read_kernel_str(x->f.parts[0], FILE_PART_BYTES, (void *)at);
		x->f.r.system_sp = FILE_ROOTLESS;
		return 1;
	}
	return x->n;
}

/* write_peer puts who is at the other end of a socket into the record, and returns how long that is. */
__attribute__((noinline)) u64 write_peer(u64 sock, u32 family)
{
	struct sock *s = (struct sock *)sock;
	struct unix_address *address = 0;
	struct sock *peer = 0;
	struct file_record *x;
	u32 zero = 0;
	s32 length = 0;
	u64 n;
	struct path_walk *w = bpf_map_lookup_elem(&file_scratch, &zero);

	if (!w)
		return 0;
	x = &w->f;
	if (family == INTERNET) {
		READ(*(u32 *)x->address, s->__sk_common.skc_daddr);
		return 4;
	}
	if (family == INTERNET_6) {
		READ(*(struct in6_addr *)x->address, s->__sk_common.skc_v6_daddr);
		return 16;
	}
	if (family != LOCAL)
		return 0;
	READ(address, ((struct unix_sock *)s)->addr);
	if (!address && READ(peer, ((struct unix_sock *)s)->peer) == 0 && peer)
		READ(address, ((struct unix_sock *)peer)->addr);
	if (!address || READ(length, address->len) != 0 || length <= PATH_BEGIN)
		return 0;
	n = length - PATH_BEGIN;
	bounded(n);
	if (n > FILE_ADDRESS_BYTES)
		n = FILE_ADDRESS_BYTES;
	if (bpf_probe_read_kernel(x->address, n, (void *)__builtin_preserve_access_index(&address->len) + sizeof(length) + PATH_BEGIN) != 0)
		return 0;
	return n;
}

/* tell_file returns the number of a file, which it tells of where that was not yet done; 0: it is none. */
inlined u64 tell_file(void *ctx, struct file *f)
{
	struct inode *inode = 0;
	struct super_block *system = 0;
	struct socket *socket = 0;
	struct sock *s = 0, *other = 0;
	struct path_walk *w;
	struct file_record *x;
	unsigned short mode = 0, family = 0, port = 0, own = 0, protocol = 0;
	unsigned long number = 0;
	u32 zero = 0, peer = 0, device = 0, one = 1;
	u64 id, length;

	if (!f || READ(inode, f->f_inode) != 0 || !inode)
		return 0;
	READ(number, inode->i_ino);
	READ(mode, inode->i_mode);
	id = ((u64)f >> 4) * 0x9e3779b97f4a7c15 ^ number * 0xc2b2ae3d27d4eb4f;
	if ((mode & MODE_SORT) == MODE_SOCKET && READ(socket, f->private_data) == 0 && READ(s, socket->sk) == 0 && s) {
		READ(family, s->__sk_common.skc_family);
		READ(protocol, s->sk_protocol);
		if (family == INTERNET || family == INTERNET_6) {
			READ(port, s->__sk_common.skc_dport);
			READ(own, s->__sk_common.skc_num);
			READ(peer, s->__sk_common.skc_daddr);
			id ^= ((u64)peer << 32 | (u64)port << 16 | own) * 0x165667b19e3779f9;
		} else if (family == LOCAL) {
			READ(other, ((struct unix_sock *)s)->peer);
			id ^= (u64)other * 0x165667b19e3779f9;
		}
	}
	id |= 1;
	if (bpf_map_lookup_elem(&files_told, &id))
		return id;
	w = bpf_map_lookup_elem(&file_scratch, &zero);
	if (!w)
		return 0;
	x = &w->f;
	READ(system, inode->i_sb);
	READ(device, system->s_dev);
	x->r.addr = id;
	x->r.kind = KIND_FILE;
	x->r.length = x->r.slot = x->r.system_sp = 0;
	x->r.low = mode;
	x->r.high = number;
	x->r.sp = device;
	x->r.pc = family | (u64)protocol << 16;
	x->r.bp = port | (u64)own << 16;
	length = s ? write_peer((u64)s, family) : write_path((u64)f) * FILE_PART_BYTES;
	bounded(length);
	if (length > sizeof(x->parts))
		return 0;
	x->r.length = length;
	if (send(ctx, &x->r, length) != 0)
		return 0;
	bpf_map_update_elem(&files_told, &id, &one, BPF_ANY);
	return id;
}

/* Parts of memory that are nobody's file. */
enum memory_part {
	MEMORY_HEAP = 1,
	MEMORY_STACK = 2, /* of the process's first thread */
};
FOR_GO(memory_part);

enum { STACK_REACH = 8 << 20 };

/* part_of_memory says in which part of memory an address is, as far as the kernel knows; 0: it does not. */
inlined u64 part_of_memory(u64 address)
{
	struct task_struct *task = (struct task_struct *)bpf_get_current_task();
	struct mm_struct *memory = 0;
	u64 from = 0, to = 0, stack = 0;

	READ(memory, task->mm);
	READ(from, memory->start_brk);
	READ(to, memory->brk);
	READ(stack, memory->start_stack);
	if (address >= from && address < to)
		return MEMORY_HEAP;
	return stack - address < STACK_REACH ? MEMORY_STACK : 0;
}
