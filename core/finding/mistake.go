package finding

import (
	"fmt"
	"runtime/debug"
)

// Mistake is a mistake of the program itself that showed in one piece of work: a
// panic, with where it happened. It ends that piece of work and nothing else.
type Mistake struct {
	Value any
	Stack []byte
}

// Error says what happened in one line; the stack is for the log.
func (m *Mistake) Error() string { return fmt.Sprintf("a mistake in Stockade itself: %v", m.Value) }

// Catch turns a panic into the error of the function that defers it. Whatever
// reads what came from outside in a goroutine of its own defers it there: a
// panic in a goroutine cannot be caught from elsewhere, and would end the
// process.
func Catch(err *error) {
	if p := recover(); p != nil {
		*err = &Mistake{p, debug.Stack()}
	}
}
