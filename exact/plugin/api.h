/* What is used of the emulator's public interface for plugins, version 1, as of the user-mode
 * emulator 7.2. No package of Debian's has its header, so it is declared here; the emulator
 * refuses a plugin of a version that it does not have. */
#pragma once

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#define EXPORTED __attribute__((visibility("default")))

typedef uint64_t plugin_id;

struct qemu_plugin_tb;
struct qemu_plugin_insn;

typedef struct {
	const char *target_name; /* of the processor: x86_64, aarch64 */
	struct {
		int min, cur;
	} version;
	bool system_emulation;
	union {
		struct {
			int smp_vcpus, max_vcpus;
		} system;
	};
} qemu_info_t;

enum callback_flags { NO_REGISTERS };
/* This version of the emulator tells of no access where only loads are asked for. */
enum memory_rw { ACCESSES = 3 };
typedef uint32_t qemu_plugin_meminfo_t;

void qemu_plugin_register_vcpu_tb_trans_cb(plugin_id, void (*)(plugin_id, struct qemu_plugin_tb *));
void qemu_plugin_register_vcpu_tb_exec_cb(struct qemu_plugin_tb *, void (*)(unsigned, void *), enum callback_flags, void *);
void qemu_plugin_register_vcpu_mem_cb(struct qemu_plugin_insn *, void (*)(unsigned, qemu_plugin_meminfo_t, uint64_t, void *), enum callback_flags, enum memory_rw, void *);
void qemu_plugin_register_vcpu_syscall_cb(plugin_id, void (*)(plugin_id, unsigned, int64_t, uint64_t, uint64_t, uint64_t, uint64_t, uint64_t, uint64_t, uint64_t, uint64_t));
void qemu_plugin_register_atexit_cb(plugin_id, void (*)(plugin_id, void *), void *);

bool qemu_plugin_mem_is_store(qemu_plugin_meminfo_t);
unsigned qemu_plugin_mem_size_shift(qemu_plugin_meminfo_t); /* the access has 1 << n bytes */
const char *qemu_plugin_path_to_binary(void);
size_t qemu_plugin_tb_n_insns(const struct qemu_plugin_tb *);
uint64_t qemu_plugin_tb_vaddr(const struct qemu_plugin_tb *);
struct qemu_plugin_insn *qemu_plugin_tb_get_insn(const struct qemu_plugin_tb *, size_t);
const void *qemu_plugin_insn_data(const struct qemu_plugin_insn *);
size_t qemu_plugin_insn_size(const struct qemu_plugin_insn *);
uint64_t qemu_plugin_insn_vaddr(const struct qemu_plugin_insn *);
void *qemu_plugin_insn_haddr(const struct qemu_plugin_insn *);
