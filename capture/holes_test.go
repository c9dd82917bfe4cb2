package capture

import (
	"slices"
	"strings"
	"testing"

	"entelon/core/profile"
)

// TestStacksWithHoles: a frame with a buffer whose pages were never touched does not end
// the walk, wherever it is: nothing is there to be read, and the stack goes on behind it.
// Nor does a frame that is larger than all that is copied, among the first of a thread.
func TestStacksWithHoles(t *testing.T) {
	const source = `
#include <pthread.h>
static volatile double sum;
__attribute__((noinline)) static void work(void) { for (int i = 0; i < 300000; i++) sum += i; }
__attribute__((noinline)) static void small(int n) { volatile char line[200]; line[0] = n; if (n) small(n - 1); else work(); line[1] = n; }
__attribute__((noinline)) static void buffered(int n) { volatile char buffer[SIZE]; buffer[WHERE] = n; small(n); buffer[WHERE] = 1; }
static void *thread(void *x) { for (int i = 0; i < 200; i++) buffered(DEPTH); return 0; }
int main() {
	pthread_t t;
	pthread_create(&t, 0, thread, 0);
	pthread_join(t, 0);
	thread(0);
}
`
	for name, flags := range map[string][]string{
		"32 KiB, the end is touched":   {"-DSIZE=(32<<10)", "-DWHERE=0", "-DDEPTH=1"},
		"32 KiB, the start is touched": {"-DSIZE=(32<<10)", "-DWHERE=SIZE-1", "-DDEPTH=1"},
		"12 KiB behind 6":              {"-DSIZE=(12<<10)", "-DWHERE=0", "-DDEPTH=30"},
		"600 KiB, among the first":     {"-DSIZE=(600<<10)", "-DWHERE=SIZE/2", "-DDEPTH=20"},
		"none":                         {"-DSIZE=64", "-DWHERE=0", "-DDEPTH=20"},
	} {
		t.Run(name, func(t *testing.T) {
			program := compiledC(t, source, append(flags, "-fomit-frame-pointer")...)
			set := profile.Settings{Command: []string{program}, RateHz: 997}
			wholeStacks(t, set)
		})
	}
}

// wholeStacks takes a program and holds its stacks to 99.5 %. Two of four hundred more or
// less are chance, so a take that falls short is judged together with three more.
func wholeStacks(t *testing.T, set profile.Settings) {
	t.Helper()
	var all profile.Facts
	for range 4 {
		f := collected(t, set).Facts
		all.UserStacks, all.Complete, all.CutOff = all.UserStacks+f.UserStacks, all.Complete+f.Complete, append(all.CutOff, f.CutOff...)
		if all.UserStacks >= 100 && all.CompleteShare() >= 0.995 {
			return
		}
	}
	t.Errorf("%d stacks, %.2f %% whole: %+v", all.UserStacks, 100*all.CompleteShare(), all.CutOff)
}

// TestStartWithoutTables: a C library may have no tables where a program begins, and get from
// there to main by a jump that does not say where it leads. The file says where it begins.
func TestStartWithoutTables(t *testing.T) {
	const source = `
static volatile double sum;
__attribute__((noinline)) static void work(long n) { for (long i = 0; i < n; i++) sum += i; }
int main(void) { for (int i = 0; i < 600; i++) work(300000); sum++; return 0; }
static void leave(int code) { for (;;) __asm__ volatile("syscall" : : "a"(231L), "D"((long)code) : "rcx", "r11", "memory"); }
__attribute__((noinline)) static void stage_two(int (*f)(void), long *at) { int code = f(); *at = code; leave(code); }
void (*volatile next)(int (*)(void), long *) = stage_two;
void begin(long *at) { next(main, at); }
__asm__(".globl _start\n_start:\n xor %rbp,%rbp\n mov %rsp,%rdi\n and $-16,%rsp\n call begin\n");
`
	for name, flags := range map[string][]string{
		"with names":             nil,
		"stripped":               {"-s"},
		"stripped, main's stays": {"-s", "-fasynchronous-unwind-tables"},
	} {
		all := append([]string{"-O2", "-static", "-nostdlib", "-nostartfiles", "-fno-stack-protector", "-fomit-frame-pointer", "-fno-asynchronous-unwind-tables", "-fno-unwind-tables"}, flags...)
		take := collected(t, profile.Settings{Command: []string{compiledC(t, source, all...)}, RateHz: 997})
		if f := take.Facts; f.UserStacks < 50 || f.CompleteShare() < 0.995 {
			t.Errorf("%s: %d stacks, %.1f %% whole: %+v", name, f.UserStacks, 100*f.CompleteShare(), f.CutOff)
		}
	}
}

// TestCodeMadeAtRunTime: of code that a program makes and runs itself nothing is known but
// where it is. It was called from where a call could have led to it: not from what calls
// before it have left on the stack.
func TestCodeMadeAtRunTime(t *testing.T) {
	const source = `
#include <string.h>
#include <sys/mman.h>
static volatile double sum;
__attribute__((noinline)) static void work(void) { for (int i = 0; i < 300000; i++) sum += i; }
__attribute__((noinline)) static void deeper(volatile char *x) { volatile char y[40]; y[3] = x[2]; sum += y[3]; }
__attribute__((noinline)) static void decoy(void) { volatile char x[24]; x[2] = 1; deeper(x); sum += x[2]; }
int main(void) {
	/* sub $0x148,%rsp; call *%rdi; add $0x148,%rsp; ret */
	static const unsigned char code[] = {0x48, 0x81, 0xec, 0x48, 1, 0, 0, 0xff, 0xd7, 0x48, 0x81, 0xc4, 0x48, 1, 0, 0, 0xc3};
	void *m = mmap(0, 4096, PROT_READ | PROT_WRITE | PROT_EXEC, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
	memcpy(m, code, sizeof code);
	void (*volatile made)(void (*)(void)) = (void (*)(void (*)(void)))m;
	for (int i = 0; i < 600; i++) { decoy(); made(work); }
}
`
	take := collected(t, profile.Settings{Command: []string{compiledC(t, source, "-O2", "-fomit-frame-pointer")}, RateHz: 997})
	if f := take.Facts; f.UserStacks < 50 || f.CompleteShare() < 0.995 {
		t.Errorf("%d stacks, %.1f %% whole: %+v", f.UserStacks, 100*f.CompleteShare(), f.CutOff)
	}
	p, right, wrong := take.Profile, 0, 0
	for _, s := range p.Samples.Stack {
		var names []string
		p.Walk(s, func(f profile.FrameID) { names = append(names, p.FunctionName(p.Frames[f].Function)) })
		i := slices.IndexFunc(names, func(n string) bool { return strings.HasPrefix(n, "[anonymous]") })
		switch {
		case i < 0:
		case i+1 < len(names) && names[i+1] == "main":
			right++
		default:
			wrong++
		}
	}
	if right < 50 || wrong > 0 {
		t.Errorf("%d stacks are of main, %d are not", right, wrong)
	}
}
