package result

// Backlog is how many shots of a heat were under way at a time.
type Backlog struct {
	Most int64 `json:"most"`
	// Over is an even choice over time: when a shot began, in nanoseconds from the heat's judged begin on, and how many
	// were under way then, itself included.
	Over [][2]int64 `json:"over,omitempty"`
}

// Grows reports whether it grew until the end: in the last quarter of the heat half as many more were under way as in
// the second, and more than a few.
func (b *Backlog) Grows() bool {
	const fewest, least = 16, 3
	n := len(b.Over)
	if n < fewest {
		return false
	}
	mean := func(list [][2]int64) (sum float64) {
		for _, at := range list {
			sum += float64(at[1])
		}
		return sum / float64(len(list))
	}
	before, after := mean(b.Over[n/4:n/2]), mean(b.Over[n-n/4:])
	return after > before*3/2 && after > before+least
}
