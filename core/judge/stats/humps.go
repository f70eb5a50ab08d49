package stats

import (
	"math"
	"slices"
)

// HumpsFrom is how many values the test for two humps needs.
const HumpsFrom = 500

// Dip is how far the distribution of x, ascending, is at least from any with a single hump: the dip of J. A. and P. M.
// Hartigan (Annals of Statistics 13, 1985), computed as in P. M. Hartigan's algorithm AS 217 (Applied Statistics 34,
// 1985): within an interval that shrinks to that of the hump, the largest distance between the greatest convex minorant
// and the least concave majorant of the distribution is sought, and outside it that of the distribution from either.
func Dip(x []float64) float64 {
	n := len(x)
	if n < 2 || x[0] == x[n-1] {
		return 0.5 / float64(max(n, 1))
	}
	// minorant[j] is the corner before j of the greatest convex minorant of the first values up to j, majorant[k] the
	// corner after k of the least concave majorant of the last ones from k. Indices count from 0.
	minorant, majorant := make([]int, n), make([]int, n)
	for j := 1; j < n; j++ {
		at := j - 1
		for at > 0 {
			before := minorant[at]
			if (x[j]-x[at])*float64(at-before) < (x[at]-x[before])*float64(j-at) {
				break
			}
			at = before
		}
		minorant[j] = at
	}
	majorant[n-1] = n - 1
	for k := n - 2; k >= 0; k-- {
		at := k + 1
		for at < n-1 {
			after := majorant[at]
			if (x[k]-x[at])*float64(at-after) < (x[at]-x[after])*float64(k-at) {
				break
			}
			at = after
		}
		majorant[k] = at
	}
	low, high := 0, n-1
	dip := 1.0 // in halves of 1/n
	gcm, lcm := make([]int, 0, n), make([]int, 0, n)
	for {
		gcm = append(gcm[:0], high) // corners from high down to low
		for at := high; at > low; {
			at = minorant[at]
			gcm = append(gcm, at)
		}
		lcm = append(lcm[:0], low) // and from low up to high
		for at := low; at < high; {
			at = majorant[at]
			lcm = append(lcm, at)
		}
		far, g, l := widest(x, gcm, lcm)
		if far < dip {
			break
		}
		dip = max(dip, below(x, gcm[g:]), above(x, lcm[l:]))
		if low == gcm[g] && high == lcm[l] {
			break
		}
		low, high = gcm[g], lcm[l]
	}
	return dip / float64(2*n)
}

// widest is the largest distance between minorant and majorant, and between which of their corners it lies.
func widest(x []float64, gcm, lcm []int) (far float64, g, l int) {
	g, l = len(gcm)-1, len(lcm)-1
	if len(gcm) == 2 && len(lcm) == 2 {
		return 1, g, l
	}
	i, j := len(gcm)-2, 1
	for {
		a, b := gcm[i], lcm[j]
		if a > b {
			before := gcm[i+1]
			d := float64(b-before+1) - (x[b]-x[before])*float64(a-before)/(x[a]-x[before])
			j++
			if d >= far {
				far, g, l = d, i+1, j-1
			}
		} else {
			before := lcm[j-1]
			d := (x[a]-x[before])*float64(b-before)/(x[b]-x[before]) - float64(a-before-1)
			i--
			if d >= far {
				far, g, l = d, i+1, j
			}
		}
		i, j = max(i, 0), min(j, len(lcm)-1)
		if gcm[i] == lcm[j] {
			return far, g, l
		}
	}
}

// below is how far the distribution lies above its convex minorant, left of the hump.
func below(x []float64, gcm []int) (far float64) {
	for i := range len(gcm) - 1 {
		from, to := gcm[i+1], gcm[i]
		most := 1.0
		if to-from > 1 && x[to] != x[from] {
			slope := float64(to-from) / (x[to] - x[from])
			for at := from; at <= to; at++ {
				most = max(most, float64(at-from+1)-(x[at]-x[from])*slope)
			}
		}
		far = max(far, most)
	}
	return far
}

// above is how far it lies below its concave majorant, right of the hump.
func above(x []float64, lcm []int) (far float64) {
	for i := range len(lcm) - 1 {
		from, to := lcm[i], lcm[i+1]
		most := 1.0
		if to-from > 1 && x[to] != x[from] {
			slope := float64(to-from) / (x[to] - x[from])
			for at := from; at <= to; at++ {
				most = max(most, (x[at]-x[from])*slope-float64(at-from-1))
			}
		}
		far = max(far, most)
	}
	return far
}

// dipEdge is what the root of n times the dip of n values from the uniform distribution, the worst with a single hump,
// exceeds with a probability of 1 %; by simulation (TestTheEdgeOfTheDip), with little change from 500 values on.
const dipEdge = 0.62

// TwoHumps reports whether x, ascending and of at least HumpsFrom values, has more than one hump, at the 1 % level.
// Values that are equal because they were rounded are spread over their share of the axis, so that rounding makes no
// humps.
func TwoHumps(x []float64) bool {
	if len(x) < HumpsFrom {
		return false
	}
	return math.Sqrt(float64(len(x)))*Dip(spread(x)) > dipEdge
}

// spread takes runs of equal values apart, evenly from half-way to the value before to half-way to the one after.
func spread(x []float64) []float64 {
	out := slices.Clone(x)
	n := len(x)
	for i := 0; i < n; {
		j := i
		for j < n && x[j] == x[i] {
			j++
		}
		if j-i > 1 {
			var low, high float64
			switch {
			case i > 0 && j < n:
				low, high = (x[i-1]+x[i])/2, (x[j]+x[i])/2
			case i > 0:
				low, high = (x[i-1]+x[i])/2, x[i]+(x[i]-x[i-1])/2
			case j < n:
				low, high = x[i]-(x[j]-x[i])/2, (x[j]+x[i])/2
			default:
				low, high = x[i], x[i]
			}
			for k := i; k < j; k++ {
				out[k] = low + (high-low)*(float64(k-i)+0.5)/float64(j-i)
			}
		}
		i = j
	}
	return out
}
