#include "parked.h"

#include <pthread.h>
#include <stdlib.h>
#include <string.h>

enum { BUCKETS = 1 << 12, MAX_PARKED = 1 << 20 };

struct stack {
	struct stack *next; /* in its bucket */
	uint64_t key, resume;
	size_t n;
	struct frame frames[];
};

static struct stack *buckets[BUCKETS];
static size_t parked_n;
static pthread_mutex_t lock = PTHREAD_MUTEX_INITIALIZER;

static struct stack **bucket_of(uint64_t key)
{
	return &buckets[(key * 0x9e3779b97f4a7c15ull) >> 52];
}

void park(uint64_t key, const struct frame *frames, size_t n, uint64_t resume)
{
	struct stack *s = malloc(sizeof(*s) + n * sizeof(*frames));

	if (!s)
		return; /* what goes on with it begins anew */
	s->key = key;
	s->resume = resume;
	s->n = n;
	memcpy(s->frames, frames, n * sizeof(*frames));
	pthread_mutex_lock(&lock);
	if (parked_n < MAX_PARKED) {
		s->next = *bucket_of(key);
		*bucket_of(key) = s;
		parked_n++;
		s = 0;
	}
	pthread_mutex_unlock(&lock);
	free(s);
}

struct frame *unpark(uint64_t key, uint64_t *resume, size_t *n)
{
	struct frame *out = 0;
	struct stack **at, *s;

	*n = 0;
	pthread_mutex_lock(&lock);
	for (at = bucket_of(key); *at && (*at)->key != key; at = &(*at)->next)
		;
	s = *at;
	if (s) {
		*at = s->next;
		parked_n--;
	}
	pthread_mutex_unlock(&lock);
	if (!s)
		return 0;
	*resume = s->resume;
	out = malloc(s->n * sizeof(*out));
	if (out) {
		memcpy(out, s->frames, s->n * sizeof(*out));
		*n = s->n;
	}
	free(s);
	return out;
}
