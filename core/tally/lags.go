package tally

import (
	"math/bits"
	"time"

	"paceduel/core/quantile"
)

// Lags counts how late shots started after they were due, in steps of an eighth of a power of two: a quantile is at
// most 12.5 % too high. The zero value is empty.
type Lags struct {
	counts [64 * lagSteps]int64
	N      int64
	Late   int64 // by more than LateAfter
	Max    time.Duration
}

const lagSteps = 8

// LateAfter is the lag from which a shot counts as sent late.
const LateAfter = time.Millisecond

func (l *Lags) add(lag time.Duration) {
	lag = max(lag, 0)
	l.counts[lagBucket(uint64(lag))]++
	l.N++
	l.Max = max(l.Max, lag)
	if lag > LateAfter {
		l.Late++
	}
}

// lagBucket is the power of two below v and the eighth above that.
func lagBucket(v uint64) int {
	if v < lagSteps {
		return int(v)
	}
	power := bits.Len64(v) - 1
	return power*lagSteps + int(v>>(power-3))&(lagSteps-1)
}

// lagLimit is the highest value of a bucket.
func lagLimit(bucket int) time.Duration {
	if bucket < 3*lagSteps { // the first powers have less than an eighth to tell apart
		return time.Duration(min(bucket, lagSteps-1))
	}
	power, step := bucket/lagSteps, bucket%lagSteps
	return time.Duration(uint64(lagSteps+step+1)<<(power-3) - 1)
}

func (l *Lags) merge(o *Lags) {
	for i, n := range o.counts {
		l.counts[i] += n
	}
	l.N += o.N
	l.Late += o.Late
	l.Max = max(l.Max, o.Max)
}

// Quantile is the lag that a share q of the shots did not exceed; 0 without any.
func (l *Lags) Quantile(q float64) time.Duration {
	if l.N == 0 {
		return 0
	}
	want, seen := quantile.Rank(q, l.N), int64(0)
	for i, n := range l.counts {
		if seen += n; seen >= want {
			return min(lagLimit(i), l.Max)
		}
	}
	return l.Max
}
