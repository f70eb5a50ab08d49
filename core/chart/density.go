package chart

import "math"

// Density counts dots in a grid of w columns and h rows, row 0 being the uppermost. Failures are left out, since they
// have no latency to speak of; most is the highest count.
func Density(dots []Dot, w, h int) (counts []int, most int) {
	counts = make([]int, max(w, 0)*max(h, 0))
	if len(counts) == 0 {
		return counts, 0
	}
	for _, d := range dots {
		if d.Failed {
			continue
		}
		x, y := min(int(d.X*float64(w)), w-1), h-1-min(int(d.Y*float64(h)), h-1)
		counts[y*w+x]++
		most = max(most, counts[y*w+x])
	}
	return counts, most
}

// Shades are how many shades tell densities apart.
const Shades = 4

// Shade is that of a count where the densest has most: 0 for none, up to Shades, in equal steps of the logarithm.
func Shade(count, most int) int {
	if count <= 0 {
		return 0
	}
	if most <= 1 {
		return 1
	}
	return 1 + min(int(Shades*math.Log(float64(count))/math.Log(float64(most)+1)), Shades-1)
}
