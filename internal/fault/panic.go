package fault

import (
	"fmt"
	"runtime/debug"
)

// A Panic is a fault of the program's own, as an error: what it was working on ends as
// with any other error, and is rolled back.
type Panic struct {
	What  any
	Stack []byte
}

func (p *Panic) Error() string { return fmt.Sprintf("a fault of the program's own: %v", p.What) }

// Recovered makes a panic the error of the function that defers it.
func Recovered(err *error) {
	switch x := recover().(type) {
	case nil:
	case *Panic: // of another goroutine, whose stack it has
		*err = x
	default:
		*err = &Panic{x, debug.Stack()}
	}
}
