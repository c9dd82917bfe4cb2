/* What the programs need of the kernel: its helpers, and of its structures the
 * fields that are read. Where those fields are is filled in when a program is
 * loaded, from the kernel's own description of its types. */
#pragma once

#include <stdbool.h>
#include <stddef.h>

#include <linux/bpf.h>

typedef __u8 u8;
typedef __u16 u16;
typedef __u32 u32;
typedef __u64 u64;
typedef __s32 s32;
typedef __s64 s64;

#pragma clang attribute push(__attribute__((preserve_access_index)), apply_to = record)

struct pt_regs {
	unsigned long orig_ax; /* the number of a system call */
	unsigned long ip;
	unsigned long sp;
	unsigned long ax;
	unsigned long bp;
	unsigned long r14; /* of Go, the goroutine */
	unsigned long bx;
	unsigned long cx;
	unsigned long dx;
	unsigned long si;
	unsigned long di;  /* a system call's first argument, */
	unsigned long r8;  /* and its fifth */
	unsigned long r9;
};

struct thread_struct {
	unsigned long fsbase; /* the thread's pointer to itself */
};

struct mm_struct {
	unsigned long start_stack;
	unsigned long start_code;
	unsigned long start_brk;
	unsigned long brk;
};

struct super_block {
	u32 s_dev;
};

struct inode {
	unsigned short i_mode;
	unsigned long i_ino;
	struct super_block *i_sb;
};

struct qstr {
	const unsigned char *name;
};

struct dentry {
	struct dentry *d_parent;
	struct qstr d_name;
};

struct vfsmount {
	struct dentry *mnt_root;
};

struct mount {
	struct mount *mnt_parent;
	struct dentry *mnt_mountpoint;
	struct vfsmount mnt;
};

struct path {
	struct vfsmount *mnt;
	struct dentry *dentry;
};

struct file {
	struct inode *f_inode;
	void *private_data; /* of a socket, the socket */
	struct path f_path;
};

struct fdtable {
	unsigned int max_fds;
	struct file **fd;
};

struct files_struct {
	struct fdtable *fdt;
};

struct in6_addr {
	u8 bytes[16];
};

struct sock_common {
	u32 skc_daddr;
	u16 skc_dport;
	u16 skc_num;
	unsigned short skc_family;
	struct in6_addr skc_v6_daddr;
};

struct sock {
	struct sock_common __sk_common;
	u16 sk_protocol;
};

struct socket {
	struct sock *sk;
};

struct unix_address {
	s32 len; /* before the family and the path */
};

struct unix_sock {
	struct unix_address *addr;
	struct sock *peer;
};

struct block_device {
	u32 bd_dev;
};

struct bvec_iter {
	unsigned int bi_size;
};

struct bio {
	struct bio *bi_next; /* in a request to a device */
	struct block_device *bi_bdev;
	u32 bi_opf;
	struct bvec_iter bi_iter;
};

struct request {
	struct bio *bio;
};

struct vm_area_struct {
	struct file *vm_file;
};

struct signal_struct {
	s32 live; /* threads that have not ended */
};

struct task_struct {
	unsigned int __state;
	s32 pid;
	s32 tgid;
	void *stack;             /* of the kernel's part */
	unsigned in_iowait : 1;  /* it waits for a disk */
	unsigned long sas_ss_sp; /* the stack that signals are handled on */
	unsigned long sas_ss_size;
	struct mm_struct *mm;
	struct task_struct *real_parent;
	struct files_struct *files;
	struct signal_struct *signal;
	struct thread_struct thread;
};

#pragma clang attribute pop

#include <bpf/bpf_helpers.h>
#include <bpf/bpf_core_read.h>

#define inlined static __always_inline

/* bounded keeps the compiler from reasoning about a number, so that the check
 * of it that follows is still there when the kernel looks for it. */
#define bounded(n) asm volatile("" : "+r"(n))

/* FOR_GO keeps an enum that no variable has, so that Go's constants are made from it. */
#define FOR_GO(name) const enum name *go_##name __attribute__((unused))

/* read_word reads a word of the program's memory; 0 means that it was read. */
inlined long read_word(u64 *to, u64 address)
{
	return bpf_probe_read_user(to, sizeof(*to), (const void *)address);
}

/* READ reads a field of the kernel's. Reading it through the pointer itself is a
 * little faster, but checking that takes the kernel some 0.6 ms a field when the
 * program is loaded, and a take of one second waits for that. */
#define READ(to, field) bpf_probe_read_kernel(&(to), sizeof(to), __builtin_preserve_access_index(&(field)))

/* READ_BITS reads a field of the kernel's that is less than a byte. */
#define READ_BITS(of, field) BPF_CORE_READ_BITFIELD_PROBED(of, field)

char gpl[] SEC("license") = "GPL";
