package sample

import (
	"time"

	"paceduel/core/result"
	"paceduel/core/tally"
)

// HeldUp gives a heat a bystander that asks a thousand times a second for three seconds, waits 1 ms and is held up once
// for a time.
func HeldUp(h *result.Heat, held time.Duration) {
	const span, every, within = 3 * time.Second, time.Millisecond, 50 * time.Millisecond
	b := &result.Bystander{Does: "GET /look-up, 1000/s", Every: every, Within: within}
	for i, into := range []*result.Probes{&b.Quiet, &b.Meanwhile} {
		waits, sum := tally.NewHistogram(), time.Duration(0)
		from := 200 * time.Millisecond
		for at := time.Duration(0); at < span; at += every {
			wait := time.Millisecond
			if i == 1 && at >= from && at < from+held {
				wait = max(from+held-at, wait)
			}
			waits.RecordValue(int64(wait))
			sum += wait
			into.Longest = max(into.Longest, wait)
			into.Due, into.OK = into.Due+1, into.OK+1
			if into.Due%10 == 0 {
				into.Dots = append(into.Dots, [2]int64{int64(at), int64(wait)})
			}
		}
		into.Span = span
		if i == 1 && held > within {
			into.HeldUp = held
			into.Silences = [][2]int64{{int64(from), int64(held)}}
		}
		lengths, err := result.EncodeHistogram(waits)
		if err != nil {
			panic(err)
		}
		h.Splits = append(h.Splits, result.Split{
			Name: []string{result.QuietStream, result.BystanderStream}[i], Told: true, Stream: true, Sum: int64(sum),
			Lengths: lengths,
		})
	}
	h.Bystander = b
}
