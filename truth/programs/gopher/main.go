// Command gopher is what Go adds: leaves without a frame, inlined calls,
// closures, generics, interfaces, deep stacks that grow, the system stack,
// goroutines that move between threads, panics that are recovered.
package main

import (
	"fmt"
	"math"
	"os"
	"runtime"
	"sort"
	"strconv"
	"syscall"
	"unsafe"
)

// stack main.spaces: main.ink < main.spaces < main.round < main.main
// stack main.beams: ... < main.beamOdd < main.beams < main.round < main.main
// stack main.byHeight.Less: main.byHeight.Less < ... < main.sorted < main.round < main.main
// stack main.flatten: main.flatten~ < main.fill~ < main.pages < main.round < main.main
// stack main.risky: ... < main.risky < ... < main.recovered < main.round < main.main
// stack main.round: ... < main.round < main.main
// stack main.closed.func1: main.ink < main.closed.func1 < main.each < main.closed < main.round < main.main

//go:noinline
func ink(x float64, n int) float64 {
	for i := range n {
		x = math.Sqrt(x*1.0001 + float64(i))
	}
	return x
}

//go:noinline
func spaces(x float64) float64 {
	for range 60 {
		x = ink(x, 8000) + 1
	}
	return x
}

//go:noinline
func beamEven(x float64, depth int) float64 {
	if depth == 0 {
		return 1
	}
	return beamOdd(x, depth-1) + float64(depth)
}

//go:noinline
func beamOdd(x float64, depth int) float64 {
	y := ink(x, 900)
	if depth == 0 {
		return y
	}
	return beamEven(y, depth-1) + y
}

//go:noinline
func beams(x float64) float64 {
	for range 8 {
		x = beamOdd(x, 39)
	}
	return x
}

type byHeight []float64

func (h byHeight) Len() int      { return len(h) }
func (h byHeight) Swap(i, j int) { h[i], h[j] = h[j], h[i] }

//go:noinline
func (h byHeight) Less(i, j int) bool {
	x, y := h[i], h[j]
	for range 20 {
		x, y = math.Sqrt(x*x+1e-9), math.Sqrt(y*y+1e-9)
	}
	return x < y
}

//go:noinline
func sorted(marks []float64) float64 {
	m := append(byHeight(nil), marks...)
	sort.Sort(m)
	return m[0]
}

func flatten(x float64) float64 { return math.Sqrt(x*1.0002+1) + 1/(x+1) }

func fill(x float64) float64 { return flatten(x) + flatten(x+1) }

//go:noinline
func pages(x float64) float64 {
	for range 250_000 {
		x = fill(x)
	}
	return x
}

//go:noinline
func risky(x float64, depth int) float64 {
	y := ink(x, 3000)
	if depth == 0 {
		panic(y)
	}
	return risky(y, depth-1) + y
}

//go:noinline
func recovered(x float64) (y float64) {
	for range 6 {
		func() {
			defer func() { y += recover().(float64) }()
			y = risky(x, 10)
		}()
	}
	return y
}

//go:noinline
func deep(x float64, depth int) float64 {
	var room [8]float64
	room[depth%8] = ink(x, 300)
	if depth > 0 {
		room[(depth+1)%8] = deep(room[depth%8], depth-1)
	}
	return room[0] + room[7]
}

//go:noinline
func each(n int, f func(int)) {
	for i := range n {
		f(i)
	}
}

//go:noinline
func closed(x float64) float64 {
	each(30, func(i int) { x = ink(x, 5000+i) })
	return x
}

func cpu() int64 {
	var t syscall.Timespec
	const threadCPU = 3
	syscall.RawSyscall(syscall.SYS_CLOCK_GETTIME, threadCPU, uintptr(unsafe.Pointer(&t)), 0)
	return t.Nano()
}

var out float64 //lint:ignore U1000 what is computed has to go somewhere

//go:noinline
func round(part int, marks []float64) {
	switch part {
	case 0:
		out = spaces(1)
	case 1:
		out = beams(2)
	case 2:
		out = sorted(marks)
	case 3:
		out = pages(3)
	case 4:
		out = recovered(4)
	case 5:
		for range 5 {
			out = deep(5, 90)
		}
	case 6:
		out = closed(6)
	}
}

func main() {
	runtime.LockOSThread() // the clock is the thread's
	seconds := 1.0
	if len(os.Args) > 1 {
		seconds, _ = strconv.ParseFloat(os.Args[1], 64)
	}
	marks := make([]float64, 1500)
	seed := uint32(7)
	for i := range marks {
		seed = seed*1103515245 + 12345
		marks[i] = float64(seed % 100003)
	}
	names := []string{"main.spaces", "main.beams", "main.sorted", "main.pages", "main.recovered", "main.deep", "main.closed"}
	spent := make([]int64, len(names))
	for cpu() < int64(seconds*1e9) {
		for i := range names {
			t0 := cpu()
			round(i, marks)
			spent[i] += cpu() - t0
		}
	}
	for i, n := range names {
		fmt.Println("part", n, spent[i])
	}
}
