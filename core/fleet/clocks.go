package fleet

import (
	"math"
	"time"
)

// reading is one comparison of two clocks: what ours said before asking and after the answer came, and what the other
// said in between.
type reading struct{ asked, other, answered time.Duration }

// offset is how far the other clock is ahead of ours, and by how much that may be off. The zero offset knows nothing.
type offset struct {
	ahead, within time.Duration
	trip          time.Duration // the shortest way there and back
	known         bool
}

// compare takes all readings together: each says that the other clock is ahead by no less than other-answered and no
// more than other-asked, however the way there and back was shared between the two, so that what all of them allow is
// known for certain as long as both clocks run alike (K. Marzullo and S. Owicki, ACM SIGOPS OSR 19 (1985) 44, for the
// intersection). Where nothing is allowed by all, the clocks did not run alike: then the reading with the shortest trip
// stands alone.
func compare(readings []reading) (o offset) {
	low, high := time.Duration(math.MinInt64), time.Duration(math.MaxInt64)
	var best reading
	for _, r := range readings {
		if r.answered < r.asked {
			continue
		}
		low, high = max(low, r.other-r.answered), min(high, r.other-r.asked)
		if trip := r.answered - r.asked; !o.known || trip < o.trip {
			o.trip, best, o.known = trip, r, true
		}
	}
	if !o.known {
		return o
	}
	if low > high {
		low, high = best.other-best.answered, best.other-best.asked
	}
	o.ahead, o.within = low+(high-low)/2, (high-low+1)/2
	return o
}

// between is an offset for a stretch with a comparison before and after it: the middle of the two, which may be off by
// what each may be and half of what lies between them. drift is by how much the clock went off beyond what both
// comparisons allow: 0 where they agree.
func between(before, after offset) (o offset, drift time.Duration) {
	switch {
	case !before.known:
		return after, 0
	case !after.known:
		return before, 0
	}
	moved := after.ahead - before.ahead
	apart := max(moved, -moved)
	o = offset{
		ahead: before.ahead + moved/2, within: max(before.within, after.within), trip: min(before.trip, after.trip),
		known: true,
	}
	if drift = max(apart-before.within-after.within, 0); drift > 0 {
		o.within += apart / 2
	}
	return o, drift
}
