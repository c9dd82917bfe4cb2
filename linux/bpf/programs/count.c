/* How often functions are called, and from where. The program runs at a probe,
 * reads where the function was called from, and adds one there; no record is
 * written, so none can be lost. */
#include "kernel.h"

/* Where a function was called from. */
struct call_key {
	u32 function; /* position among the probes */
	u32 pid;
	u64 return_address; /* 0: not known */
};

/* What the program and the collector tell each other. */
struct count_control {
	s64 limit; /* how many calls are counted; 0: none, now */
	s64 calls; /* that there were while it counted, those beyond the limit included */
	s64 full;  /* that had no room in the map */
};

struct {
	__uint(type, BPF_MAP_TYPE_ARRAY);
	__type(key, u32);
	__type(value, struct count_control);
	__uint(max_entries, 1);
} control SEC(".maps");

struct {
	__uint(type, BPF_MAP_TYPE_HASH);
	__type(key, struct call_key);
	__type(value, u64);
	__uint(max_entries, 1 << 17);
} calls SEC(".maps");

/* Which probe this copy of the program is for. */
volatile const u32 function_number;

SEC("kprobe")
int count_calls(struct pt_regs *registers)
{
	u32 zero = 0;
	u64 one = 1, *n;
	s64 limit;
	struct count_control *c = bpf_map_lookup_elem(&control, &zero);
	struct call_key key = {.function = function_number};

	if (!c || (limit = c->limit) == 0)
		return 0;
	if (__sync_fetch_and_add(&c->calls, 1) >= limit)
		return 0;
	key.pid = bpf_get_current_pid_tgid() >> 32;
	read_word(&key.return_address, registers->sp); /* where it cannot be read, the caller is not known */
	n = bpf_map_lookup_elem(&calls, &key);
	if (!n) {
		if (bpf_map_update_elem(&calls, &key, &one, BPF_NOEXIST) == 0)
			return 0;
		n = bpf_map_lookup_elem(&calls, &key); /* another processor was first, or there is no room */
	}
	__sync_fetch_and_add(n ? n : (u64 *)&c->full, 1);
	return 0;
}
