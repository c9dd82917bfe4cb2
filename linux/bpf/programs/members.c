/* Following who belongs to a collection, where nothing else does: see members.h. */
#include "members.h"

SEC("raw_tracepoint/sched_process_fork")
int member_fork(struct bpf_raw_tracepoint_args *ctx)
{
	struct task_struct *child = (struct task_struct *)ctx->args[1];
	u32 process, tid;

	if (READ(process, child->tgid) == 0 && READ(tid, child->pid) == 0 && process == tid)
		member_forks(is_member(), process);
	return 0;
}

SEC("raw_tracepoint/sched_process_exec")
int member_exec(struct bpf_raw_tracepoint_args *ctx)
{
	member_begins();
	return 0;
}

SEC("raw_tracepoint/sched_process_exit")
int member_exit(struct bpf_raw_tracepoint_args *ctx)
{
	struct task_struct *task = (struct task_struct *)ctx->args[0];
	u32 process;

	if (READ(process, task->tgid) == 0)
		member_ends(task, process);
	return 0;
}
