package result_test

import (
	"testing"

	"paceduel/core/result"
)

func TestBacklogsThatGrow(t *testing.T) {
	of := func(n int, at func(i int) int64) *result.Backlog {
		b := &result.Backlog{}
		for i := range n {
			b.Over = append(b.Over, [2]int64{int64(i), at(i)})
		}
		return b
	}
	for name, tt := range map[string]struct {
		backlog *result.Backlog
		grows   bool
	}{
		"none":           {&result.Backlog{}, false},
		"steady":         {of(100, func(i int) int64 { return 20 + int64(i%5) }), false},
		"settling":       {of(100, func(i int) int64 { return int64(min(i, 30)) }), false},
		"of a few":       {of(100, func(i int) int64 { return 1 + int64(i/50) }), false},
		"growing":        {of(100, func(i int) int64 { return int64(2 * i) }), true},
		"too few by far": {of(10, func(i int) int64 { return int64(20 * i) }), false},
	} {
		if got := tt.backlog.Grows(); got != tt.grows {
			t.Errorf("%s: grows %v", name, got)
		}
	}
}
