package events

import (
	"fmt"
	"strings"
)

// UnknownKind is the error about a kind that a take does not have.
type UnknownKind struct {
	Name  string
	kinds []Kind
}

func (e *UnknownKind) Error() string {
	names := make([]string, len(e.kinds))
	for i, k := range e.kinds {
		names[i] = k.Name
	}
	return fmt.Sprintf("the take has no events of the kind %q; it has %s", e.Name, strings.Join(names, ", "))
}
