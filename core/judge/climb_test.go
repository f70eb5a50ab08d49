package judge_test

import (
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"paceduel/core/figure"
	"paceduel/core/judge"
	"paceduel/core/result"
	"paceduel/core/tally"
	"paceduel/internal/sample"
)

// climb adds to a made-up duel what queues with one server would answer on a climb: at a rate of λ and a capacity of μ
// a second, times in such a queue are exponential with mean 1/(μ-λ), so that the p99 is ln(100)/(μ-λ) (M/M/1). Above
// its capacity a step loses shots. disturbed steps are ten times as slow in one heat of four.
func climb(
	t *testing.T, r *result.Result, levels []float64, under time.Duration, capacity map[string]float64, disturbed bool,
) {
	t.Helper()
	rng := rand.New(rand.NewPCG(1, 2))
	r.Plan.Pace = result.Pace{
		Rate: levels[len(levels)-1], Climb: &result.Climb{Levels: levels, Open: true, Under: under, At: figure.P99},
	}
	for i := range r.Heats {
		h := &r.Heats[i]
		for k, rate := range levels {
			histogram := tally.NewHistogram()
			step := result.Step{}
			free := capacity[h.Contender] - rate
			for range int(rate) {
				switch x := rng.ExpFloat64() / free; {
				case free <= 0:
					step.Unsent++
				case disturbed && k == 1 && i%4 == 0:
					x *= 10
					fallthrough
				default:
					histogram.RecordValue(int64(x * 1e9))
					step.OK++
				}
			}
			text, err := result.EncodeHistogram(histogram)
			if err != nil {
				t.Fatal(err)
			}
			step.Latencies = text
			h.Steps = append(h.Steps, step)
		}
	}
}

// The load that is held is the one that the queue's formula gives: μ - ln(100)/limit.
func TestALimitIsFoundOnAClimb(t *testing.T) {
	long(t)
	var levels []float64
	for rate := 500.0; rate < 4000; rate *= 1.12 {
		levels = append(levels, rate)
	}
	for _, disturbed := range []bool{false, true} {
		r := sample.Make(duel(sample.Times(0.01, 0.1), sample.Times(0.01, 0.1), 10, 20))
		climb(t, r, levels, 20*time.Millisecond, map[string]float64{"per-vessel": 1000, "joined": 3000}, disturbed)
		v := weigh(t, r)
		a := figureIn(t, v, figure.Holds)
		for _, side := range []struct{ got, want float64 }{
			{a.Baseline.V, 1000 - math.Log(100)/0.02}, {a.Contender.V, 3000 - math.Log(100)/0.02},
		} {
			if math.Abs(side.got/side.want-1) > 0.03 {
				t.Errorf("disturbed %v: held %g; the formula gives %g", disturbed, side.got, side.want)
			}
		}
		if want := 2769.7 / 769.7; a.Word != judge.Better || a.Low > want*1.02 || a.High < want*0.98 ||
			a.Ratio < want*0.95 ||
			a.Ratio > want*1.05 {
			t.Errorf("disturbed %v: %s %g (%g to %g); want %g", disturbed, a.Word, a.Ratio, a.Low, a.High, want)
		}
		for _, part := range []string{"joined holds 2 7", "/s under 20.0 ms at p99; per-vessel holds 7", "more load ("} {
			if !strings.Contains(v.Sentence, part) {
				t.Errorf("sentence %q; want %q in it", v.Sentence, part)
			}
		}
		if rows := len(v.Scorecard); rows < len(levels) {
			t.Errorf("%d rows for %d levels", rows, len(levels))
		}
	}
}

func TestTheEndsOfAClimbAreSaid(t *testing.T) {
	long(t)
	r := sample.Make(duel(sample.Times(0.01, 0.1), sample.Times(0.01, 0.1), 8, 20))
	climb(t, r, []float64{1000, 1500, 2000}, 20*time.Millisecond, map[string]float64{
		"per-vessel": 1100, "joined": 9000,
	}, false)
	v := weigh(t, r)
	for _, part := range []string{
		"joined holds 2 000/s (the highest that was tried) under", "per-vessel does not even hold 1 000/s",
	} {
		if !strings.Contains(v.Sentence, part) {
			t.Errorf("sentence %q; want %q in it", v.Sentence, part)
		}
	}
	said := ""
	for _, c := range v.Cautions {
		said += c.What + "; " + c.Try + "\n"
	}
	if !strings.Contains(said, "held the highest level, 2 000/s, in 8 of 8 heats") ||
		!strings.Contains(said, "lower from:") {
		t.Errorf("cautions:\n%s", said)
	}
	// A level of few shots bears nothing out.
	r = sample.Make(duel(sample.Times(0.01, 0.1), sample.Times(0.01, 0.1), 8, 20))
	climb(t, r, []float64{100, 200}, 2*time.Second, map[string]float64{"per-vessel": 300, "joined": 900}, false)
	if v := weigh(t, r); !strings.Contains(v.Sentence, "p99 needs 500") {
		t.Errorf("sentence %q", v.Sentence)
	}
}

// What is known is told by the width of the interval alone.
func TestKnown(t *testing.T) {
	alike := sample.Make(duel(sample.Times(0.010, 0.05), sample.Times(0.010, 0.05), 12, 2000))
	for within, want := range map[float64]bool{0.05: true, 0.00001: false} {
		if known, width, err := judge.Known(alike, figure.P50, within); err != nil || known != want || width <= 0 ||
			width > 0.05 {
			t.Errorf("within %g: %v at a width of %g, %v; want %v", within, known, width, err, want)
		}
	}
	few := sample.Make(duel(sample.Times(0.010, 0.05), sample.Times(0.010, 0.05), 4, 2000))
	if known, _, err := judge.Known(few, figure.P50, 1); err != nil || known {
		t.Errorf("known %v after 4 rounds, %v", known, err)
	}
	short := sample.Make(duel(sample.Times(0.010, 0.05), sample.Times(0.010, 0.05), 12, 20))
	if known, _, err := judge.Known(short, figure.P99, 1); err != nil || known {
		t.Errorf("a p99 of heats of 160 shots is known: %v, %v", known, err)
	}
}
