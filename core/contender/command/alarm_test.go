package command

import (
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"paceduel/core/clock"
)

// An alarm rings at the moment that was set last, unless that was taken back, however many were set before.
func TestAlarmsRingWhenTheyAreDue(t *testing.T) {
	const second = time.Second
	tests := []struct {
		name string
		do   func(a *alarm)
		want []time.Duration
	}{
		{"as set", func(a *alarm) { a.set(3 * second) }, []time.Duration{3 * second}},
		{"taken back", func(a *alarm) { a.set(3 * second); a.unset() }, nil},
		{"late already", func(a *alarm) { time.Sleep(2 * second); a.set(second) }, []time.Duration{2 * second}},
		{"of a later run", func(a *alarm) {
			for range 5 { // the timer is the first run's and fires within the fourth
				a.set(a.clock.Now() + 3*second)
				time.Sleep(900 * time.Millisecond)
				a.unset()
			}
			a.set(a.clock.Now() + 3*second)
		}, []time.Duration{4500*time.Millisecond + 3*second}},
		{"sooner than before", func(a *alarm) {
			a.set(9 * second)
			a.unset()
			a.set(2 * second)
		}, []time.Duration{2 * second}},
		{"again", func(a *alarm) {
			a.set(second)
			time.Sleep(5 * second)
			a.set(6 * second)
		}, []time.Duration{second, 6 * second}},
		{"closed, and used again", func(a *alarm) {
			a.set(second)
			a.close()
			time.Sleep(5 * second)
			a.set(7 * second)
		}, []time.Duration{7 * second}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				var rung []time.Duration
				a := &alarm{clock: clock.Start()}
				a.ring = func() { rung = append(rung, a.clock.Now()) }
				tt.do(a)
				time.Sleep(time.Minute)
				synctest.Wait()
				if !slices.Equal(rung, tt.want) {
					t.Errorf("it rang at %v; want %v", rung, tt.want)
				}
				a.close()
			})
		})
	}
}
