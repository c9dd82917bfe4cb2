#define _GNU_SOURCE
#include "starts.h"

#include <elf.h>
#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

/* A file in memory; nothing is believed that it says of places in itself. */
struct image {
	const uint8_t *bytes;
	uint64_t size;
	const Elf64_Ehdr *head;
};

static const void *within(const struct image *f, uint64_t at, uint64_t n)
{
	return at <= f->size && n <= f->size - at ? f->bytes + at : 0;
}

struct entry {
	uint64_t at, of;
	const char *name;
	size_t length; /* of the name without what the compiler added to a part that it split off */
};

struct list {
	struct entry *of;
	size_t n, room;
};

static void add(struct list *l, struct entry e)
{
	if (l->n == l->room) {
		size_t room = l->room ? 2 * l->room : 4096;
		void *p = reallocarray(l->of, room, sizeof(*l->of));

		if (!p)
			return;
		l->of = p;
		l->room = room;
	}
	l->of[l->n++] = e;
}

/* place_of is where in the file an address of its own is; 0 where nowhere. */
static uint64_t place_of(const struct image *f, uint64_t address)
{
	for (int i = 0; i < f->head->e_phnum; i++) {
		const Elf64_Phdr *p = within(f, f->head->e_phoff + (uint64_t)i * sizeof(*p), sizeof(*p));

		if (p && p->p_type == PT_LOAD && address >= p->p_vaddr && address - p->p_vaddr < p->p_filesz)
			return address - p->p_vaddr + p->p_offset;
	}
	return 0;
}

struct switches found_switches;

static void add_symbols(const struct image *f, struct list *l)
{
	for (int i = 0; i < f->head->e_shnum; i++) {
		const Elf64_Shdr *s = within(f, f->head->e_shoff + (uint64_t)i * sizeof(*s), sizeof(*s)), *t;

		if (!s || (s->sh_type != SHT_SYMTAB && s->sh_type != SHT_DYNSYM) || s->sh_link >= f->head->e_shnum)
			continue;
		t = within(f, f->head->e_shoff + (uint64_t)s->sh_link * sizeof(*t), sizeof(*t));
		if (!t)
			continue;
		for (uint64_t k = 0; k < s->sh_size / sizeof(Elf64_Sym); k++) {
			const Elf64_Sym *x = within(f, s->sh_offset + k * sizeof(*x), sizeof(*x));
			const char *name, *end;
			uint64_t at;

			if (!x)
				break;
			if ((ELF64_ST_TYPE(x->st_info) != STT_FUNC && ELF64_ST_TYPE(x->st_info) != STT_GNU_IFUNC) || x->st_shndx == SHN_UNDEF || !(at = place_of(f, x->st_value)))
				continue;
			name = within(f, t->sh_offset + x->st_name, 1);
			end = name ? memchr(name, 0, f->bytes + f->size - (const uint8_t *)name) : 0;
			if (!end)
				continue;
			size_t length = end - name;
			if (strcmp(name, "runtime.mcall.abi0") == 0 || strcmp(name, "runtime.mcall") == 0)
				found_switches.leaves = at;
			if (strcmp(name, "runtime.morestack.abi0") == 0 || strcmp(name, "runtime.morestack") == 0)
				found_switches.grows = at;
			if (strcmp(name, "runtime.gogo.abi0") == 0 || strcmp(name, "runtime.gogo") == 0)
				found_switches.goes_on_then = at;
			if (strcmp(name, "gogo") == 0)
				found_switches.goes_on = at;
			const char *cold = memmem(name, length, ".cold", 5);
			add(l, (struct entry){at, at, name, cold ? (size_t)(cold - name) : length});
		}
	}
}

/* add_unwound adds the beginnings in .eh_frame_hdr, in the one form in which linkers write its
 * table: pairs of four bytes, relative to the section. */
static void add_unwound(const struct image *f, struct list *l)
{
	enum { FORM = 4, U4 = 0x03, TABLE = 0x3b, HEAD = 12 };

	for (int i = 0; i < f->head->e_phnum; i++) {
		const Elf64_Phdr *p = within(f, f->head->e_phoff + (uint64_t)i * sizeof(*p), sizeof(*p));
		const uint8_t *h = p && p->p_type == PT_GNU_EH_FRAME ? within(f, p->p_offset, HEAD) : 0;
		uint32_t n;

		if (!h || h[0] != 1 || h[2] != U4 || h[3] != TABLE)
			continue;
		memcpy(&n, h + 8, 4);
		for (uint32_t k = 0; k < n; k++) {
			const int32_t *pair = within(f, p->p_offset + HEAD + (uint64_t)8 * k, 8);
			uint64_t at;

			if (!pair)
				break;
			if ((at = place_of(f, p->p_vaddr + *pair)))
				add(l, (struct entry){at, at, 0, 0});
		}
	}
}

static int by_place(const void *a, const void *b)
{
	const struct entry *x = a, *y = b;

	if (x->at != y->at)
		return x->at < y->at ? -1 : 1;
	return (y->name != 0) - (x->name != 0); /* one with a name first */
}

static int by_name(const void *a, const void *b)
{
	const struct entry *x = a, *y = b;
	size_t n = x->length < y->length ? x->length : y->length;
	int d = memcmp(x->name, y->name, n);

	return d ? d : (x->length > y->length) - (x->length < y->length);
}

/* join gives parts that were split off the function that they are of, by its name. */
static void join(struct list *l)
{
	struct list named = {0}, parts = {0};

	for (size_t i = 0; i < l->n; i++)
		if (l->of[i].name)
			add(l->of[i].name[l->of[i].length] == 0 ? &named : &parts, l->of[i]);
	if (named.n)
		qsort(named.of, named.n, sizeof(*named.of), by_name);
	for (size_t i = 0; i < l->n && parts.n; i++) {
		struct entry *e = &l->of[i], *whole;

		if (e->name && e->name[e->length] != 0 && (whole = bsearch(e, named.of, named.n, sizeof(*e), by_name)))
			e->of = whole->at;
	}
	free(named.of);
	free(parts.of);
}

struct starts read_starts(const char *path)
{
	struct starts out = {0};
	struct image f = {0};
	struct list l = {0};
	struct stat st;
	int fd = open(path, O_RDONLY | O_CLOEXEC | O_NONBLOCK);
	void *p;

	if (fd < 0)
		return out;
	if (fstat(fd, &st) != 0 || !S_ISREG(st.st_mode) || st.st_size < (off_t)sizeof(Elf64_Ehdr)) {
		close(fd);
		return out;
	}
	p = mmap(0, st.st_size, PROT_READ, MAP_PRIVATE, fd, 0);
	close(fd);
	if (p == MAP_FAILED)
		return out;
	f = (struct image){p, st.st_size, p};
	if (memcmp(f.head->e_ident, ELFMAG, SELFMAG) == 0 && f.head->e_ident[EI_CLASS] == ELFCLASS64 && f.head->e_phentsize == sizeof(Elf64_Phdr) && (f.head->e_shnum == 0 || f.head->e_shentsize == sizeof(Elf64_Shdr))) {
		add_symbols(&f, &l);
		join(&l);
		add_unwound(&f, &l);
	}
	if (l.n) {
		qsort(l.of, l.n, sizeof(*l.of), by_place);
		out.at = calloc(l.n, sizeof(*out.at));
		out.of = calloc(l.n, sizeof(*out.of));
		for (size_t i = 0; out.at && out.of && i < l.n; i++) {
			if (out.n && out.at[out.n - 1] == l.of[i].at)
				continue;
			out.at[out.n] = l.of[i].at;
			out.of[out.n++] = l.of[i].of;
		}
	}
	free(l.of);
	munmap(p, st.st_size);
	return out;
}

uint64_t start_of(const struct starts *s, uint64_t place, uint64_t fallback)
{
	size_t low = 0, high = s->n;

	while (low < high) {
		size_t mid = low + (high - low) / 2;

		if (s->at[mid] <= place)
			low = mid + 1;
		else
			high = mid;
	}
	return low ? s->of[low - 1] : fallback;
}
