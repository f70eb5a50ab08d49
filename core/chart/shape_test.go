package chart_test

import (
	"math"
	"strings"
	"testing"

	"paceduel/core/cell"
	"paceduel/core/chart"
	"paceduel/core/judge"
	"paceduel/core/units"
)

func shape(t *testing.T, n int, log bool, part chart.Stretched) (*chart.Shape, *judge.Verdict) {
	t.Helper()
	r := made(n)
	v := verdict(t, r)
	var keys []cell.Cell
	for _, e := range r.Entrants {
		keys = append(keys, cell.Of(e.Name, ""))
	}
	return chart.NewShape(r, v, keys, log, part), v
}

// Every shot of a side lies in one bin of the whole scale, and curves say how many lie up to where.
func TestBinsAndCurvesCountEveryShot(t *testing.T) {
	for _, log := range []bool{false, true} {
		s, _ := shape(t, 2, log, chart.Stretched{})
		for i, bins := range s.Bins(37) {
			most, sum := 0.0, 0.0
			for _, b := range bins {
				most, sum = max(most, b), sum+b
			}
			if sum == 0 || most > 1 {
				t.Errorf("side %d: bins sum up to %g, the fullest is %g", i, sum, most)
			}
			upTo, beyond := s.Curve(i, 50)
			for k := 1; k < len(upTo); k++ {
				if upTo[k] < upTo[k-1]-1e-12 {
					t.Errorf("side %d: the curve falls at %d", i, k)
				}
			}
			if upTo[49] != 1 || beyond[49] >= 0 || upTo[0] >= 0.5 {
				t.Errorf("side %d: the curve goes from %g to %g, %g beyond", i, upTo[0], upTo[49], beyond[49])
			}
		}
		full := 0.0
		for _, bins := range s.Bins(37) {
			for _, b := range bins {
				full = max(full, b)
			}
		}
		if full != 1 {
			t.Errorf("the fullest bin of all is %g", full)
		}
	}
}

func TestMarksAndReadingOff(t *testing.T) {
	s, v := shape(t, 2, true, chart.Stretched{})
	for i := range s.Sides {
		side := &s.Sides[i]
		l := v.Latencies[cell.Of(side.Name, "")]
		for _, m := range side.Marks {
			if x := l.Quantile(m.Q); math.Abs(s.Scale.Value(m.At)/x-1) > 1e-9 || m.Text != units.Seconds(x) {
				t.Errorf("%s of %s lies at %g", m.Label, side.Name, m.At)
			}
			latency, each := s.ReadOff(m.At)
			if latency != m.Text || !strings.HasSuffix(each[i], " longer") || m.Q == 0.5 && !strings.HasPrefix(each[i], "50") {
				t.Errorf("at %s of %s one reads %s: %q", m.Label, side.Name, latency, each[i])
			}
		}
		if n := len(side.Marks); n < 2 {
			t.Errorf("%s has %d marks", side.Name, n)
		}
	}
	if !strings.HasPrefix(s.Sentence, "Half of the shots take up to 1") ||
		!strings.Contains(s.Sentence, " of them up to ") {
		t.Errorf("%q", s.Sentence)
	}
}

func TestPartsOfAScale(t *testing.T) {
	var part chart.Stretched
	part = part.Zoom(0.5, 0.5)
	if part != (chart.Stretched{From: 0.25, To: 0.75}) {
		t.Errorf("half of it about the middle is %+v", part)
	}
	if at := part.Zoom(0.5, 1); at != (chart.Stretched{From: 0.5, To: 0.75}) {
		t.Errorf("about the end: %+v", at)
	}
	if at := part.Zoom(2, 0.1).Zoom(2, 0); at != (chart.Stretched{}) {
		t.Errorf("out again: %+v", at)
	}
	for range 40 {
		part = part.Zoom(0.5, 0.3)
	}
	if length := part.To - part.From; length < 0.0099 || part.From < 0 || part.To > 1 {
		t.Errorf("as near as it goes: %+v", part)
	}
	whole, _ := shape(t, 2, true, chart.Stretched{})
	near, _ := shape(t, 2, true, chart.Stretched{From: 0.4, To: 0.6})
	if math.Abs(near.Scale.Min/whole.Scale.Value(0.4)-1) > 1e-9 ||
		math.Abs(near.Scale.Max/whole.Scale.Value(0.6)-1) > 1e-9 || len(near.Scale.Ticks) == 0 {
		t.Errorf(
			"a part of %g to %g is %g to %g with %d ticks", whole.Scale.Min, whole.Scale.Max, near.Scale.Min, near.Scale.Max,
			len(near.Scale.Ticks),
		)
	}
}

// Lanes are to one scale within a figure, and tell ratios against the baseline alone.
func TestTracks(t *testing.T) {
	r := made(3)
	v := verdict(t, r)
	tracks := chart.NewTracks(r, v, chart.Look{})
	all := chart.NewTracks(r, v, chart.Look{All: true})
	if len(tracks.Figures) == 0 || len(all.Figures) <= len(tracks.Figures) {
		t.Fatalf("%d figures, %d in all", len(tracks.Figures), len(all.Figures))
	}
	for _, f := range tracks.Figures {
		if len(f.Lanes) != 3 || !f.Lanes[0].Baseline || f.Lanes[0].Ratio != "" || f.Lanes[1].Baseline {
			t.Errorf("%s: lanes %+v", f.Label, f.Lanes)
		}
	}
}

// A ratio leans to the side that is better, and 1 is in the middle.
func TestLeans(t *testing.T) {
	r := made(2)
	v := verdict(t, r)
	for i, rung := range chart.NewLadder(r, v, 0, chart.Look{}).Rungs {
		a := v.Faces[0].Figures[i]
		if math.IsNaN(a.Ratio) {
			continue
		}
		if (rung.Lean.At > 0.5) != (a.Ratio > 1) || rung.Lean.Low > rung.Lean.At || rung.Lean.High < rung.Lean.At ||
			!math.IsNaN(rung.Lean.NoiseLow) {
			t.Errorf("%s: a ratio of %g leans %+v", rung.Label, a.Ratio, rung.Lean)
		}
	}
}
