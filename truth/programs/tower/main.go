// Command tower climbs stairs in many goroutines, each on a stack that has to
// grow again and again, and prints how many steps it made itself. With a
// second argument it first waits for a line on standard input.
package main

import (
	"bufio"
	"fmt"
	"os"
	"strconv"
	"sync"
	"sync/atomic"
)

var steps atomic.Int64

//go:noinline
func climb(height int, load [64]int) int {
	steps.Add(1)
	if height == 0 {
		return load[3]
	}
	return climb(height-1, load) + 1
}

//go:noinline
func rest(n int) int { return n }

func main() {
	n, err := strconv.Atoi(os.Args[1])
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	if len(os.Args) > 2 {
		if _, err := bufio.NewReader(os.Stdin).ReadString('\n'); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
	}
	var all sync.WaitGroup
	for i := range n {
		all.Go(func() { climb(500+i, [64]int{}) })
	}
	all.Wait()
	rest(n)
	fmt.Println(steps.Load())
}
