/* A Go program labels its work with the functions of runtime/pprof that are made
 * for it. The runtime keeps the labels of a goroutine with it, as a list of names
 * and texts in the order of the names. Like the stacks that a thread left, they
 * can only be read at the moment of the sample: the goroutine changes them as it
 * goes. Each is copied into a place of its own size in the record. */
#pragma once

#include "scratch.h"

/* read_text copies a text, cut where it is longer than there is room; one that
 * cannot be read has no length. */
inlined u64 read_text(u8 *to, u64 address, u64 length, u64 most)
{
	bounded(length);
	if (length > most)
		length = most;
	return bpf_probe_read_user(to, length, (const void *)address) == 0 ? length : 0;
}

/* no_labels says that a goroutine's labels could not be read, if the program gives any. */
inlined void no_labels(void *ctx, struct scratch *s, u64 place)
{
	if (place == 0)
		return;
	s->r.kind = KIND_LABELS;
	s->r.low = 1; /* one at least may be missing */
	s->r.length = 0;
	send(ctx, &s->r, 0);
}

/* go_labels writes the labels of a goroutine with how many there are. Where it
 * has none, nothing is written. place is where in its record they are found, 0
 * where the program gives none. */
inlined void go_labels(void *ctx, struct scratch *s, u64 goroutine, u64 place)
{
	u64 list, address, n = 0;

	if (place == 0)
		return;
	if (read_word(&list, goroutine + place) != 0) {
		no_labels(ctx, s, place);
		return;
	}
	if (list == 0)
		return;
	s->r.kind = KIND_LABELS;
	s->r.low = 1; /* at least one, until it is known */
	if (bpf_probe_read_user(s->list, sizeof(s->list), (const void *)list) == 0) {
		address = s->list[0];
		s->r.low = s->list[1];
		for (int i = 0; i < MAX_LABELS; i++) {
			struct go_label *l = &s->labels[i];

			if (i >= s->r.low || bpf_probe_read_user(s->reading, sizeof(s->reading), (const void *)(address + i * sizeof(s->reading))) != 0)
				break;
			l->name_length = read_text(l->name, s->reading[0], s->reading[1], LABEL_NAME_BYTES);
			l->text_length = read_text(l->text, s->reading[2], s->reading[3], LABEL_TEXT_BYTES);
			n += sizeof(*l);
		}
	}
	bounded(n);
	if (n > MAX_LABELS * sizeof(struct go_label))
		return;
	s->r.length = n;
	send(ctx, &s->r, n);
}
