#define _GNU_SOURCE
#include "thread.h"

#include <pthread.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <unistd.h>

#include "count.h"
#include "models.h"
#include "part.h"
#include "store.h"

__thread struct thread *self __attribute__((tls_model("initial-exec")));
static uint32_t threads;
static pthread_key_t ends;       /* of threads, whose memory is let go of */
static struct thread *ended;     /* the last one that has ended and may be followed */
static pthread_mutex_t list = PTHREAD_MUTEX_INITIALIZER;

static uint64_t hash_of(const struct context *c)
{
	return mixed(mixed(c->function, c->site), (uint64_t)c->parent << 8 | c->how);
}

static uint64_t hash_context(uint32_t at)
{
	return hash_of(&tables.contexts[at]);
}

static int is_context(uint32_t at, const void *what)
{
	const struct context *c = &tables.contexts[at], *w = what;

	return c->function == w->function && c->site == w->site && c->parent == w->parent && c->how == w->how;
}

uint32_t context_of(uint32_t parent, uint64_t site, uint64_t function, enum how how, uint32_t thread)
{
	struct context c = {.function = function, .site = site, .parent = parent, .thread = thread, .how = how};
	uint32_t at = index_find(&self->contexts, hash_of(&c), is_context, &c);

	if (at)
		return at;
	at = next(&tables.head->contexts, how == ALONE ? MAX_CONTEXTS : MAX_CONTEXTS - FLAT_CONTEXTS);
	if (at == 0 && how == ALONE)
		return 0;
	if (at == 0) {
		merged();
		return context_of(0, 0, function, ALONE, thread);
	}
	tables.contexts[at] = c;
	index_add(&self->contexts, at, hash_context);
	return at;
}

void topmost(struct thread *t)
{
	struct frame *f = &t->frames[t->n - 1];

	t->context = f->context;
	t->function = f->function;
	t->outside = parted && f->inside != COUNTED;
}

void inside(struct frame *f, const struct frame *caller)
{
	if (!f->inside && caller)
		f->inside = caller->inside;
	if (!f->inside && part_begins(f->function))
		f->inside = part_enter();
}

void called_once(struct thread *t, uint32_t context)
{
	if (t->outside)
		return;
	if (context)
		tables.contexts[context].calls++;
	else
		__atomic_fetch_add(&tables.head->lost, 1, __ATOMIC_RELAXED);
}

void push(struct thread *t, struct frame f)
{
	if (t->n == t->room) {
		size_t room = t->room ? 2 * t->room : 256;
		void *p = reallocarray(t->frames, room, sizeof(*t->frames));

		if (!p)
			_exit(125);
		t->frames = p;
		t->room = room;
	}
	if (parted)
		inside(&f, t->n ? &t->frames[t->n - 1] : 0);
	t->frames[t->n++] = f;
	topmost(t);
}

/* let_go is called when a thread has ended; what it counted stays. */
static void let_go(void *of)
{
	struct thread *t = of;

	self = 0;
	models_free(t->models);
	t->models = 0;
	if (t->number > OWN_THREADS) {
		pthread_mutex_lock(&list);
		t->ended_before = ended;
		ended = t;
		pthread_mutex_unlock(&list);
		return;
	}
	free(t->frames);
	free(t->nearby);
	index_clear(&t->contexts);
	index_clear(&t->pairs);
	munmap(t, sizeof(*t));
}

/* follower is the thread that goes on with the counts of one that has ended; 0 where none has. */
static struct thread *follower(void)
{
	struct thread *t;

	pthread_mutex_lock(&list);
	t = ended;
	if (t)
		ended = t->ended_before;
	pthread_mutex_unlock(&list);
	if (!t)
		return 0;
	__atomic_fetch_add(&tables.head->followed, 1, __ATOMIC_RELAXED);
	t->n = 0;
	t->last = t->calling = t->pair = t->before = t->repeating = 0;
	t->unmatched = t->run = 0;
	t->saved.n = t->resumed.n = 0;
	memset(&t->access, 0, sizeof(t->access));
	return t;
}

int threads_opened(void)
{
	return pthread_key_create(&ends, let_go) == 0;
}

struct thread *began(const struct block *b)
{
	uint32_t number = __atomic_add_fetch(&threads, 1, __ATOMIC_RELAXED);
	struct thread *t = number > OWN_THREADS ? follower() : 0;

	if (!t) {
		t = mmap(0, sizeof(*t), PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
		if (t == MAP_FAILED)
			_exit(125);
		t->number = number;
		if (remembers && !(t->nearby = calloc(NEARBY, sizeof(*t->nearby))))
			_exit(125);
	}
	if (modelled && !(t->models = models_new()))
		_exit(125);
	self = t;
	pthread_setspecific(ends, t);
	uint32_t c = context_of(0, 0, b->function, BEGAN, t->number);
	push(t, (struct frame){.function = b->function, .context = c, .how = BEGAN});
	return t;
}

void rooted(struct thread *t)
{
	for (size_t i = 0; i < t->n; i++) {
		struct frame *f = &t->frames[i];

		if (i > MAX_DEPTH && tables.contexts[f->context].thread == t->number)
			continue;
		f->context = context_of(i ? t->frames[i - 1].context : 0, f->site, f->function, i ? f->how : BEGAN, t->number);
	}
	topmost(t);
}

void begin_again(struct thread *t)
{
	threads = 0;
	ended = 0; /* what they point into is the parent's */
	pthread_mutex_init(&list, 0);
	if (!t)
		return;
	t->number = __atomic_add_fetch(&threads, 1, __ATOMIC_RELAXED);
	memset(t->cache, 0, sizeof(t->cache));
	t->pair = t->before = 0;
	if (t->nearby)
		memset(t->nearby, 0, NEARBY * sizeof(*t->nearby));
	index_clear(&t->contexts);
	index_clear(&t->pairs);
	for (size_t i = 0; i < t->n; i++) {
		struct frame *f = &t->frames[i];

		f->context = context_of(i ? t->frames[i - 1].context : 0, f->site, f->function, f->how, t->number);
	}
	topmost(t);
}
