package quantile_test

import (
	"math/big"
	"testing"

	"paceduel/core/quantile"
)

func TestRank(t *testing.T) {
	for _, tt := range []struct {
		q       float64
		n, want int64
	}{
		{0, 10, 1}, {1, 10, 10}, {0.5, 1, 1}, {0.5, 2, 1}, {0.5, 3, 2}, {0.5, 4, 2},
		{0.9, 249, 225}, {0.9, 250, 225}, {0.9, 251, 226}, {0.99, 100, 99}, {0.99, 101, 100}, {0.999, 100, 100},
		{0.07, 100, 7}, {0.29, 100, 29}, {0.999, 1_000_000_000, 999_000_000},
	} {
		if got := quantile.Rank(tt.q, tt.n); got != tt.want {
			t.Errorf("quantile %g of %d values has rank %d; want %d", tt.q, tt.n, got, tt.want)
		}
	}
}

// No share of whole numbers is off for how floating point rounds it.
func TestRankIsExact(t *testing.T) {
	for thousandths := int64(0); thousandths <= 1000; thousandths++ {
		q := float64(thousandths) / 1000
		for _, n := range []int64{1, 2, 7, 99, 100, 250, 999, 1000, 12_345, 10_000_000, 999_999_999} {
			share := new(big.Int).Mul(big.NewInt(thousandths), big.NewInt(n))
			want, rest := new(big.Int).QuoRem(share, big.NewInt(1000), new(big.Int))
			rank := want.Int64()
			if rest.Sign() > 0 {
				rank++
			}
			if got := quantile.Rank(q, n); got != max(rank, 1) {
				t.Errorf("quantile %g of %d values has rank %d; want %d", q, n, got, max(rank, 1))
			}
		}
	}
}
