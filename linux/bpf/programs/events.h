/* Events that are written down one by one, each with what it is about, beside what they add up to: which
 * file, how many bytes, the arguments of a function, a tracepoint's own record. */
#pragma once

#include "files.h"

enum event_bound {
	EVENT_WORDS = 8,   /* registers that hold arguments: ax, dx, cx, bx, si, di, r8, r9 */
	EVENT_BYTES = 512, /* of a tracepoint's own record */
};
FOR_GO(event_bound);

enum {
	EVENTS_SHOWN = 200,      /* of a kind, that a processor writes in PACE_NS; of more, only the large ones, */
	LARGE_BYTES = 64 << 10,  /* which are those of this size, */
	LARGE_SHOWN = 1000,      /* and no more than these */
};

/* Its header's words: addr is when it was, low when it was over, high the amount, sp what file or device
 * it was about, bp an address, pc the processor. What follows the class are the words of a function. */
struct event_record {
	struct record_header r;
	struct tally_key key;
	u64 words[EVENT_WORDS];
};

/* One with a tracepoint's own record instead. Programs at tracepoints do not interrupt each other, so
 * that they can work in one place; those at probes might. */
struct pass_record {
	struct record_header r;
	struct tally_key key;
	u8 bytes[EVENT_BYTES];
};

struct {
	__uint(type, BPF_MAP_TYPE_PERCPU_ARRAY);
	__type(key, u32);
	__type(value, struct pass_record);
	__uint(max_entries, 1);
} pass_scratch SEC(".maps");

/* A request to a disk that goes on. */
struct disk_request {
	struct tally_open o;
	u64 size;
	u64 device;
};

enum { REQUESTS = 1 << 14 };

struct {
	__uint(type, BPF_MAP_TYPE_LRU_HASH);
	__type(key, u64); /* the kernel's record of it */
	__type(value, struct disk_request);
	__uint(max_entries, REQUESTS);
} requests SEC(".maps");

/* event_shown decides whether an event is written down. */
inlined bool event_shown(struct tally_control *c, u32 event, u64 size, u64 now)
{
	u32 own = 1 + (event & (TALLY_EVENTS - 1)); /* a kind that comes fast takes no room from one that is rare */
	struct interval_pace *p = bpf_map_lookup_elem(&interval_pace, &own);

	if (!with_intervals || !p)
		return false;
	if (now - p->began > PACE_NS) {
		p->began = now;
		p->written = 0;
	}
	if (p->written >= EVENTS_SHOWN && (size < LARGE_BYTES || p->written >= LARGE_SHOWN)) {
		__sync_fetch_and_add(&c->thinned[event & (TALLY_EVENTS - 1)], 1);
		return false;
	}
	p->written++;
	return true;
}

/* event_header fills in the header of a record whose class is followed by so many bytes. */
inlined void event_header(struct record_header *r, u64 begin, u64 end, u64 size, u64 length)
{
	r->kind = KIND_EVENT;
	r->length = sizeof(struct tally_key) + length;
	r->addr = begin;
	r->low = end;
	r->high = size;
	r->sp = r->bp = r->slot = r->system_sp = 0;
	r->pc = bpf_get_smp_processor_id();
}

inlined void event_sent(struct tally_control *c, struct tally_key *k, long failed)
{
	if (failed)
		__sync_fetch_and_add(&c->unwritten[k->event & (TALLY_EVENTS - 1)], 1);
}

/* happened writes down an event of which no more is known than what and where it was about. */
inlined void happened(void *ctx, struct tally_control *c, struct tally_key *k, u64 begin, u64 end, u64 size, u64 about, u64 address)
{
	struct event_record x;

	if (!event_shown(c, k->event, size, end))
		return;
	event_header(&x.r, begin, end, size, 0);
	x.r.sp = about;
	x.r.bp = address;
	x.key = *k;
	event_sent(c, k, send(ctx, &x, sizeof(x.key)));
}
