/* probes has pairs of static probes: plates in plates, four deep, some of which are left without their end;
 * and proofs, which it makes only if somebody wants to know. On standard error it says how many of each there were
 * and how long those took that had an end, by its own clock. */
#include <setjmp.h>
#include <stdio.h>
#include <stdlib.h>
#include <time.h>

#define NOTE(count, name)                                                                       \
	__asm__ volatile("10: nop\n.pushsection .note.probes,\"\",@note\n.balign 4\n"            \
	                 ".4byte 12f-11f, 14f-13f, 3\n11: .asciz \"any\"\n12: .balign 4\n"      \
	                 "13: .8byte 10b, 0, " count "\n.asciz \"shop\"\n.asciz \"" name "\"\n.asciz \"\"\n14: .balign 4\n.popsection")

__attribute__((section(".probes"))) volatile unsigned short wanted = 0; /* in the file, where the kernel can count */
static jmp_buf out;
static int plates, ended, left, proofs;
static long long plate_ns, proof_ns, spins = 20000;

static long long now(void)
{
	struct timespec t;

	clock_gettime(CLOCK_MONOTONIC, &t);
	return t.tv_sec * 1000000000LL + t.tv_nsec;
}

static void spin(long long ns)
{
	for (long long end = now() + ns; now() < end;)
		;
}

__attribute__((noinline)) static void plate(int deep, int leaves)
{
	long long began = now();

	plates++;
	NOTE("0", "plate__start");
	spin(spins);
	if (deep > 0)
		plate(deep - 1, leaves);
	if (leaves && deep == 0)
		longjmp(out, 1);
	NOTE("0", "plate__done");
	ended++;
	plate_ns += now() - began;
}

__attribute__((noinline)) static void proof(void)
{
	long long began = now();

	if (!wanted)
		return;
	proofs++;
	NOTE("wanted", "proof__begin");
	spin(50000);
	NOTE("wanted", "proof__end");
	proof_ns += now() - began;
}

int main(void)
{
	for (int i = 0; i < 200; i++) {
		proof();
		if (i % 10 != 9)
			plate(3, 0);
		else if (setjmp(out) == 0)
			plate(3, 1);
		else
			left++;
	}
	spins = 0;
	plate(99, 0); /* deeper than can be followed, which must not part the others wrongly */
	spins = 20000;
	plate(3, 0);
	fprintf(stderr, "plates %d %d %d %lld\nproofs %d %lld\n", plates, ended, 4 * left, plate_ns, proofs, proof_ns);
	return 0;
}
