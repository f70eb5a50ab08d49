package curve_test

import (
	"math"
	"math/rand/v2"
	"testing"

	"paceduel/core/judge/curve"
)

var points = []float64{1, 2, 4, 8, 16, 32}

// line is a line of these true values, of so many rounds with a little noise.
func line(rounds int, noise float64, more bool, truth func(x float64) float64) *curve.Line {
	rng := rand.New(rand.NewPCG(3, 4))
	l := &curve.Line{X: points, Log: true, More: more}
	for _, x := range points {
		var values []float64
		for range rounds {
			values = append(values, truth(x)*math.Exp(noise*rng.NormFloat64()))
		}
		l.Values = append(l.Values, values)
	}
	return l
}

// holds reports whether an interval holds a true value, or is beside it by a hair: one of twenty is.
func holds(a curve.Amount, x float64) bool { return a.Low*0.99 <= x && x <= a.High*1.01 }

func TestLawsAreFound(t *testing.T) {
	tests := []struct {
		name   string
		kind   curve.Kind
		grows  curve.Grows
		more   bool
		params []float64
		peak   float64 // NaN: the law has none
	}{
		{"steady", curve.Steady, curve.Things, false, []float64{3}, math.NaN()},
		{"a part for each", curve.Each, curve.Things, false, []float64{4, 0.5}, math.NaN()},
		{"a power", curve.Power, curve.Things, false, []float64{2, 1.5}, math.NaN()},
		{"throughput", curve.Scaling, curve.AtOnce, true, []float64{1000, 0.08, 0.004}, math.Sqrt(0.92 / 0.004)},
		{"shared work", curve.Shared, curve.AtOnce, false, []float64{2, 0.1, 0.003}, math.Sqrt(0.9 / 0.003)},
		{"work of their own", curve.Crowded, curve.AtOnce, false, []float64{1, 0.3, 0.02}, math.NaN()},
		{"straight over threads", curve.Each, curve.AtOnce, false, []float64{4, 0.5}, math.NaN()},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			truth := func(x float64) float64 { return curve.Value(tt.kind, tt.params, x) }
			law := line(10, 0.005, tt.more, truth).Fit(tt.grows)
			if law == nil || law.Kind != tt.kind {
				t.Fatalf("found %+v; want %s", law, tt.kind)
			}
			for i, p := range law.Params {
				if name := tt.kind.Params()[i]; math.Abs(p.V-tt.params[i]) > 0.1*math.Abs(tt.params[i])+0.002 || !p.Sure() {
					t.Errorf("%s is %+v; want %g", name, p, tt.params[i])
				}
			}
			if law.Peak.Known() == math.IsNaN(tt.peak) || !math.IsNaN(tt.peak) && !holds(law.Peak, tt.peak) {
				t.Errorf("the peak is %+v; want %g", law.Peak, tt.peak)
			}
			near, far := law.At(8), law.At(512)
			if !holds(near, truth(8)) || !holds(far, truth(512)) {
				t.Errorf("at 8 %+v, at 512 %+v; want %g and %g", near, far, truth(8), truth(512))
			}
			if far.High/far.Low < near.High/near.Low {
				t.Errorf("beyond what was measured the law is known better: %+v, %+v", near, far)
			}
		})
	}
}

func TestNoLawIsNamedWhereNoneFits(t *testing.T) {
	saw := func(x float64) float64 { return []float64{1, 5, 1, 6, 2, 9}[int(math.Round(math.Log2(x)))] }
	if law := line(10, 0.01, false, saw).Fit(curve.Things); law != nil {
		t.Errorf("a saw is %s", law.Kind)
	}
	if law := line(3, 0.01, false, func(x float64) float64 { return x }).Fit(curve.Things); law != nil {
		t.Errorf("of three rounds: %s", law.Kind)
	}
	short := line(10, 0.01, false, func(x float64) float64 { return x })
	short.X, short.Values = short.X[:2], short.Values[:2]
	if law := short.Fit(curve.Things); law != nil {
		t.Errorf("of two points: %s", law.Kind)
	}
}

// A disturbed heat pulls no law after it.
func TestALawWithADisturbedHeat(t *testing.T) {
	truth := func(x float64) float64 { return 4 + 0.5*x }
	l := line(10, 0.005, false, truth)
	l.Values[5][2] *= 4
	l.Values[0][7] *= 4
	law := l.Fit(curve.Things)
	if law == nil || law.Kind != curve.Each || math.Abs(law.Params[1].V-0.5) > 0.02 {
		t.Errorf("found %+v", law)
	}
}

func TestWhereTheOrderTurns(t *testing.T) {
	grow := func(at, power float64) func(float64) float64 {
		return func(x float64) float64 { return math.Pow(x/at, power) }
	}
	growing, flat := line(10, 0.02, false, grow(5, 0.5)), line(10, 0.021, false, grow(5, 0))
	both := []*curve.Line{growing, flat}
	places := curve.Places(both, 0.02)
	turns := curve.Turns(both, nil, places)
	if len(turns) != 1 || turns[0].From != 0 || turns[0].To != 1 || !holds(turns[0].At, 5) {
		t.Fatalf("turns %+v; want one at 5", turns)
	}
	if width := turns[0].At.High / turns[0].At.Low; width > 1.3 {
		t.Errorf("the turn is known within %+v only", turns[0].At)
	}
	for i, at := range places {
		if want := i / 3; at.Leader != want || at.Standing != curve.Ahead {
			t.Errorf("at %g %+v; want line %d ahead", points[i], at, want)
		}
	}
	if by := places[5].By; !holds(by, math.Pow(32.0/5, 0.5)) {
		t.Errorf("at 32 the next is off by %+v", by)
	}
	// what is more is better, the other way round
	growing.More, flat.More = true, true
	if turns := curve.Turns(both, nil, curve.Places(both, 0.02)); len(turns) != 1 || turns[0].From != 1 {
		t.Errorf("turns %+v; want the growing one to take over", turns)
	}
}

func TestEqualsHaveNoTurn(t *testing.T) {
	same := func(x float64) float64 { return x }
	a, b := line(12, 0.002, false, same), line(12, 0.002, false, same)
	for p := range b.Values {
		for r := range b.Values[p] {
			b.Values[p][r] *= 1 + 0.001*float64(r%3-1)
		}
	}
	both := []*curve.Line{a, b}
	places := curve.Places(both, 0.02)
	for i, at := range places {
		if at.Standing != curve.Even || len(at.Equals) != 2 {
			t.Errorf("at %g %+v; want both even", points[i], at)
		}
	}
	if turns := curve.Turns(both, nil, places); len(turns) > 0 {
		t.Errorf("turns %+v", turns)
	}
}

func TestTooFewRoundsSettleNothing(t *testing.T) {
	a := line(5, 0.01, false, func(float64) float64 { return 1 })
	b := line(5, 0.01, false, func(float64) float64 { return 9 })
	for _, at := range curve.Places([]*curve.Line{a, b}, 0.02) {
		if at.Standing != curve.Open || at.Leader != 0 {
			t.Errorf("%+v", at)
		}
	}
}

func TestTheBestValueAndTheKnee(t *testing.T) {
	tests := []struct {
		name   string
		values []float64
		best   int
		alone  bool
		knee   int // -1: none
	}{
		{"a sweet spot", []float64{9, 5, 2, 3, 5, 8}, 2, true, 2},
		{"flat from the third on", []float64{9, 5, 2, 2, 2, 2}, 2, false, 2},
		{"a shelf on the way down", []float64{9, 5, 5, 5, 2, 2}, 4, false, 4},
		{"a shelf, and then ever better", []float64{9, 5, 5, 3, 2, 1}, 5, true, -1},
		{"ever better", []float64{64, 32, 16, 8, 4, 2}, 5, true, -1},
		{"ever worse", []float64{1, 2, 3, 4, 5, 6}, 0, true, -1},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			l := line(12, 0.004, false, func(x float64) float64 { return tt.values[int(math.Round(math.Log2(x)))] })
			b := l.FindBest()
			if tt.alone && (b.Point != tt.best || !b.Alone()) || !tt.alone && b.Alone() {
				t.Errorf("best %+v; want %d", b, tt.best)
			}
			knee, ok := l.Knee(0.05)
			if ok != (tt.knee >= 0) || ok && knee != tt.knee {
				t.Errorf("knee %d, %v; want %d", knee, ok, tt.knee)
			}
		})
	}
}

// Points that were added later have rounds of their own; what both have decides, and laws are those of complete rounds.
func TestPointsThatCameLater(t *testing.T) {
	truth := func(x float64) float64 { return 4 + 0.5*x }
	l := line(12, 0.005, false, truth)
	for r := range 6 {
		l.Values[2][r] = math.NaN() // the third point was added after six rounds
	}
	if law := l.Fit(curve.Things); law == nil || law.Kind != curve.Each {
		t.Errorf("with six complete rounds: %+v", law)
	}
	for p := range l.Values {
		for r := 6; p != 2 && r < 12; r++ {
			l.Values[p][r] = math.NaN() // it has caught up, and no round has all of them
		}
	}
	if law := l.Fit(curve.Things); law == nil || law.Kind != curve.Each {
		t.Errorf("without a complete round: %+v", law)
	}
	flat := line(12, 0.005, false, func(float64) float64 { return 6.5 })
	for p := range flat.Values {
		for r := range flat.Values[p] {
			if math.IsNaN(l.Values[p][r]) {
				flat.Values[p][r] = math.NaN()
			}
		}
	}
	both := []*curve.Line{l, flat}
	turns := curve.Turns(both, nil, curve.Places(both, 0.01))
	if len(turns) > 1 || len(turns) == 1 && !holds(turns[0].At, 5) {
		t.Errorf("turns %+v; want one about 5 at most", turns)
	}
}

// Between points that lie far apart a straight line says less than the laws that both follow.
func TestWhereLawsMeet(t *testing.T) {
	a := line(10, 0.002, false, func(x float64) float64 { return 1 + x })
	b := line(10, 0.0021, false, func(float64) float64 { return 11 })
	both := []*curve.Line{a, b}
	places := curve.Places(both, 0.02)
	straight := curve.Turns(both, nil, places)
	laws := []*curve.Law{a.Fit(curve.Things), b.Fit(curve.Things)}
	met := curve.Turns(both, laws, places)
	if len(straight) != 1 || len(met) != 1 || !holds(met[0].At, 10) || math.Abs(met[0].At.V-10) > 0.2 {
		t.Fatalf("straight %+v, by laws %+v; want 10", straight, met)
	}
	if math.Abs(straight[0].At.V-10) < math.Abs(met[0].At.V-10) {
		t.Errorf("straight lines %+v are nearer than laws %+v", straight[0].At, met[0].At)
	}
	if got := curve.Turns(both, []*curve.Law{laws[0], nil}, places); got[0].At != straight[0].At {
		t.Errorf("with one law %+v; want %+v", got[0].At, straight[0].At)
	}
}
