package chart_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"paceduel/core/chart"
	"paceduel/core/judge"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/units"
	"paceduel/internal/golden"
	"paceduel/internal/sample"
)

func TestScalesAreRoundAndHoldEverything(t *testing.T) {
	tests := []struct {
		values []float64
		log    bool
		want   string
	}{
		{[]float64{0.0033, 0.00997}, false, "0 s@0.00 5 ms@0.50 10 ms@1.00"},
		{[]float64{0.012, math.NaN(), 0.0387}, false, "0 s@0.00 10 ms@0.25 20 ms@0.50 30 ms@0.75 40 ms@1.00"},
		{[]float64{0.00026, 0.0099}, true, "200 µs@0.00 500 µs@0.23 1 ms@0.41 2 ms@0.59 5 ms@0.82 10 ms@1.00"},
		{
			[]float64{0.000001, 1}, true,
			"1 µs@0.05 10 µs@0.21 100 µs@0.37 1 ms@0.52 10 ms@0.68 100 ms@0.84 1 s@1.00",
		},
		{[]float64{0.16, 0.17}, true, "20 ms@0.00 50 ms@0.40 100 ms@0.70 200 ms@1.00"},
		{nil, false, "0 s@0.00 500 ms@0.50 1 s@1.00"},
		{[]float64{math.Inf(1), 0, -1, 3}, false, "0 s@0.00 1 s@0.33 2 s@0.67 3 s@1.00"},
	}
	for _, tt := range tests {
		s := chart.NewScale(tt.values, tt.log, units.Seconds)
		var got []string
		for _, tick := range s.Ticks {
			got = append(got, fmt.Sprintf("%s@%.2f", tick.Label, tick.At))
		}
		if strings.Join(got, " ") != tt.want {
			t.Errorf("scale of %v: %s; want %s", tt.values, strings.Join(got, " "), tt.want)
		}
		for _, v := range tt.values {
			if at := s.At(v); v > 0 && !math.IsInf(v, 0) && (at <= 0 || at > 1) {
				t.Errorf("%g lies at %g of its own scale", v, at)
			}
		}
		if s.At(math.NaN()) != 0 || s.At(-1) != 0 || s.At(1e99) != 1 {
			t.Errorf("scale of %v does not hold what is beyond its ends", tt.values)
		}
	}
}

func made(entrants int) *result.Result {
	d := sample.Duel{Rounds: 8, Shots: 600, Clients: 4, Seed: 2}
	for i := range entrants {
		d.Entrants = append(d.Entrants, sample.Entrant{Name: []string{
			"per-vessel", "joined", "snapshot",
		}[i], Latency: sample.Times(0.012/float64(i*i+1), 0.2), Bytes: 100, FailFrac: 0.01 * float64(i)})
	}
	return sample.Make(d)
}

func verdict(t *testing.T, r *result.Result) *judge.Verdict {
	t.Helper()
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	return v
}

func TestLadder(t *testing.T) {
	r := made(3)
	v := verdict(t, r)
	var out strings.Builder
	for _, log := range []bool{false, true} {
		l := chart.NewLadder(r, v, 1, chart.Look{Log: log})
		fmt.Fprintf(&out, "%s\n%s %s | %s %s\n", l.Title, l.Left.Name, l.Left.Sign.Glyph, l.Right.Sign.Glyph, l.Right.Name)
		for _, rung := range l.Rungs {
			fmt.Fprintf(
				&out, "%s: %s %.2f (%.2f to %.2f) | %s %.2f | %s %s, %s; scale %d\n", rung.Label, rung.Left.Text, rung.Left.Length,
				rung.Left.Low, rung.Left.High, rung.Right.Text, rung.Right.Length, rung.Ratio, rung.Interval, rung.Say, rung.Scale,
			)
		}
		fmt.Fprintln(&out, l.Note)
		fmt.Fprintln(&out, strings.Join(l.Conditions, "\n"))
	}
	golden.Check(t, "ladder", out.String())
}

// On a linear scale a bar's length is proportional to its value, whichever side it is on.
func TestBarsAreProportional(t *testing.T) {
	r := made(2)
	v := verdict(t, r)
	l := chart.NewLadder(r, v, 0, chart.Look{All: true})
	for _, rung := range l.Rungs {
		i := slices.IndexFunc(v.Faces[0].Figures, func(a judge.Assessment) bool { return a.Title() == rung.Label })
		a := v.Faces[0].Figures[i]
		ratio := a.Baseline.V / a.Contender.V
		if got := rung.Left.Length / rung.Right.Length; math.Abs(got-ratio) > 1e-9 {
			t.Errorf("%s: lengths stand %g to 1, values %g to 1", a.Figure, got, ratio)
		}
	}
}

func TestLanes(t *testing.T) {
	r := made(2)
	l := chart.NewLanes(r, nil, r.Heats, nil, nil)
	if len(l.Lanes) != 2 || !l.Lanes[0].Baseline || l.Rounds != 8 {
		t.Fatalf("lanes = %+v", l.Lanes)
	}
	failed := 0
	for _, lane := range l.Lanes {
		if len(lane.Dots) < 8*30 {
			t.Errorf("%s has %d dots", lane.Name, len(lane.Dots))
		}
		last := 0.0
		for _, d := range lane.Dots {
			if d.X < last || d.X > 1 || d.Y < 0 || d.Y > 1 {
				t.Fatalf("dot at %g, %g after %g", d.X, d.Y, last)
			}
			last = d.X
			if d.Failed {
				failed++
			}
		}
	}
	if failed == 0 {
		t.Error("no failure is to be seen")
	}
	// The heat under way takes its place among the rounds.
	now := r.Heats[15]
	half := chart.NewLanes(r, nil, r.Heats[:2], &now, nil)
	dots := half.Lanes[1].Dots
	if at := dots[len(dots)-1].X; at < 7.0/8 {
		t.Errorf("the last dot of round 8 lies at %g", at)
	}
	if empty := chart.NewLanes(r, nil, nil, nil, nil); len(empty.Lanes) != 2 || len(empty.Lanes[0].Dots) != 0 {
		t.Errorf("lanes of nothing = %+v", empty)
	}
}

func TestSignsTellContendersApart(t *testing.T) {
	glyphs, colours := map[string]bool{}, map[string]bool{}
	for i := range plan.MaxContenders {
		s := chart.SignOf(i)
		glyphs[s.Glyph], colours[s.Dark], colours[s.Light] = true, true, true
	}
	if len(glyphs) != plan.MaxContenders || len(colours) != 2*plan.MaxContenders {
		t.Errorf("%d glyphs and %d colours for %d contenders", len(glyphs), len(colours), plan.MaxContenders)
	}
}

// A scale that all rungs share would leave stumps of the short ones: each has its own then, and the axis says so.
func TestRungsThatDifferMuchHaveAScaleEach(t *testing.T) {
	far := func(rng *rand.Rand, _ int) float64 {
		if rng.IntN(20) == 0 {
			return 0.2
		}
		return 0.004
	}
	r := sample.Make(sample.Duel{Rounds: 8, Shots: 600, Seed: 5, Entrants: []sample.Entrant{
		{Name: "far", Latency: far}, {Name: "near", Latency: sample.Times(0.002, 0.05)},
	}})
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	l := chart.NewLadder(r, v, 0, chart.Look{})
	for _, rung := range l.Rungs {
		longest := max(rung.Left.Length, rung.Left.High, rung.Right.Length, rung.Right.High)
		if rung.Left.Length > 0 && math.Abs(longest-1) > 1e-9 {
			t.Errorf("the longest of %s fills %.2f of its scale", rung.Label, longest)
		}
	}
	if ticks := l.Scales[0].Ticks; ticks[len(ticks)-1].Label != "longest of each rung" {
		t.Errorf("the axis says %v", ticks)
	}
	tracks := chart.NewTracks(r, v, chart.Look{})
	for _, track := range tracks.Figures {
		longest := 0.0
		for _, lane := range track.Lanes {
			longest = max(longest, lane.Length)
		}
		if longest > 0 && longest < 0.5 {
			t.Errorf("the longest of %s fills %.2f of its scale", track.Label, longest)
		}
	}
	if l := chart.NewLadder(r, v, 0, chart.Look{Log: true}); l.Scales[0].Ticks[0].Label == "0" {
		t.Error("a logarithmic scale begins at 0")
	}
}
