package option

import "fmt"

// ExitCode ends the program with a launched command's own code.
type ExitCode int

// Error implements error.
func (c ExitCode) Error() string { return fmt.Sprintf("the command ended with exit code %d", int(c)) }
