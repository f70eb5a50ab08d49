// Package quantile says which of some values is their quantile: one rule for whatever is sorted, counted in a histogram
// or summed up, so that a figure is the same wherever it is read.
//
// What a quantile's interval is, and whether there are enough values for one, belongs to core/judge. It is a leaf.
package quantile

import "math"

// rounding is what q and its product with n may be off by, as a share: 0.07 of 100 comes to 7.000000000000001.
const rounding = 1e-14

// Rank is the place, from 1, that the quantile q of n values has among them in order: it is the smallest value at or
// below which at least a share q of them lies (nearest rank; definition 1 of Hyndman and Fan, Sample Quantiles in
// Statistical Packages, 1996). q is from 0 to 1, n at least 1.
func Rank(q float64, n int64) int64 {
	x := q * float64(n)
	return min(max(int64(math.Ceil(x-x*rounding)), 1), n)
}
