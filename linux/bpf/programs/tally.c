/* Counting events that may come faster than samples can be written: see tally.h. */
#include "tally.h"

/* Whose events count at a tracepoint or a probe, where every process of the machine
 * comes by: everybody's, those of a control group, or those of the members. */
volatile const u32 everyone;
volatile const u64 group;
volatile const u32 group_level;

volatile const u32 event_number; /* of the program that is loaded */
volatile const u32 calls_number; /* of system calls */
volatile const u32 waits_number;
volatile const u32 with_calls;

volatile const u32 with_intervals; /* each wait and system call is written down, too */
volatile const u32 pace_shown;     /* samples that a processor writes in PACE_NS, before they are chosen */
volatile const u32 with_wakers;    /* and who ended a wait */

volatile const u32 requests_number; /* of requests to disks */
volatile const u32 record_bytes;    /* of a tracepoint's own record, that are written down */

/* Which system calls have a file: where its descriptor is. */
volatile const u8 descriptors[CALLS_KNOWN];

/* Of a probe in a function with a size: where the arguments that are multiplied are among the registers.
 * 0: none. */
volatile const u32 argument_at;
volatile const u32 second_at;
volatile const u32 allocator; /* a function that jumps to another one of these is one call */

enum {
	KEEP = 1,
	PACE_NS = 10000000,
	FIRST_NS = 50000,   /* there is room for one more of the first of classes each so often, */
	FIRST_ROOM = 20000, /* and so many together */
	DEEP_BYTES = 1 << 20, /* of stacks in PACE_NS, where it is known how deep they are: a ring has to hold them */
	FIRST_SHOWN = 4,    /* of a class, that count among the first */
	MOST_MASK = (1 << 20) - 1,
	SIGNAL_RETURN = 15, /* a system call after which the thread's registers are others */
	NO_CALL = 0xffffffff,
	EXECVE = 59,
	TASK_DEAD = 0x80,
	INTERVALS_SHOWN = 1000, /* that a processor writes in PACE_NS; of more, only the long ones, */
	LONG_NS = 1000000,      /* which are those of this length */
	HASH_BEGIN = 2166136261,
	STACK_BYTES = 16 << 10, /* of a thread in the kernel */
	REQUEST_SORT = 0xff,
	REQUESTS_TOGETHER = 64,
};

inlined struct tally_control *control_on(void)
{
	u32 zero = 0;
	struct tally_control *c = bpf_map_lookup_elem(&control, &zero);

	return c && c->on ? c : 0;
}

/* counts reports whether what the present thread does counts. */
inlined bool counts(void)
{
	if (everyone)
		return true;
	if (group)
		return bpf_get_current_ancestor_cgroup_id(group_level) == group;
	return is_member();
}

/* here fills in who the present thread is and where its program is. */
inlined void here(struct tally_key *k)
{
	u64 id = bpf_get_current_pid_tgid();
	struct pt_regs *registers = (struct pt_regs *)bpf_task_pt_regs(bpf_get_current_task_btf());

	k->pid = id >> 32;
	k->tid = id;
	READ(k->ip, registers->ip);
	READ(k->sp, registers->sp);
}

/* no_room counts an event that could not be added to anything. */
inlined void no_room(struct tally_control *c, u32 event)
{
	__sync_fetch_and_add(&c->full[event & (TALLY_EVENTS - 1)], 1);
}

/* class_of finds a class or makes it. Where there is no room, k becomes that of the
 * thread's events of the kind. */
inlined struct tally *class_of(struct tally_control *c, struct tally_key *k)
{
	struct tally none = {}, *t = bpf_map_lookup_elem(&classes, k);

	if (t)
		return t;
	bpf_map_update_elem(&classes, k, &none, BPF_NOEXIST);
	t = bpf_map_lookup_elem(&classes, k);
	if (t)
		return t;
	k->ip = k->sp = k->caller = 0;
	k->flags |= TALLY_COARSE;
	t = bpf_map_lookup_elem(&classes, k);
	if (t)
		return t;
	bpf_map_update_elem(&classes, k, &none, BPF_NOEXIST);
	t = bpf_map_lookup_elem(&classes, k);
	if (!t)
		no_room(c, k->event);
	return t;
}

/* shows decides whether an event of a class is written down as a sample. The first of each
 * class are, as long as that is not too much for a while, since classes without any tell
 * least; of the others so many are chosen at random as there is time for. */
inlined bool shows(struct tally *t, u64 bytes)
{
	u32 zero = 0;
	u64 now = bpf_ktime_get_ns(), room;
	struct tally_pace *p = bpf_map_lookup_elem(&pace, &zero);

	if (!p)
		return false;
	room = p->room + (now - p->seen) / FIRST_NS;
	p->room = room < FIRST_ROOM ? room : FIRST_ROOM;
	p->seen = now - (now - p->seen) % FIRST_NS;
	if (now - p->began > PACE_NS) {
		if (now - p->began > 10 * PACE_NS)
			p->mask = 0; /* it was calm for a while */
		else if (p->shown > pace_shown)
			p->mask = p->mask < MOST_MASK ? p->mask << 1 | 1 : MOST_MASK;
		else if (p->shown <= pace_shown / 2)
			p->mask >>= 1;
		p->began = now;
		p->shown = p->bytes = 0;
	}
	if (p->bytes + bytes > DEEP_BYTES)
		return false;
	p->bytes += bytes;
	if (p->room > (t->shown == 0 ? 0 : t->shown < FIRST_SHOWN ? FIRST_ROOM / 2 : FIRST_ROOM)) {
		p->room--;
		return true;
	}
	if (p->shown >= 2 * pace_shown || (bpf_get_prandom_u32() & p->mask) != 0)
		return false;
	p->shown++;
	return true;
}

/* count_deep adds an event to its class, and may have it written down, with what was added up
 * before it. bytes is how deep its stack is, 0 where that is not known. */
inlined int count_deep(void *ctx, struct tally_key *k, struct tally *t, u64 size, u64 bytes)
{
	struct tally_record x = {.r = {.kind = KIND_TALLY, .length = sizeof(struct tally_key) + sizeof(struct tally)}, .key = *k, .before = *t};

	t->count++;
	t->sum += size;
	if (!shows(t, bytes) || send(ctx, &x, sizeof(struct tally_key) + sizeof(struct tally)) != 0)
		return 0;
	t->shown++;
	bpf_tail_call(ctx, &reader, 0);
	return KEEP;
}

inlined int count(void *ctx, struct tally_key *k, struct tally *t, u64 size)
{
	return count_deep(ctx, k, t, size, 0);
}

#include "events.h"

/* What a program at a sampling event is given: the registers, how often it happened, and where in memory. */
enum { EVENT_ADDRESS = 21 * 8 + 8 };

struct touched {
	struct file *file;
	u64 found;
};

static long touches(struct task_struct *task, struct vm_area_struct *part, struct touched *x)
{
	READ(x->file, part->vm_file);
	x->found = 1;
	return 0;
}

/* An event that the kernel counts itself. It is opened for those that are sampled alone. */
SEC("perf_event")
int tally_event(void *ctx)
{
	struct tally_control *c = control_on();
	struct tally_key k = {.event = event_number};
	struct touched x = {};
	struct task_struct *task;
	struct tally *t;
	u64 address, now;

	if (!c)
		return KEEP;
	here(&k);
	t = class_of(c, &k);
	if (!t)
		return 0;
	now = bpf_ktime_get_ns();
	if (event_shown(c, k.event, 0, now)) {
		struct event_record r;

		address = *(u64 *)(ctx + EVENT_ADDRESS);
		task = bpf_get_current_task_btf();
		bpf_find_vma(task, address, touches, &x, 0);
		event_header(&r.r, now, now, 0, 0);
		r.r.sp = tell_file(ctx, x.file);
		r.r.bp = address;
		r.r.system_sp = part_of_memory(address);
		r.key = k;
		event_sent(c, &k, send(ctx, &r, sizeof(r.key)));
	}
	return count(ctx, &k, t, 0);
}

SEC("tracepoint")
int tally_tracepoint(void *ctx)
{
	struct tally_control *c = control_on();
	struct tally_key k = {.event = event_number};
	struct pass_record *x;
	struct tally *t;
	u32 zero = 0;
	u64 now, length = record_bytes;

	if (!c || !counts())
		return KEEP;
	here(&k);
	t = class_of(c, &k);
	if (!t)
		return 0;
	now = bpf_ktime_get_ns();
	x = bpf_map_lookup_elem(&pass_scratch, &zero);
	bounded(length);
	if (x && length <= EVENT_BYTES && event_shown(c, k.event, 0, now)) {
		event_header(&x->r, now, now, 0, length);
		x->key = k;
		if (bpf_probe_read_kernel(x->bytes, length, ctx) != 0)
			x->r.length = sizeof(x->key);
		event_sent(c, &k, send(ctx, &x->r, sizeof(x->key) + length));
	}
	return count(ctx, &k, t, 0);
}

/* A request to a disk is made. */
SEC("raw_tracepoint/block_bio_queue")
int tally_request(struct bpf_raw_tracepoint_args *ctx)
{
	struct tally_control *c = control_on();
	struct bio *bio = (struct bio *)ctx->args[0];
	struct disk_request x = {.o = {.key = {.event = requests_number}}};
	struct block_device *device = 0;
	struct tally *t;
	u64 at = (u64)bio;
	u32 what = 0, size = 0, number = 0;

	if (!c || !counts())
		return 0;
	here(&x.o.key);
	READ(what, bio->bi_opf);
	READ(size, bio->bi_iter.bi_size);
	READ(device, bio->bi_bdev);
	READ(number, device->bd_dev);
	x.o.key.what = what & REQUEST_SORT;
	x.o.begin = bpf_ktime_get_ns();
	x.size = size;
	x.device = number;
	t = class_of(c, &x.o.key);
	if (with_intervals)
		bpf_map_update_elem(&requests, &at, &x, BPF_ANY);
	return t ? count(ctx, &x.o.key, t, size) : 0;
}

/* answered writes down a request that is answered, in whatever thread. */
inlined void answered(void *ctx, u64 bio, u64 now)
{
	struct tally_control *c = control_on();
	struct disk_request *x = bpf_map_lookup_elem(&requests, &bio);

	if (!x)
		return;
	if (c)
		happened(ctx, c, &x->o.key, x->o.begin, now, x->size, x->device, 0);
	bpf_map_delete_elem(&requests, &bio);
}

/* A device that takes requests as they were made, such as one made of several others, answers one. */
SEC("raw_tracepoint/block_bio_complete")
int tally_answer(struct bpf_raw_tracepoint_args *ctx)
{
	answered(ctx, ctx->args[1], bpf_ktime_get_ns());
	return 0;
}

/* One with a queue puts several together, and answers as many bytes of these as it has done. */
SEC("raw_tracepoint/block_rq_complete")
int tally_answers(struct bpf_raw_tracepoint_args *ctx)
{
	struct request *request = (struct request *)ctx->args[0];
	u32 left = ctx->args[2], size = 0;
	u64 now = bpf_ktime_get_ns();
	struct bio *bio = 0;

	READ(bio, request->bio);
	for (int i = 0; i < REQUESTS_TOGETHER && bio; i++) {
		if (READ(size, bio->bi_iter.bi_size) != 0 || size > left)
			break;
		left -= size;
		answered(ctx, (u64)bio, now);
		READ(bio, bio->bi_next);
	}
	return 0;
}

/* A call of a function, whose arguments may be a size. */
SEC("kprobe")
int tally_call(struct pt_regs *registers)
{
	struct tally_control *c = control_on();
	struct tally_key k = {.event = event_number};
	struct event_record x;
	struct tally *t;
	u64 id = bpf_get_current_pid_tgid(), size = 0, second, now;
	u32 tid = id;

	if (!c || !counts())
		return KEEP;
	k.pid = id >> 32;
	k.tid = tid;
	k.ip = registers->ip;
	k.sp = registers->sp;
	read_word(&k.caller, k.sp); /* where it cannot be read, it is not known */
	if (allocator) {
		struct tally_last now = {.sp = k.sp, .caller = k.caller, .event = event_number};
		struct tally_last *before = bpf_map_lookup_elem(&last, &tid);

		if (before && before->event != now.event && before->sp == now.sp && before->caller == now.caller)
			return 0; /* it jumped here from there; the first of such a chain begins the next one, too */
		if (before)
			*before = now;
		else
			bpf_map_update_elem(&last, &tid, &now, BPF_ANY);
	}
	if (argument_at)
		bpf_probe_read_kernel(&size, sizeof(size), (void *)registers + argument_at);
	if (second_at && bpf_probe_read_kernel(&second, sizeof(second), (void *)registers + second_at) == 0)
		size *= second;
	if ((s64)size < 0)
		size = 0; /* it asks for nothing that it could get */
	t = class_of(c, &k);
	if (!t)
		return 0;
	now = bpf_ktime_get_ns();
	if (event_shown(c, k.event, size, now)) {
		event_header(&x.r, now, now, size, sizeof(x.words));
		x.key = k;
		x.words[0] = registers->ax;
		x.words[1] = registers->dx;
		x.words[2] = registers->cx;
		x.words[3] = registers->bx;
		x.words[4] = registers->si;
		x.words[5] = registers->di;
		x.words[6] = registers->r8;
		x.words[7] = registers->r9;
		event_sent(c, &k, send(registers, &x, sizeof(x.key) + sizeof(x.words)));
	}
	return count(registers, &k, t, size);
}

inlined u32 descriptor_of(u32 call)
{
	bounded(call);
	return call < CALLS_KNOWN ? descriptors[call] : 0;
}

SEC("raw_tracepoint/sys_enter")
int tally_enter(struct bpf_raw_tracepoint_args *ctx)
{
	struct tally_control *c = control_on();
	struct tally_open o = {.key = {.event = calls_number, .what = ctx->args[1]}}, *open;
	struct pt_regs *registers;
	struct tally *t;
	u64 descriptor = 0;
	u32 tid = bpf_get_current_pid_tgid();

	if (!c || !counts())
		return 0;
	here(&o.key);
	t = class_of(c, &o.key);
	if (with_intervals && descriptor_of(o.key.what) == DESCRIPTOR_GOES) {
		registers = (struct pt_regs *)ctx->args[0];
		READ(descriptor, registers->di);
		o.file = tell_file(ctx, file_behind(descriptor));
	}
	o.begin = bpf_ktime_get_ns();
	open = bpf_map_lookup_elem(&calls, &tid);
	if (open)
		*open = o;
	else if (bpf_map_update_elem(&calls, &tid, &o, BPF_ANY) != 0)
		__sync_fetch_and_add(&c->unpaired, 1);
	return t ? count(ctx, &o.key, t, 0) : 0;
}

/* paced reports whether a call, a span or a wait that ends is written down. Where they come faster than
 * they can be kept, the short ones are counted and left out. */
inlined bool paced(struct tally_control *c, struct tally_open *o, u64 end)
{
	u32 zero = 0;
	struct interval_pace *p = bpf_map_lookup_elem(&interval_pace, &zero);

	if (!with_intervals || !p)
		return false;
	if (end - p->began > PACE_NS) {
		p->began = end;
		p->written = 0;
	}
	if (p->written >= INTERVALS_SHOWN && end - o->begin < LONG_NS) {
		__sync_fetch_and_add(&c->thinned[o->key.event & (TALLY_EVENTS - 1)], 1);
		return false;
	}
	p->written++;
	return true;
}

/* tell_passed writes it down. */
inlined void tell_passed(void *ctx, struct tally_control *c, struct tally_open *o, struct tally_key *waker, u64 end, u64 woken, u64 result, bool returns, u64 goroutine, u64 file)
{
	u32 length = waker ? 2 * sizeof(struct tally_key) : sizeof(struct tally_key);
	struct interval_record x = {.r = {.kind = KIND_INTERVAL, .length = length}, .key = o->key};

	x.r.addr = o->begin;
	x.r.low = end;
	x.r.high = woken;
	x.r.sp = result;
	x.r.bp = returns;
	x.r.pc = bpf_get_smp_processor_id();
	x.r.system_sp = goroutine;
	x.r.slot = file;
	if (waker)
		x.waker = *waker;
	if (send(ctx, &x, length) != 0)
		__sync_fetch_and_add(&c->unwritten[o->key.event & (TALLY_EVENTS - 1)], 1);
}

inlined void passed(void *ctx, struct tally_control *c, struct tally_open *o, struct tally_key *waker, u64 end, u64 woken, u64 result, bool returns, u64 goroutine)
{
	if (paced(c, o, end))
		tell_passed(ctx, c, o, waker, end, woken, result, returns, goroutine, 0);
}

/* interval is passed for what is the thread's own. */
inlined void interval(void *ctx, struct tally_control *c, struct tally_open *o, struct tally_key *waker, u64 end, u64 woken, u64 result, bool returns)
{
	passed(ctx, c, o, waker, end, woken, result, returns, 0);
}

/* settle adds the time of a call that ends, or of a wait. */
inlined void settle(struct tally_open *o, u64 sum, u64 run)
{
	struct tally *t = bpf_map_lookup_elem(&classes, &o->key);

	if (t) {
		t->sum += sum;
		t->run += run;
	}
	o->begin = 0;
}

/* file_of_call finds what a system call that returns was about, and tells of it; 0: of nothing. */
inlined u64 file_of_call(void *ctx, struct tally_open *o, struct pt_regs *registers, s64 result)
{
	u64 descriptor = 0;

	switch (descriptor_of(o->key.what)) {
	case DESCRIPTOR_GOES:
		return o->file;
	case DESCRIPTOR_FIRST:
		READ(descriptor, registers->di);
		break;
	case DESCRIPTOR_FIFTH:
		READ(descriptor, registers->r8);
		break;
	case DESCRIPTOR_MADE:
		if (result < 0)
			return 0;
		descriptor = result;
		break;
	default:
		return 0;
	}
	return tell_file(ctx, file_behind(descriptor));
}

SEC("raw_tracepoint/sys_exit")
int tally_leave(struct bpf_raw_tracepoint_args *ctx)
{
	struct tally_control *c = control_on();
	struct pt_regs *registers = (struct pt_regs *)ctx->args[0];
	struct tally_open o = {.key = {.event = calls_number, .flags = TALLY_BEFORE}}, *open;
	struct tally *t;
	u32 tid = bpf_get_current_pid_tgid();
	u64 number, now = bpf_ktime_get_ns();

	if (!c)
		return 0;
	open = bpf_map_lookup_elem(&calls, &tid);
	READ(number, registers->orig_ax);
	if (!open) {
		/* It began before counting did. */
		if (!counts() || (s64)number < 0)
			return 0;
		here(&o.key);
		o.key.ip = o.key.sp = 0;
		o.key.what = number;
		t = class_of(c, &o.key);
		if (!t)
			return 0;
		t->count++;
		t->sum += now - c->origin;
		o.begin = c->origin;
		interval(ctx, c, &o, 0, now, 0, ctx->args[1], true);
		o.begin = 0;
		bpf_map_update_elem(&calls, &tid, &o, BPF_ANY); /* that this was its first */
		return 0;
	}
	if (open->begin == 0)
		return 0;
	if (open->key.what != (u32)number && !((u32)number == NO_CALL && open->key.what == SIGNAL_RETURN)) {
		__sync_fetch_and_add(&c->unpaired, 1);
		open->begin = 0;
		return 0;
	}
	if (paced(c, open, now))
		tell_passed(ctx, c, open, 0, now, 0, ctx->args[1], true, 0, file_of_call(ctx, open, registers, ctx->args[1]));
	settle(open, now - open->begin, 0);
	return 0;
}

/* A new thread or process. What its parent does counts, so what it does counts, and it
 * comes back from the call that made it. */
SEC("raw_tracepoint/sched_process_fork")
int tally_fork(struct bpf_raw_tracepoint_args *ctx)
{
	struct tally_control *c = control_on();
	struct task_struct *child = (struct task_struct *)ctx->args[1];
	struct tally_open o, *open;
	u32 parent = bpf_get_current_pid_tgid();
	u32 process, tid;
	bool counted;

	if (READ(process, child->tgid) != 0 || READ(tid, child->pid) != 0)
		return 0;
	counted = counts();
	if (!everyone && !group && process == tid)
		member_forks(counted, process);
	if (!c || !counted || !with_calls)
		return 0;
	open = bpf_map_lookup_elem(&calls, &parent);
	if (!open)
		return 0;
	o = *open;
	o.key.pid = process;
	o.key.tid = tid;
	o.begin = bpf_ktime_get_ns();
	class_of(c, &o.key);
	bpf_map_update_elem(&calls, &tid, &o, BPF_ANY);
	return 0;
}

/* A command that was waited for begins: it counts from here on. */
SEC("raw_tracepoint/sched_process_exec")
int tally_exec(struct bpf_raw_tracepoint_args *ctx)
{
	struct tally_control *c = control_on();
	u32 process = bpf_get_current_pid_tgid() >> 32, tid = bpf_get_current_pid_tgid();
	struct tally_open o = {.key = {.event = calls_number, .flags = TALLY_BEFORE, .pid = process, .tid = tid, .what = EXECVE}};
	struct tally *t;

	if (!member_begins() || !c || !with_calls)
		return 0;
	o.begin = bpf_ktime_get_ns();
	t = class_of(c, &o.key);
	if (t)
		t->count++;
	bpf_map_update_elem(&calls, &tid, &o, BPF_ANY);
	return 0;
}

SEC("raw_tracepoint/sched_process_exit")
int tally_exit(struct bpf_raw_tracepoint_args *ctx)
{
	struct task_struct *task = (struct task_struct *)ctx->args[0];
	struct tally_control *c = control_on();
	struct tally_open *open;
	u32 process, tid;
	u64 now = bpf_ktime_get_ns();

	if (READ(process, task->tgid) != 0 || READ(tid, task->pid) != 0)
		return 0;
	open = bpf_map_lookup_elem(&calls, &tid);
	if (open && open->begin) { /* the call that ends it */
		if (c)
			interval(ctx, c, open, 0, now, 0, 0, false);
		settle(open, now - open->begin, 0);
	}
	bpf_map_delete_elem(&calls, &tid);
	bpf_map_delete_elem(&waits, &tid);
	if (!everyone && !group)
		member_ends(task, process);
	return 0;
}

/* mixed hashes a word into what tells classes apart. Walking the kernel's part of a stack for that
 * would take longer than all the rest. */
inlined u32 mixed(u32 hash, u64 word)
{
	return (hash ^ (u32)word) * 16777619;
}

/* call_of is the system call that the present thread is in; below 0 it is in none. */
inlined u64 call_of(void)
{
	struct pt_regs *registers = (struct pt_regs *)bpf_task_pt_regs(bpf_get_current_task_btf());
	u64 number = 0;

	READ(number, registers->orig_ax);
	return number;
}

/* on_own_stack reports whether the kernel is on the present thread's stack, and not on that of an
 * interrupt, or of what is put off in one. What a tracepoint is given lies on it. */
inlined bool on_own_stack(void *ctx)
{
	struct task_struct *task = (struct task_struct *)bpf_get_current_task();
	void *volatile given = ctx;
	u64 at = 0, stack = 0;

	bpf_probe_read_kernel(&at, sizeof(at), (void *)&given);
	READ(stack, task->stack);
	return at - stack < STACK_BYTES;
}

/* A thread may run again. Where it is asked who woke it, the present thread did, or an
 * interrupt that came in between: the kernel's part of its stack tells, and whom it wakes tells
 * one from the other. */
SEC("raw_tracepoint/sched_waking")
int tally_waking(struct bpf_raw_tracepoint_args *ctx)
{
	struct task_struct *task = (struct task_struct *)ctx->args[0];
	struct tally_control *c = control_on();
	struct tally_key k = {.event = event_number};
	struct tally_wait *w;
	struct tally *t;
	u32 tid;

	if (READ(tid, task->pid) != 0)
		return 0;
	w = bpf_map_lookup_elem(&waits, &tid);
	if (!w || w->o.woken != 0)
		return 0;
	w->o.woken = bpf_ktime_get_ns();
	if (!with_wakers || !c)
		return 0;
	here(&k);
	k.what = mixed(mixed(w->o.key.what, call_of()), on_own_stack(ctx));
	t = class_of(c, &k);
	w->waker = k;
	return t ? count(ctx, &k, t, 0) : 0;
}

/* back ends the wait of a thread that comes back to a processor. */
inlined void back(struct bpf_raw_tracepoint_args *ctx, struct tally_control *c)
{
	struct task_struct *next = (struct task_struct *)ctx->args[2];
	struct tally_wait *w;
	u64 now, woken;
	u32 tid;

	if (READ(tid, next->pid) != 0)
		return;
	w = bpf_map_lookup_elem(&waits, &tid);
	if (!w)
		return;
	now = bpf_ktime_get_ns();
	if (w->o.begin != 0 && now > w->o.begin && c) {
		woken = w->o.preempted ? w->o.begin : w->o.woken ? w->o.woken : now;
		if (woken < w->o.begin)
			woken = w->o.begin;
		if (woken > now)
			woken = now;
		interval(ctx, c, &w->o, &w->waker, now, woken, 0, false);
		settle(&w->o, woken - w->o.begin, now - woken);
	}
	bpf_map_delete_elem(&waits, &tid);
}

/* A thread leaves the processor, and another one comes back to it. */
SEC("raw_tracepoint/sched_switch")
int tally_switch(struct bpf_raw_tracepoint_args *ctx)
{
	struct tally_control *c = control_on();
	struct task_struct *task = (struct task_struct *)bpf_get_current_task();
	struct tally_wait w = {.o = {.key = {.event = waits_number}}, .waker = {.flags = TALLY_NOBODY}};
	struct tally *t;
	u32 state, tid = bpf_get_current_pid_tgid();

	back(ctx, c);
	if (!c || tid == 0 || !counts())
		return 0;
	if (READ(state, task->__state) != 0 || state & TASK_DEAD)
		return 0;
	here(&w.o.key);
	w.o.key.what = mixed(mixed(mixed(HASH_BEGIN, call_of()), state), READ_BITS(task, in_iowait));
	w.o.preempted = state == 0;
	t = class_of(c, &w.o.key);
	if (!t)
		return 0;
	w.o.begin = bpf_ktime_get_ns();
	if (bpf_map_update_elem(&waits, &tid, &w, BPF_ANY) != 0)
		__sync_fetch_and_add(&c->unpaired, 1);
	return count(ctx, &w.o.key, t, 0);
}

#include "pairs.h"
