#define _GNU_SOURCE
#include "part.h"

#include <limits.h>
#include <stdio.h>
#include <string.h>

#include "store.h"

enum { MAX_PLACES = 64, MAX_BEGINNINGS = 256 };

static struct place {
	uint64_t offset;
	char path[PATH_MAX];
} places[MAX_PLACES];
static int place_n;
static uint64_t beginnings[MAX_BEGINNINGS];
static uint32_t beginning_n;
static uint64_t skipped, counted; /* calls */
int parted;

int part_read(const char *folder)
{
	char path[PATH_MAX], line[PATH_MAX + 32];
	FILE *f;
	int good;

	if ((size_t)snprintf(path, sizeof(path), "%s/../part", folder) >= sizeof(path))
		return 0;
	f = fopen(path, "re");
	if (!f)
		return 1;
	parted = 1;
	good = fscanf(f, "%lu %lu\n", &skipped, &counted) == 2;
	while (good && place_n < MAX_PLACES && fgets(line, sizeof(line), f)) {
		struct place *p = &places[place_n];
		int at = 0;

		line[strcspn(line, "\n")] = 0;
		if (sscanf(line, "%lx %n", &p->offset, &at) < 1 || at == 0)
			good = 0;
		snprintf(p->path, sizeof(p->path), "%.*s", (int)sizeof(p->path) - 1, line + at);
		place_n++;
	}
	fclose(f);
	return good;
}

void part_learn(const char *path, uint64_t offset, uint64_t start, uint64_t end)
{
	for (int i = 0; i < place_n; i++) {
		uint64_t at = places[i].offset - offset + start;
		uint32_t n = beginning_n;

		if (strcmp(places[i].path, path) != 0 || places[i].offset < offset || at >= end || part_begins(at) || n >= MAX_BEGINNINGS)
			continue;
		beginnings[n] = at;
		__atomic_store_n(&beginning_n, n + 1, __ATOMIC_RELEASE);
	}
}

int part_begins(uint64_t function)
{
	uint32_t n = __atomic_load_n(&beginning_n, __ATOMIC_ACQUIRE);

	for (uint32_t i = 0; i < n; i++)
		if (beginnings[i] == function)
			return 1;
	return 0;
}

enum inside part_enter(void)
{
	uint64_t number = __atomic_fetch_add(&tables.head->entered, 1, __ATOMIC_RELAXED);

	return number >= skipped && (counted == 0 || number - skipped < counted) ? COUNTED : SKIPPED;
}
