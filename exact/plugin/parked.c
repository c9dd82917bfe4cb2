#include "parked.h"

#include <pthread.h>
#include <stdlib.h>
#include <string.h>

enum { BUCKETS = 1 << 12, MAX_PARKED = 1 << 20, MAX_PLACES = 1 << 10 };

struct stack {
	struct stack *next;          /* in its bucket */
	struct stack *newer, *older; /* of those that go on at its address */
	struct stack *beside;        /* in the bucket of its key */
	uint64_t resume, key;
	size_t n;
	struct frame frames[];
};

/* By where the innermost call left its address to return to. */
static struct stack *buckets[BUCKETS];
static struct stack *keyed[BUCKETS]; /* by their keys */
static size_t parked_n;

/* Addresses at which stacks go on, with those that do. */
static struct place {
	uint64_t resume;
	int again;
	struct stack *newest;
} places[MAX_PLACES];
static size_t places_n;

static pthread_mutex_t lock = PTHREAD_MUTEX_INITIALIZER;

static struct stack **bucket_of(uint64_t sp)
{
	return &buckets[(sp * 0x9e3779b97f4a7c15ull) >> 52];
}

static struct place *place_of(uint64_t resume)
{
	for (size_t i = 0; i < places_n; i++)
		if (places[i].resume == resume)
			return &places[i];
	if (places_n == MAX_PLACES)
		return 0;
	places[places_n] = (struct place){.resume = resume};
	return &places[places_n++];
}

static struct stack **keyed_of(uint64_t key)
{
	return &keyed[(key * 0x9e3779b97f4a7c15ull) >> 52];
}

void park(const struct frame *frames, size_t n, uint64_t resume, int again, uint64_t key)
{
	struct stack *s = n && parked_n < MAX_PARKED ? malloc(sizeof(*s) + n * sizeof(*frames)) : 0;
	struct stack **at;
	struct place *p;

	if (!s)
		return; /* what goes on with it begins anew */
	s->resume = resume;
	s->key = key;
	s->newer = s->older = 0;
	s->n = n;
	memcpy(s->frames, frames, n * sizeof(*frames));
	at = bucket_of(frames[n - 1].sp);
	pthread_mutex_lock(&lock);
	p = place_of(resume);
	if (p) {
		p->again = again;
		s->newer = 0;
		s->older = p->newest;
		if (s->older)
			s->older->newer = s;
		p->newest = s;
	}
	s->next = *at;
	*at = s;
	if (key) {
		s->beside = *keyed_of(key);
		*keyed_of(key) = s;
	}
	parked_n++;
	pthread_mutex_unlock(&lock);
}

/* take takes a stack out; the lock is held. */
static struct frame *take(struct stack *s, size_t *n)
{
	struct place *p = place_of(s->resume);
	struct stack **at = bucket_of(s->frames[s->n - 1].sp);
	struct frame *out;

	while (*at != s)
		at = &(*at)->next;
	*at = s->next;
	if (s->key) {
		at = keyed_of(s->key);
		while (*at != s)
			at = &(*at)->beside;
		*at = s->beside;
	}
	if (p) {
		if (s->older)
			s->older->newer = s->newer;
		if (s->newer)
			s->newer->older = s->older;
		else
			p->newest = s->older;
	}
	parked_n--;
	out = malloc(s->n * sizeof(*out));
	if (out) {
		memcpy(out, s->frames, s->n * sizeof(*out));
		*n = s->n;
	}
	free(s);
	return out;
}

struct frame *unpark_key(uint64_t key, uint64_t *resume, size_t *n)
{
	struct frame *out = 0;
	struct stack *s;

	*n = 0;
	pthread_mutex_lock(&lock);
	for (s = *keyed_of(key); s; s = s->beside)
		if (s->key == key)
			break;
	if (s) {
		*resume = s->resume;
		out = take(s, n);
	}
	pthread_mutex_unlock(&lock);
	return out;
}

struct frame *unpark(uint64_t resume, size_t *n)
{
	struct frame *out = 0;
	struct place *p;

	*n = 0;
	pthread_mutex_lock(&lock);
	p = place_of(resume);
	if (p && p->again && p->newest)
		out = take(p->newest, n);
	pthread_mutex_unlock(&lock);
	return out;
}

struct frame *unpark_at(uint64_t sp, size_t *n)
{
	struct frame *out = 0;
	struct stack *s;

	*n = 0;
	pthread_mutex_lock(&lock);
	for (s = *bucket_of(sp); s; s = s->next)
		if (s->frames[s->n - 1].sp == sp)
			break;
	if (s)
		out = take(s, n);
	pthread_mutex_unlock(&lock);
	return out;
}

struct frame *unpark_after(uint64_t resume, uint64_t after, size_t *n)
{
	enum { LOOKED_AT = 64 };
	struct frame *out = 0;
	struct place *p;
	struct stack *s = 0;

	*n = 0;
	pthread_mutex_lock(&lock);
	p = place_of(resume);
	if (p)
		s = p->newest;
	for (int i = 0; s && i < LOOKED_AT && s->frames[s->n - 1].after != after; i++)
		s = s->older;
	if (s && s->frames[s->n - 1].after == after)
		out = take(s, n);
	pthread_mutex_unlock(&lock);
	return out;
}
