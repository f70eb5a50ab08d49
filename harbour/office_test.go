package harbour

import (
	"context"
	"reflect"
	"sync/atomic"
	"testing"
)

// All ways have the same tides, and only in one go is nobody let in meanwhile.
func TestTheClerk(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	o := &office{asked: make(chan func()), closed: ctx.Done(), ledger: map[string]int{}}
	go o.clerk(ctx)
	var want []HighTide
	for _, way := range []string{"one-go", "slices", "helper"} {
		var done atomic.Bool
		served := make(chan int)
		go func() {
			n := 0
			for !done.Load() && o.have(ctx, func() {
				if !done.Load() {
					n++
				}
			}) {
			}
			served <- n
		}()
		tides, err := o.yearOf(ctx, way)
		done.Store(true)
		if err != nil || len(tides) != gauges {
			t.Fatalf("%s: %v, %v", way, tides, err)
		}
		if want == nil {
			want = tides
		}
		if !reflect.DeepEqual(tides, want) {
			t.Errorf("%s: %v; want %v", way, tides, want)
		}
		if n := <-served; way == "slices" && n < gauges*(yearSteps/2_000)/2 {
			t.Errorf("%s: others were let in %d times", way, n)
		}
	}
	if _, err := o.yearOf(ctx, "slowly"); err == nil {
		t.Error("a way that there is not")
	}
	cancel()
	for _, way := range []string{"slices", "one-go"} {
		o.yearOf(context.Background(), way) // ends
	}
}
