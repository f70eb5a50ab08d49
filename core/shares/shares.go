// Package shares divides what is counted among several who do it together: shots that are due, clients, rows.
//
// It promises that every number from 0 on belongs to exactly one of them, that any stretch of numbers is divided by
// weight as evenly as whole numbers allow, and that whoever knows the weights divides it in the same way. It is a leaf.
package shares

import "slices"

// MostTurns bounds the weights of a Deal, added up and reduced.
const MostTurns = 1 << 20

// Deal says who has which number. It does not change.
type Deal struct {
	turns  []int32 // who has each number of a cycle
	before [][]int // each one's places in it
}

// NewDeal deals among len(weights) by their weights, which are whole and positive; of sums beyond MostTurns it takes
// each for 1. Within a cycle each one's turns are spread evenly: whoever is owed most comes next.
func NewDeal(weights []int) Deal {
	d := 0
	for _, w := range weights {
		d = divisor(d, w)
	}
	var sum int
	own := make([]int, len(weights))
	for i, w := range weights {
		own[i] = w / max(d, 1)
		sum += own[i]
	}
	if sum > MostTurns || slices.ContainsFunc(own, func(w int) bool { return w < 1 }) {
		for i := range own {
			own[i] = 1
		}
		sum = len(own)
	}
	out := Deal{turns: make([]int32, sum), before: make([][]int, len(own))}
	even := sum == len(own)
	owed := make([]int, len(own))
	for k := range out.turns {
		next := k
		if !even {
			next = mostOwed(owed, own)
			owed[next] -= sum
		}
		out.turns[k] = int32(next)
		out.before[next] = append(out.before[next], k)
	}
	return out
}

// mostOwed gives each its weight and returns whom most is owed then, the first of several.
func mostOwed(owed, weights []int) (at int) {
	for i := range owed {
		owed[i] += weights[i]
		if owed[i] > owed[at] {
			at = i
		}
	}
	return at
}

func divisor(a, b int) int {
	for b != 0 {
		a, b = b, a%b
	}
	return a
}

// Of is who has number n, which is not negative.
func (d Deal) Of(n int) int { return int(d.turns[n%len(d.turns)]) }

// Part is what one of a Deal has; the zero Part is the whole.
type Part struct {
	deal Deal
	who  int
}

// Part is what the one with that place among the weights has.
func (d Deal) Part(who int) Part { return Part{d, who} }

// Whole reports whether the part is all there is.
func (p Part) Whole() bool { return len(p.deal.before) <= 1 }

// Has reports whether number n is of the part.
func (p Part) Has(n int) bool { return p.Whole() || p.deal.Of(n) == p.who }

// Number is the part's j-th number, from 0.
func (p Part) Number(j int) int {
	if p.Whole() {
		return j
	}
	own := p.deal.before[p.who]
	return j/len(own)*len(p.deal.turns) + own[j%len(own)]
}

// Count is how many of the first n numbers are of the part.
func (p Part) Count(n int) int {
	if p.Whole() {
		return n
	}
	own, cycle := p.deal.before[p.who], len(p.deal.turns)
	rest, _ := slices.BinarySearch(own, n%cycle)
	return n/cycle*len(own) + rest
}
