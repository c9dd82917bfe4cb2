/* Counts what a program executes: how often each block of instructions, and in which chain of
 * calls. The emulator tells when a block begins and which accesses to memory its instructions make;
 * its registers are not to be had. */
#define _GNU_SOURCE
#include <elf.h>
#include <fcntl.h>
#include <pthread.h>
#include <string.h>

#include "api.h"
#include "code.h"
#include "count.h"
#include "execute.h"
#include "follow.h"
#include "goroutine.h"
#include "models.h"
#include "part.h"
#include "store.h"

EXPORTED int qemu_plugin_version = 1;

static enum processor processor;

static void executed(unsigned vcpu, void *number)
{
	uint32_t block = (uintptr_t)number;
	const struct block *b = &tables.blocks[block];
	struct thread *t = self ? self : began(b);

	(void)vcpu;
	t->run++;
	if (modelled)
		predicted(t, b);
	follow(t, b, processor);
	/* A repeated instruction is one, however often the emulator goes around it. */
	if (tables.blocks[t->last].ending == REPEATS && known[t->last].last == b->address && b->instructions == 1) {
		t->repeating = block;
		return;
	}
	t->repeating = 0;
	t->last = block;
	t->pair = 0;
	if (!t->outside)
		count(t, block);
}

static void translated(plugin_id id, struct qemu_plugin_tb *tb)
{
	uint32_t at = add_block(tb, processor);

	(void)id;
	if (!tables.head->program)
		executes(qemu_plugin_path_to_binary()); /* before the first block, it is not known */
	if (at == 0) {
		qemu_plugin_register_vcpu_tb_exec_cb(tb, uncounted, NO_REGISTERS, 0);
		return;
	}
	qemu_plugin_register_vcpu_tb_exec_cb(tb, executed, NO_REGISTERS, (void *)(uintptr_t)at);
	switches(tb, at);
	watched(tb, at);
	follows(tb, at, processor);
}

/* The system calls that matter here, by their numbers on each processor. */
enum call { MAPS, SIGNALS, RETURNS_FROM_SIGNAL, EXECUTES, EXECUTES_AT, OTHER };

static enum call call_of(int64_t number)
{
	static const struct {
		int64_t number[2]; /* of x86-64 and of arm64 */
		enum call call;
	} known_calls[] = {
		{{9, 222}, MAPS}, {{10, 226}, MAPS}, {{11, 215}, MAPS}, {{25, 216}, MAPS}, {{13, 134}, SIGNALS}, {{15, 139}, RETURNS_FROM_SIGNAL}, {{59, 221}, EXECUTES}, {{322, 281}, EXECUTES_AT},
	};

	for (size_t i = 0; i < sizeof(known_calls) / sizeof(*known_calls); i++)
		if (known_calls[i].number[processor == ARM64] == number)
			return known_calls[i].call;
	return OTHER;
}

static void system_call(plugin_id id, unsigned vcpu, int64_t number, uint64_t a, uint64_t b, uint64_t c, uint64_t d, uint64_t e, uint64_t f, uint64_t g, uint64_t h)
{
	(void)id, (void)vcpu, (void)f, (void)g, (void)h;
	if (tables.head->ended == LEFT)
		tables.head->ended = RUNNING;
	switch (call_of(number)) {
	case MAPS:
		changed();
		break;
	case SIGNALS:
		if (b != 0)
			handles(*(uint64_t *)guest(b));
		break;
	case RETURNS_FROM_SIGNAL:
		handled(self);
		break;
	case EXECUTES:
		execute(a, b, c);
		break;
	case EXECUTES_AT:
		/* Where the folder matters, the path alone is not the program's. */
		if (e == 0 && ((int)a == AT_FDCWD || *(char *)guest(b) == '/'))
			execute(b, c, d);
		else
			leave_for();
		break;
	case OTHER:
		break;
	}
}

static void in_child(void)
{
	forked();
	begin_again(self);
}

static void ended(plugin_id id, void *nothing)
{
	(void)id, (void)nothing;
	tables.head->ended = EXITED;
}

EXPORTED int qemu_plugin_install(plugin_id id, const qemu_info_t *info, int n, char **words)
{
	const char *folder = 0, *further = 0;

	for (int i = 0; i < n; i++) {
		if (strncmp(words[i], "folder=", 7) == 0)
			folder = words[i] + 7;
		if (strcmp(words[i], "memory=on") == 0)
			remembers = 1;
		if (strncmp(words[i], "models=", 7) == 0) {
			if (!models_read(words[i] + 7))
				return -1;
			remembers = 1;
			further = words[i];
		}
	}
	if (info->system_emulation || !folder || !opened(folder) || !code_opened())
		return -1;
	processor = strcmp(info->target_name, "aarch64") == 0 ? ARM64 : X86_64;
	execute_by(folder, processor == ARM64 ? EM_AARCH64 : EM_X86_64, further ? further : remembers ? "memory=on" : "");
	if (!part_read(folder))
		return -1;
	if (!threads_opened())
		return -1;
	pthread_atfork(0, 0, in_child);
	qemu_plugin_register_vcpu_tb_trans_cb(id, translated);
	qemu_plugin_register_vcpu_syscall_cb(id, system_call);
	qemu_plugin_register_atexit_cb(id, ended, 0);
	return 0;
}
