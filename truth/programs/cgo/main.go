// Command cgo calls C from Go, C that calls back into Go, and C that keeps no
// frame pointer, so that stacks change from Go's own to the system's and back.
package main

/*
#cgo CFLAGS: -O2 -fomit-frame-pointer
#cgo LDFLAGS: -lm
#include <math.h>

double goSpaces(double);

static __attribute__((noinline)) double c_ink(double x, int n) {
	for (int i = 0; i < n; i++) x = sqrt(x * 1.0001 + i);
	return x;
}

static __attribute__((noinline)) double c_level(double x) {
	double a[16];
	for (int i = 0; i < 16; i++) { a[i] = c_ink(x + i, 5000); __asm__ volatile("" ::: "memory"); }
	for (int i = 0; i < 16; i++) x += a[i];
	return x;
}

static __attribute__((noinline)) double c_back(double x) {
	double a[16];
	for (int i = 0; i < 16; i++) { a[i] = goSpaces(x + i); __asm__ volatile("" ::: "memory"); }
	for (int i = 0; i < 16; i++) x += a[i];
	return x;
}
*/
import "C"

import (
	"fmt"
	"math"
	"os"
	"runtime"
	"strconv"
	"syscall"
	"unsafe"
)

// stack c_level: c_ink < c_level < ... < main.calls < main.main
// stack c_back: ... < c_back < ... < main.called < main.main
// stack main.goSpaces: main.ink < main.goSpaces < ... < main.called < main.main
// stack main.plain: main.ink < main.plain < main.main

//go:noinline
func ink(x float64, n int) float64 {
	for i := range n {
		x = math.Sqrt(x*1.0001 + float64(i))
	}
	return x
}

//export goSpaces
func goSpaces(x C.double) C.double { return C.double(ink(float64(x), 6000) + 1) }

//go:noinline
func calls(x float64) float64 { return float64(C.c_level(C.double(x))) }

//go:noinline
func called(x float64) float64 { return float64(C.c_back(C.double(x))) }

//go:noinline
func plain(x float64) float64 { return ink(x, 70000) + 1 }

func cpu() int64 {
	var t syscall.Timespec
	const threadCPU = 3
	syscall.RawSyscall(syscall.SYS_CLOCK_GETTIME, threadCPU, uintptr(unsafe.Pointer(&t)), 0)
	return t.Nano()
}

var out float64

func main() {
	runtime.LockOSThread()
	seconds := 1.0
	if len(os.Args) > 1 {
		seconds, _ = strconv.ParseFloat(os.Args[1], 64)
	}
	var spent [3]int64
	for cpu() < int64(seconds*1e9) {
		t0 := cpu()
		out = calls(1)
		t1 := cpu()
		out = called(2)
		t2 := cpu()
		out = plain(3)
		spent[0] += t1 - t0
		spent[1] += t2 - t1
		spent[2] += cpu() - t2
	}
	fmt.Println("part main.calls", spent[0])
	fmt.Println("part main.called", spent[1])
	fmt.Println("part main.plain", spent[2])
}
