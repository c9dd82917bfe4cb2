#define _GNU_SOURCE
#include "store.h"

#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <sys/mman.h>
#include <unistd.h>

struct tables tables;

static char folder_of_files[3000];
static void *base;

enum { PAGE = 4096 };

#define ROOM(kind, most) (((uint64_t)sizeof(struct kind) * (most) + PAGE - 1) / PAGE * PAGE)

static const uint64_t at_mappings = PAGE;
static const uint64_t at_blocks = at_mappings + ROOM(mapping, MAX_MAPPINGS);
static const uint64_t at_contexts = at_blocks + ROOM(block, MAX_BLOCKS);
static const uint64_t at_pairs = at_contexts + ROOM(context, MAX_CONTEXTS);
static const uint64_t at_bytes = at_pairs + ROOM(pair, MAX_PAIRS);
static const uint64_t at_cells = at_bytes + MAX_BYTES;
static const uint64_t size = at_cells + ROOM(cell, MAX_CELLS);

/* mapped maps a new file for this process, at a place that is given or anywhere. */
static void *mapped(void *at)
{
	char path[3100];
	void *p;
	int fd;

	snprintf(path, sizeof(path), "%s/%d", folder_of_files, (int)getpid());
	fd = open(path, O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC, 0600);
	/* A process that executes another program goes on with a file more. */
	for (int n = 1; fd < 0 && n < 1000; n++) {
		snprintf(path, sizeof(path), "%s/%d.%d", folder_of_files, (int)getpid(), n);
		fd = open(path, O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC, 0600);
	}
	if (fd < 0)
		return 0;
	p = ftruncate(fd, size) != 0 ? MAP_FAILED : mmap(at, size, PROT_READ | PROT_WRITE, MAP_SHARED | MAP_NORESERVE | (at ? MAP_FIXED : 0), fd, 0);
	close(fd);
	return p == MAP_FAILED ? 0 : p;
}

static void begun(void)
{
	struct header *h = tables.head;

	h->magic = MAGIC;
	h->pid = getpid();
	h->parent = getppid();
}

int opened(const char *folder)
{
	if (strlen(folder) >= sizeof(folder_of_files))
		return 0;
	strcpy(folder_of_files, folder);
	base = mapped(0);
	if (!base)
		return 0;
	tables = (struct tables){
		base, base + at_mappings, base + at_blocks, base + at_contexts, base + at_pairs, base + at_bytes, base + at_cells,
	};
	tables.head->blocks = tables.head->contexts = tables.head->pairs = tables.head->mappings = tables.head->bytes = tables.head->cells = 1;
	begun();
	return 1;
}

/* copy_table keeps what was written of a table, over another mapping at the same place. */
static void *copy_table(const void *from, uint64_t n)
{
	void *p = mmap(0, n + 1, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);

	return p == MAP_FAILED ? 0 : memcpy(p, from, n);
}

void forked(void)
{
	struct header h = *tables.head;
	uint64_t n[3] = {h.mappings * sizeof(struct mapping), h.blocks * sizeof(struct block), h.bytes};
	void *place[3] = {tables.mappings, tables.blocks, tables.bytes}, *kept[3];

	for (int i = 0; i < 3; i++)
		if (!(kept[i] = copy_table(place[i], n[i])))
			_exit(125);
	if (!mapped(base))
		_exit(125); /* what it does would be counted as its parent's */
	for (int i = 0; i < 3; i++) {
		memcpy(place[i], kept[i], n[i]);
		munmap(kept[i], n[i] + 1);
	}
	*tables.head = (struct header){.blocks = h.blocks, .contexts = 1, .pairs = 1, .mappings = h.mappings, .bytes = h.bytes, .cells = 1, .program = h.program, .program_length = h.program_length};
	begun();
}

uint32_t next(uint32_t *used, uint32_t most)
{
	uint32_t n = __atomic_load_n(used, __ATOMIC_RELAXED);

	while (n < most)
		if (__atomic_compare_exchange_n(used, &n, n + 1, 1, __ATOMIC_RELAXED, __ATOMIC_RELAXED))
			return n;
	return 0;
}

void executes(const char *program)
{
	uint32_t n = program ? strlen(program) : 0;

	if (n && (tables.head->program = add_bytes(program, n)))
		tables.head->program_length = n;
}

uint32_t add_bytes(const void *from, uint32_t n)
{
	uint32_t at = __atomic_fetch_add(&tables.head->bytes, n, __ATOMIC_RELAXED);

	if (at > MAX_BYTES - n) {
		__atomic_store_n(&tables.head->bytes, MAX_BYTES, __ATOMIC_RELAXED);
		return 0;
	}
	memcpy(tables.bytes + at, from, n);
	return at;
}
