/* Which code runs: blocks of instructions, the files that they are from, and the functions that
 * they are of. The emulator translates one block at a time. */
#define _GNU_SOURCE
#include "code.h"

#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>

#include "ending.h"
#include "part.h"
#include "starts.h"
#include "store.h"

struct known *known;

/* A file with where its functions begin, once they were looked for. */
struct file {
	struct file *next;
	struct starts starts;
	int read;
	char path[];
};

/* A mapping of a file. */
struct laid {
	uint64_t start, end, offset;
	uint32_t number;
	struct file *file;
};

static struct file *files; /* those that were ever mapped: a file may come back */
static struct laid *laid;
static size_t laid_n;
static int stale = 1;
uint64_t guest_base;
uint64_t leaves_stack, grows_stack, goes_on_with_stack[2];
static pthread_mutex_t lock = PTHREAD_MUTEX_INITIALIZER;

int code_opened(void)
{
	known = mmap(0, sizeof(*known) * MAX_BLOCKS, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS | MAP_NORESERVE, -1, 0);
	return known != MAP_FAILED;
}

void changed(void)
{
	__atomic_store_n(&stale, 1, __ATOMIC_RELEASE);
}

/* number_of keeps a mapping in the file, once. */
static uint32_t number_of(const struct laid *l)
{
	struct header *h = tables.head;
	size_t n = strlen(l->file->path);
	uint32_t at;

	for (uint32_t i = 1; i < h->mappings && i < MAX_MAPPINGS; i++) {
		struct mapping *m = &tables.mappings[i];

		if (m->start == l->start && m->end == l->end && m->offset == l->offset && m->path_length == n && memcmp(tables.bytes + m->path, l->file->path, n) == 0)
			return i;
	}
	at = next(&h->mappings, MAX_MAPPINGS);
	if (at == 0) {
		h->unnamed++;
		return 0;
	}
	tables.mappings[at] = (struct mapping){l->start, l->end, l->offset, add_bytes(l->file->path, n), n};
	return at;
}

static struct file *file_of(const char *path)
{
	struct file *f;

	for (f = files; f; f = f->next)
		if (strcmp(f->path, path) == 0)
			return f;
	f = calloc(1, sizeof(*f) + strlen(path) + 1);
	if (f) {
		strcpy(f->path, path);
		f->next = files;
		files = f;
	}
	return f;
}

/* learn reads where the functions of a mapping's file begin. */
static void learn(struct laid *l)
{
	if (l->file->read)
		return;
	l->file->read = 1;
	found_switches = (struct switches){0};
	l->file->starts = read_starts(l->file->path);
	if (found_switches.goes_on_then) {
		leaves_stack = found_switches.leaves - l->offset + l->start;
		grows_stack = found_switches.grows - l->offset + l->start;
		goes_on_with_stack[0] = found_switches.goes_on_then - l->offset + l->start;
		goes_on_with_stack[1] = found_switches.goes_on ? found_switches.goes_on - l->offset + l->start : goes_on_with_stack[0];
	}
}

/* look reads anew which files lie where. */
static void look(void)
{
	FILE *f = fopen("/proc/self/maps", "re");
	char line[5000];
	struct laid *now = 0;
	size_t n = 0, room = 0;

	if (!f)
		return;
	__atomic_store_n(&stale, 0, __ATOMIC_RELEASE);
	while (fgets(line, sizeof(line), f)) {
		struct laid l = {0};
		unsigned long start, end, offset;
		int at = 0;

		if (sscanf(line, "%lx-%lx %*4s %lx %*s %*s %n", &start, &end, &offset, &at) < 3 || at == 0 || line[at] != '/')
			continue;
		line[strcspn(line, "\n")] = 0;
		if (n == room) {
			void *p = reallocarray(now, room = room ? 2 * room : 64, sizeof(*now));

			if (!p)
				break;
			now = p;
		}
		l = (struct laid){.start = start - guest_base, .end = end - guest_base, .offset = offset, .file = file_of(line + at)};
		if (!l.file)
			break;
		now[n++] = l;
		if (parted)
			part_learn(l.file->path, l.offset, l.start, l.end);
	}
	fclose(f);
	free(laid);
	laid = now;
	laid_n = n;
}

static struct laid *find(uint64_t address)
{
	for (size_t i = 0; i < laid_n; i++)
		if (address >= laid[i].start && address < laid[i].end)
			return &laid[i];
	return 0;
}

uint32_t add_block(const struct qemu_plugin_tb *tb, enum processor processor)
{
	size_t n = qemu_plugin_tb_n_insns(tb);
	struct qemu_plugin_insn *last = qemu_plugin_tb_get_insn(tb, n - 1);
	struct qemu_plugin_insn *first = qemu_plugin_tb_get_insn(tb, 0);
	uint64_t address = qemu_plugin_tb_vaddr(tb);
	uint8_t lengths[1024];
	uint32_t at;

	if (n == 0 || n > sizeof(lengths))
		return 0;
	for (size_t i = 0; i < n; i++)
		lengths[i] = qemu_plugin_insn_size(qemu_plugin_tb_get_insn(tb, i));
	pthread_mutex_lock(&lock);
	guest_base = (uint64_t)(uintptr_t)qemu_plugin_insn_haddr(first) - address;
	at = next(&tables.head->blocks, MAX_BLOCKS);
	if (at) {
		struct laid *l;

		if (__atomic_load_n(&stale, __ATOMIC_ACQUIRE))
			look();
		l = find(address);
		struct block b = {.address = address, .lengths = add_bytes(lengths, n), .instructions = n};
		if (l) {
			learn(l);
			if (!l->number)
				l->number = number_of(l);
			b.mapping = l->number;
			b.function = start_of(&l->file->starts, address - l->start + l->offset, l->offset) - l->offset + l->start;
		}
		b.ending = (processor == X86_64 ? ending_of : ending_of_arm64)(qemu_plugin_insn_data(last), lengths[n - 1], &b.branch);
		known[at] = (struct known){qemu_plugin_insn_vaddr(last), qemu_plugin_insn_vaddr(last) + lengths[n - 1]};
		tables.blocks[at] = b;
	}
	pthread_mutex_unlock(&lock);
	return at;
}
