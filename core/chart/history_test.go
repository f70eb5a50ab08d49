package chart_test

import (
	"math"
	"strings"
	"testing"
	"time"

	"paceduel/core/chart"
	"paceduel/core/figure"
	"paceduel/core/history"
	"paceduel/core/judge"
	"paceduel/core/logbook"
)

func TestRunsStandAlongTheLine(t *testing.T) {
	began := time.Date(2031, 3, 9, 6, 40, 0, 0, time.UTC)
	stands := map[string]*history.Stand{}
	var entries []logbook.Entry
	for i, times := range []float64{4, 4.1, 2, 0} {
		id := string(rune('a' + i))
		entries = append(entries, logbook.Entry{ID: id, Started: began.Add(time.Duration(i) * 20 * time.Hour)})
		s := &history.Stand{Plan: "x", Kernel: "6.1", Agents: map[string]string{}, Interest: 0.01}
		if i == 2 {
			s.Plan, s.Kernel, s.Agents = "y", "6.2", map[string]string{"quay-1": "6.1"}
		}
		if times > 0 {
			s.Ratios = []history.Ratio{{Contender: "joined", Figure: figure.P50, Times: times, Low: times * 0.95,
				High: times * 1.05}}
		}
		stands[id] = s
	}
	h := chart.NewHistory(history.LineOf("Berth board", entries,
		func(e *logbook.Entry) *history.Stand { return stands[e.ID] }))
	if len(h.Runs) != 4 || len(h.Lanes) != 1 || len(h.Lanes[0].Dots) != 3 {
		t.Fatalf("%+v", h)
	}
	lane := h.Lanes[0]
	if h.Runs[2].Marks != "pka" || h.Runs[1].Marks != "" || h.Runs[1].Day == h.Runs[2].Day {
		t.Errorf("runs %+v", h.Runs)
	}
	if !lane.Dots[2].Shifts || lane.Dots[1].Shifts {
		t.Errorf("%+v", lane.Dots)
	}
	if d := lane.Dots[2]; !(d.Low < d.Y && d.Y < d.High && d.High < lane.Dots[0].Low) || lane.One > 0 {
		t.Errorf("%+v, the baseline at %v", lane.Dots, lane.One)
	}
	if !strings.Contains(lane.Says, "fell from 4") {
		t.Errorf("%q", lane.Says)
	}
}

// In a pair better is to the right of the middle, and what is not known stands nowhere.
func TestAPairStandsAboutNoChange(t *testing.T) {
	p := &judge.Pairing{Bridge: "tiled", Figures: []judge.Paired{
		{Assessment: judge.Assessment{Figure: figure.P50, Ratio: 2, Low: 1.8, High: 2.2, Word: judge.Better}},
		{Assessment: judge.Assessment{Figure: figure.P99, Ratio: 0.9, Low: 0.7, High: 1.1, Word: judge.Open}},
		{Assessment: judge.Assessment{
			Figure: figure.Mean, Ratio: math.NaN(), Low: math.NaN(), High: math.NaN(), Word: judge.TooFew,
		}},
	}}
	f := chart.NewFaceOff(p)
	if r := f.Rows[0]; !(r.Low > 0.5 && r.High == 1) || !r.Sure || r.Says != "2.0x faster" {
		t.Errorf("%+v", r)
	}
	if r := f.Rows[1]; !(r.Low < 0.5 && r.High > 0.5) || r.Sure || r.Says != "still open" {
		t.Errorf("%+v", r)
	}
	if r := f.Rows[2]; !math.IsNaN(r.Ratio) || !math.IsNaN(r.Low) {
		t.Errorf("%+v", r)
	}
}
