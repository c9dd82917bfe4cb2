// Asks for the time again and again, from a goroutine and from the first one.
package main

import (
	"fmt"
	"time"
)

//go:noinline
func ask(d time.Duration) (n int) {
	for begin := time.Now(); time.Since(begin) < d; n++ {
	}
	return n
}

func main() {
	done := make(chan int)
	go func() { done <- ask(1500 * time.Millisecond) }()
	n := ask(1500 * time.Millisecond)
	fmt.Println(n + <-done)
}
