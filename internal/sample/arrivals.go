package sample

import (
	"time"

	"paceduel/core/result"
	"paceduel/core/tally"
)

// Arriving gives every heat of a contender an effect that comes after a time, in each round a little later than in the
// one before.
func Arriving(r *result.Result, contender, effect string, after, floor time.Duration) {
	e := r.Entrant(contender)
	e.Streams = append(e.Streams, effect)
	if floor > 0 {
		if e.Floors == nil {
			e.Floors = map[string]time.Duration{}
		}
		e.Floors[effect] = floor
	}
	for i := range r.Heats {
		h := &r.Heats[i]
		if h.Contender != contender {
			continue
		}
		lengths, sum := tally.NewHistogram(), int64(0)
		for n := range h.OK {
			took := int64(after) + int64(after)*(n%20+int64(h.Round))/100
			lengths.RecordValue(took)
			sum += took
		}
		text, err := result.EncodeHistogram(lengths)
		if err != nil {
			panic(err)
		}
		h.Splits = append(h.Splits, result.Split{Name: effect, Told: true, Stream: true, Sum: sum, Lengths: text})
	}
}
