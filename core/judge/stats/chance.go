package stats

import "gonum.org/v1/gonum/stat/distuv"

// Chance is the 95 % interval of the chance of an event that came in k of n trials: C. J. Clopper and E. S. Pearson,
// "The use of confidence or fiducial limits illustrated in the case of the binomial", Biometrika 26 (1934) 404. Where
// it never came, or always, all five per cent lie on the one side that is left: never in n trials means at most 1 -
// 0.05^(1/n). Without a trial it may be anything.
func Chance(k, n int) (interval [2]float64) {
	const error = 0.05
	switch {
	case n <= 0:
		return [2]float64{0, 1}
	case k <= 0:
		return [2]float64{0, distuv.Beta{Alpha: 1, Beta: float64(n)}.Quantile(1 - error)}
	case k >= n:
		return [2]float64{distuv.Beta{Alpha: float64(n), Beta: 1}.Quantile(error), 1}
	}
	return [2]float64{
		distuv.Beta{Alpha: float64(k), Beta: float64(n - k + 1)}.Quantile(error / 2),
		distuv.Beta{Alpha: float64(k + 1), Beta: float64(n - k)}.Quantile(1 - error/2),
	}
}
