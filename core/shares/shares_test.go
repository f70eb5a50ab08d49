package shares

import (
	"math/rand/v2"
	"testing"
)

func TestEveryNumberHasOneOwner(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	for range 200 {
		weights := make([]int, 1+rng.IntN(12))
		sum := 0
		for i := range weights {
			weights[i] = 1 + rng.IntN(9)
			sum += weights[i]
		}
		d := NewDeal(weights)
		next := make([]int, len(weights))
		for n := range 3*sum + 5 {
			who := d.Of(n)
			for i := range weights {
				p := d.Part(i)
				if p.Has(n) != (i == who) {
					t.Fatalf("weights %v: part %d has number %d = %v; it belongs to %d", weights, i, n, p.Has(n), who)
				}
				if got := p.Count(n); got != next[i] {
					t.Fatalf("weights %v: part %d counts %d of the first %d; want %d", weights, i, got, n, next[i])
				}
				// as even as whole numbers allow, at any moment
				owed := float64(n) * float64(weights[i]) / float64(sum)
				if off := float64(next[i]) - owed; off > 1.0001*float64(len(weights)) || off < -1.0001*float64(len(weights)) {
					t.Fatalf("weights %v: part %d has %d of the first %d, %.1f are its own", weights, i, next[i], n, owed)
				}
			}
			if got := d.Part(who).Number(next[who]); got != n {
				t.Fatalf("weights %v: number %d of part %d is %d; want %d", weights, next[who], who, got, n)
			}
			next[who]++
		}
	}
}

func TestWholeNumbersAreSharedToTheLast(t *testing.T) {
	tests := []struct {
		weights []int
		n       int
		want    []int
	}{
		{[]int{1}, 7, []int{7}},
		{[]int{1, 1, 1}, 10, []int{4, 3, 3}},
		{[]int{2, 2}, 5, []int{3, 2}},
		{[]int{3, 1}, 8, []int{6, 2}},
		{[]int{3, 1}, 0, []int{0, 0}},
		{[]int{MostTurns, 1}, 4, []int{2, 2}},
		{[]int{0, 1}, 4, []int{2, 2}},
	}
	for _, tt := range tests {
		d := NewDeal(tt.weights)
		for i, want := range tt.want {
			if got := d.Part(i).Count(tt.n); got != want {
				t.Errorf("weights %v: part %d of %d = %d; want %d", tt.weights, i, tt.n, got, want)
			}
		}
	}
	var whole Part
	if whole.Count(9) != 9 || whole.Number(4) != 4 || !whole.Has(3) || !whole.Whole() {
		t.Error("the zero part is not the whole")
	}
}
