package weighin

import "github.com/aymanbagabas/go-udiff/lcs"

// Pair is two lines that belong beside each other: the same line of both texts, a line and what stands in its place, or
// a line that only one of them has.
type Pair struct {
	Left, Right int // their numbers in each text, from 0; -1 where there is none
	Same        bool
}

// Pairs puts the lines of two texts beside each other, so that a line that only one of them has leaves those behind it
// at their partners' sides. Where the two have little in common, what differs stands beside what differs in order.
func Pairs(left, right []string) (pairs []Pair) {
	l, r := 0, 0
	alike := func(end int) {
		for ; l < end; l, r = l+1, r+1 {
			pairs = append(pairs, Pair{l, r, true})
		}
	}
	for _, d := range lcs.DiffLines(left, right) {
		alike(d.Start)
		for ; l < d.End || r < d.ReplEnd; l, r = l+1, r+1 {
			p := Pair{Left: -1, Right: -1}
			if l < d.End {
				p.Left = l
			}
			if r < d.ReplEnd {
				p.Right = r
			}
			pairs = append(pairs, p)
		}
		l, r = d.End, d.ReplEnd
	}
	alike(len(left))
	return pairs
}
