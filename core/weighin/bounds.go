package weighin

import (
	"context"
	"errors"
	"fmt"

	"paceduel/core/units"
)

// Whatever is answered, looking at it takes time and memory in proportion to its length: what nests deeper, has more
// headers or more members than any answer for people does is told, and left as it came.
const (
	maxDepth   = 1000   // of JSON
	maxHeaders = 200    // that are kept
	maxPaths   = 20_000 // members that are told apart by what they weigh
	maxFolded  = 24     // members in each other that are told apart; what is deeper weighs for the last of them
)

// errDeep is JSON that is not looked into.
var errDeep = errors.New("nested deeper than " + units.Count(maxDepth))

// depth is how deep a text nests if it is JSON, in one go through it.
func depth(text []byte) (deepest int) {
	now, quoted := 0, false
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case quoted && c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '{' || c == '[':
			now++
			deepest = max(deepest, now)
		case c == '}' || c == ']':
			now--
		}
	}
	return deepest
}

func isDeep(text []byte) bool {
	return len(text) > 0 && (text[0] == '{' || text[0] == '[') && depth(text) > maxDepth
}

// within calls do, which has no end to its patience, and returns early when ctx ends: what do comes to is then no use
// to anybody, and do ends by itself.
func within(ctx context.Context, do func()) error {
	done := make(chan any, 1)
	go func() {
		defer func() { done <- recover() }()
		do()
	}()
	select {
	case p := <-done:
		if p != nil {
			panic(fmt.Sprintf("look at answers: %v", p))
		}
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}
