// Asks for the time again and again, from a goroutine and from the first one;
// with the argument "garbage" it has the runtime collect what nobody needs all
// the while, whose workers ask for the time on the system's stack.
package main

import (
	"fmt"
	"os"
	"runtime/debug"
	"time"
)

type leaf struct {
	next *leaf
	some [4]int
}

//go:noinline
func litter(d time.Duration) (n int) {
	for begin := time.Now(); time.Since(begin) < d; n++ {
		var list *leaf
		for range 20_000 {
			list = &leaf{next: list}
		}
		n += list.some[0]
	}
	return n
}

//go:noinline
func ask(d time.Duration) (n int) {
	for begin := time.Now(); time.Since(begin) < d; n++ {
	}
	return n
}

func main() {
	if len(os.Args) > 1 && os.Args[1] == "garbage" {
		debug.SetGCPercent(1)
		fmt.Println(litter(2 * time.Second))
		return
	}
	done := make(chan int)
	go func() { done <- ask(1500 * time.Millisecond) }()
	n := ask(1500 * time.Millisecond)
	fmt.Println(n + <-done)
}
