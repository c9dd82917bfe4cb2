// Package truth holds Entelon's samples against programs that know what is
// true: each spends its time in known functions, measures that by the clock of
// its thread, and says in its source which stacks must be seen. The programs
// are built in the many ways that make stacks and names hard to get.
package truth
