// Package panics turns a fault of this program into an error, so that whoever waits for a goroutine can say it, keep
// what was measured, and give the terminal back.
//
// It knows nothing of what the goroutine was doing; who catches says that.
package panics

import (
	"fmt"
	"runtime"
	"runtime/debug"
	"strings"
)

// Error is a fault that was caught.
type Error struct {
	Doing string // what was attempted: "drive the heat"
	Value any    // what the program said
	At    string // where it was, as file.go:12 of the function
	Stack []byte
}

func (e *Error) Error() string {
	return fmt.Sprintf(
		"%s: a fault of this program (%v at %s); what was measured before is kept, please report it", e.Doing, e.Value, e.At,
	)
}

// Catch is deferred by whoever must not fall: it makes an *Error of a panic, in err, and leaves err alone without one.
func Catch(doing string, err *error) {
	if p := recover(); p != nil {
		*err = &Error{Doing: doing, Value: p, At: where(), Stack: debug.Stack()}
	}
}

// Guard calls do, and makes an *Error of a panic in it.
func Guard(doing string, do func() error) (err error) {
	defer Catch(doing, &err)
	return do()
}

// where is the function of ours that panicked.
func where() string {
	pcs := make([]uintptr, 64)
	frames := runtime.CallersFrames(pcs[:runtime.Callers(2, pcs)])
	panicked := false
	for {
		f, more := frames.Next()
		if panicked && !strings.HasPrefix(f.Function, "runtime.") {
			file := f.File[strings.LastIndex(f.File, "/")+1:]
			return fmt.Sprintf("%s:%d", file, f.Line)
		}
		panicked = panicked || f.Function == "runtime.gopanic"
		if !more {
			return "an unknown place"
		}
	}
}
