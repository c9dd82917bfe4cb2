/* The launcher: it waits for a byte, and becomes a command. It has no library and is
 * a few hundred bytes long, since a take waits for its beginning: starting the whole
 * of Entelon once more for this takes 20 ms of processor time.
 *
 *     launcher WORD PATH ARGUMENTS…
 *
 * Its files are those of launch.go. */
#include <linux/fcntl.h>
#include <sys/syscall.h>

enum { GO = 3, ERROR = 4, SELF = 5, FAILED = 127 };

static long call(long number, long a, long b, long c)
{
	long out;

	asm volatile("syscall" : "=a"(out) : "a"(number), "D"(a), "S"(b), "d"(c) : "rcx", "r11", "memory");
	return out;
}

static void leave(void)
{
	for (;;)
		call(SYS_exit_group, FAILED, 0, 0);
}

/* stack is as the kernel leaves it: how many arguments, the arguments, 0, the
 * environment. */
__attribute__((used)) void begin(long *stack)
{
	long count = stack[0];
	char **arguments = (char **)(stack + 1), **environment = arguments + count + 1;
	char byte;
	int error;

	if (count < 4)
		leave();
	for (int file = GO; file <= SELF; file++)
		call(SYS_fcntl, file, F_SETFD, FD_CLOEXEC);
	if (call(SYS_read, GO, (long)&byte, 1) != 1)
		leave(); /* whoever started us has gone */
	error = -call(SYS_execve, (long)arguments[2], (long)(arguments + 3), (long)environment);
	call(SYS_write, ERROR, (long)&error, sizeof(error)); /* if this fails, too, the exit code still tells */
	leave();
}

asm(".globl _start\n_start:\n\tmov %rsp, %rdi\n\tand $-16, %rsp\n\tcall begin\n");
