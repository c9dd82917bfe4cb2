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
};

struct thread_struct {
	unsigned long fsbase; /* the thread's pointer to itself */
};

struct mm_struct {
	unsigned long start_stack;
	unsigned long start_code;
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
