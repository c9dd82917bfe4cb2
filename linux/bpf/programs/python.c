/* The frames of CPython's threads. There are three programs, since the kernel
 * bounds how long one may be: one finds the states of the present thread, one
 * follows the chain of a state's frames and writes it, one reads the code objects
 * that were not met before. They go on with each other, and load once a process
 * of that interpreter is met. */
#include "pythonscratch.h"
#include "samples.h"

/* Code objects that were read, and what tells each from a later one. */
struct {
	__uint(type, BPF_MAP_TYPE_LRU_HASH);
	__type(key, struct python_seen_key);
	__type(value, struct python_identity);
	__uint(max_entries, 1 << 16);
} python_seen SEC(".maps");

enum { KEEP = 1 };

inlined struct python_scratch *scratch_of(u32 slot) { return bpf_map_lookup_elem(&python_scratch, &slot); }

/* find_states notes the states of the present thread, of some of all threads'.
 * It returns which program goes on, or -1. */
inlined int find_states(struct python_scratch *s)
{
	u64 thread = s->thread, interpreter = s->interpreter, id, first;

	if (interpreter == 0) {
		first = s->places.first + (s->places.relative ? s->start : 0);
		if (read_word(&interpreter, first) != 0 || interpreter == 0 || read_word(&thread, interpreter + s->places.threads) != 0)
			return -1; /* it has not begun */
	}
	for (int i = 0; i < PYTHON_THREADS_AT_ONCE; i++) {
		if (thread == 0) {
			if (read_word(&interpreter, interpreter + s->places.next_interpreter) != 0 || interpreter == 0 || read_word(&thread, interpreter + s->places.threads) != 0)
				return PYTHON_FRAMES;
			continue;
		}
		if (read_word(&id, thread + s->places.thread_id) != 0)
			return PYTHON_FRAMES;
		if (id == s->thread_pointer) {
			u64 n = s->found;

			bounded(n);
			if (n >= PYTHON_STATES_KEPT)
				return PYTHON_FRAMES;
			s->states[n] = thread;
			s->found = n + 1;
		}
		if (read_word(&thread, thread + s->places.next_thread) != 0)
			return PYTHON_FRAMES;
	}
	s->thread = thread;
	s->interpreter = interpreter;
	if (s->rounds++ >= PYTHON_THREADS / PYTHON_THREADS_AT_ONCE)
		return PYTHON_FRAMES;
	return PYTHON_STATES;
}

/* first_frame sets the walk to where the last record ended, or to the next state. */
inlined bool first_frame(struct python_scratch *s, struct python_walk *w)
{
	u64 n = s->state;

	w->frame = s->next;
	w->cframe = s->cframe;
	if (w->frame != 0)
		return true;
	bounded(n);
	if (n >= s->found || n >= PYTHON_STATES_KEPT)
		return false;
	s->state = n + 1;
	s->address = s->states[n];
	if (read_word(&w->frame, s->address + s->places.current) != 0)
		return false;
	if (s->places.has_cframe) {
		w->cframe = w->frame;
		return read_word(&w->frame, w->cframe + s->places.in_cframe) == 0;
	}
	return true;
}

/* in_frame loads a word of the frame that was read. Where it is comes from the
 * collector, which knows how much is read; the mask is for the kernel's check. */
inlined u64 in_frame(struct python_scratch *s, u64 at)
{
	at &= PYTHON_FRAME_ROOM - 1;
	return *(u64 *)(s->frame + at);
}

/* want notes a code object that was not met before. */
inlined void want(struct python_scratch *s, u64 code, struct python_identity *identity)
{
	struct python_seen_key key = {.process = s->key, .code = code};
	struct python_identity *seen = bpf_map_lookup_elem(&python_seen, &key);
	u64 n = s->pending;

	if (seen && seen->filename == identity->filename && seen->qualname == identity->qualname && seen->line_table == identity->line_table)
		return;
	bounded(n);
	if (n >= PYTHON_RECORD_FRAMES)
		return;
	s->codes_pending[n].code = code;
	s->codes_pending[n].identity = *identity;
	s->pending = n + 1;
}

/* read_frame reads the frame that the walk is at into an entry, and steps to its
 * caller; false where it cannot be read. */
inlined bool read_frame(struct python_scratch *s, struct python_walk *w, u64 n)
{
	struct python_entry *e;
	u64 size = s->places.frame_size;
	long failed;

	bounded(size);
	if (size == 0 || size > PYTHON_FRAME_BYTES || bpf_probe_read_user(s->frame, size, (const void *)w->frame) != 0)
		return false;
	bounded(n);
	if (n >= PYTHON_RECORD_FRAMES)
		return false;
	e = &s->entries[n];
	e->frame = w->frame;
	e->code = in_frame(s, s->places.code) & s->places.code_mask;
	e->instruction = in_frame(s, s->places.instruction);
	e->previous = w->frame = in_frame(s, s->places.previous);
	e->flags = in_frame(s, s->places.flags);
	e->cframe = w->cframe;
	/* Of 3.11: where C code entered, the next outer record on the C stack. */
	if (s->places.marked && (e->flags >> (s->places.entry_shift & 63) & 0xff) != 0) {
		if (read_word(&w->cframe, w->cframe + s->places.in_cframe + 8) != 0 || read_word(&e->outer, w->cframe + s->places.in_cframe) != 0)
			return false;
	}
	if (e->code == 0)
		return true;
	/* What tells the code object from another one, in one piece. */
	failed = bpf_probe_read_user(s->object, sizeof(s->object), (const void *)(e->code + s->places.filename));
	e->identity.filename = s->object[0];
	e->identity.qualname = s->object[2];
	e->identity.line_table = s->object[3];
	if (failed == 0)
		want(s, e->code, &e->identity);
	return true;
}

/* read_object copies as much of an object as said or, where not all of that can
 * be read, up to the end of the page. */
inlined void read_object(u8 *to, u64 size, u64 address)
{
	u64 n = PAGE_BYTES - (address & (PAGE_BYTES - 1));

	if (bpf_probe_read_user(to, size, (const void *)address) == 0)
		return;
	bounded(n);
	if (n <= size)
		bpf_probe_read_user(to, n, (const void *)address);
}

enum {
	TABLE_HEAD = 64,       /* more than the head of a bytes object */
	TABLE_HEAD_LEAST = 40, /* its head is 32 bytes, or 40 with reference counts of threads */
};

/* read_table copies a line table, which is as long as it says, and returns the
 * length; 0 is none. */
inlined u64 read_table(struct python_scratch *s, u64 address)
{
	u64 n;

	if (read_word(&n, address + s->places.table_length) != 0)
		return 0;
	n += TABLE_HEAD;
	bounded(n);
	if (n > PYTHON_TABLE_BYTES)
		n = PYTHON_TABLE_BYTES;
	if (bpf_probe_read_user(s->codes.table, n, (const void *)address) == 0)
		return n;
	u64 less = n - (TABLE_HEAD - TABLE_HEAD_LEAST);
	bounded(less);
	if (less == 0 || less > PYTHON_TABLE_BYTES)
		return 0;
	return bpf_probe_read_user(s->codes.table, less, (const void *)address) == 0 ? n : 0;
}

/* write_code writes the record of a code object. */
inlined void write_code(void *ctx, struct python_scratch *s, struct python_pending *c)
{
	struct python_seen_key key = {.process = s->key, .code = c->code};
	struct python_identity seen = c->identity;
	u64 line = 0; /* of 4 bytes; a whole word, so that nothing else shares its place on the stack */
	u64 n;

	s->r.addr = c->code;
	s->r.low = seen.filename;
	s->r.high = seen.qualname;
	s->r.sp = seen.line_table;
	s->r.kind = KIND_CODE;
	if (bpf_probe_read_user(&line, sizeof(u32), (const void *)(c->code + s->places.first_line)) != 0)
		return;
	s->r.pc = line;
	read_object(s->codes.name, sizeof(s->codes.name), seen.qualname);
	read_object(s->codes.file, sizeof(s->codes.file), seen.filename);
	n = read_table(s, seen.line_table);
	bounded(n);
	if (n == 0 || n > PYTHON_TABLE_BYTES)
		return;
	s->r.length = n + offsetof(struct python_code, table);
	if (send(ctx, s, n + offsetof(struct python_code, table)) == 0)
		bpf_map_update_elem(&python_seen, &key, &seen, BPF_ANY);
}

/* The programs; each is there for every kind of event, since the kernel lets
 * programs call only others of their kind. */

inlined int python_states(void *ctx, u32 slot)
{
	struct python_scratch *s = scratch_of(slot);
	int next = s ? find_states(s) : -1;

	if (next == PYTHON_STATES)
		bpf_tail_call(ctx, &python_calls, PYTHON_STATES);
	if (next >= 0)
		bpf_tail_call(ctx, &python_calls, PYTHON_FRAMES);
	return KEEP;
}

inlined int python_frames(void *ctx, u32 slot)
{
	struct python_scratch *s = scratch_of(slot);
	struct python_walk *w;
	u64 n = 0, more = 0;

	if (!s)
		return KEEP;
	w = &s->walk;
	if (first_frame(s, w)) {
		while (w->frame != 0) {
			if (n >= PYTHON_RECORD_FRAMES) {
				more = 1;
				break;
			}
			if (!read_frame(s, w, n))
				break;
			n++;
		}
		s->next = more ? w->frame : 0; /* what the next record goes on from */
		s->cframe = w->cframe;
		s->r.kind = KIND_PYTHON;
		s->r.low = more;
		s->r.addr = s->address; /* code objects, whose records are made in the same place, may have come between */
		bounded(n);
		if (n > PYTHON_RECORD_FRAMES)
			return KEEP;
		s->r.length = n * sizeof(struct python_entry);
		send(ctx, s, n * sizeof(struct python_entry));
		if (s->pending == 0) {
			bpf_tail_call(ctx, &python_calls, PYTHON_FRAMES);
			return KEEP;
		}
	}
	if (s->pending != 0)
		bpf_tail_call(ctx, &python_calls, PYTHON_CODES);
	return KEEP;
}

inlined int python_codes(void *ctx, u32 slot)
{
	struct python_scratch *s = scratch_of(slot);

	if (!s)
		return KEEP;
	for (int i = 0; i < PYTHON_CODES_AT_ONCE; i++) {
		u64 n = s->done;

		bounded(n);
		if (n >= s->pending || n >= PYTHON_RECORD_FRAMES) {
			s->pending = s->done = 0;
			bpf_tail_call(ctx, &python_calls, PYTHON_FRAMES);
			return KEEP;
		}
		s->done = n + 1;
		write_code(ctx, s, &s->codes_pending[n]);
	}
	bpf_tail_call(ctx, &python_calls, PYTHON_CODES);
	return KEEP;
}

#define PROGRAM(kind, name) \
	SEC(#kind) int name##_##kind(void *ctx) { return name(ctx, SLOT_EVENT); }

PROGRAM(perf_event, python_states)
PROGRAM(perf_event, python_frames)
PROGRAM(perf_event, python_codes)
PROGRAM(tracepoint, python_states)
PROGRAM(tracepoint, python_frames)
PROGRAM(tracepoint, python_codes)
PROGRAM(kprobe, python_states)
PROGRAM(kprobe, python_frames)
PROGRAM(kprobe, python_codes)

/* Whichever of them calls no other is the last one, and writes the sample. */
#define LAST(name) \
	SEC("raw_tracepoint") int name##_raw_tracepoint(void *ctx) { name(ctx, raw_slot()); return end_raw(ctx); }

LAST(python_states)
LAST(python_frames)
LAST(python_codes)
