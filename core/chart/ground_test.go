package chart_test

import (
	"fmt"
	"math"
	"strings"
	"testing"
	"time"

	"paceduel/core/cell"
	"paceduel/core/chart"
	"paceduel/core/footing"
	"paceduel/core/result"
)

// step is a step of a made-up footing.
func step(contender, state, when, what string) result.Cost {
	return result.Cost{Contender: contender, State: state, When: when, What: what}
}

// grounded is a run of two contenders, cold and warm, one of which has a store of its own.
func grounded() *result.Result {
	r := &result.Result{
		Plan: result.Plan{Baseline: "plain"}, Entrants: []result.Entrant{{Name: "plain"}, {Name: "remembering"}},
	}
	r.Footing.States = []string{"cold", "warm"}
	for _, who := range []string{"plain", "remembering"} {
		for _, state := range r.Footing.States {
			r.Footing.Steps = append(
				r.Footing.Steps, step(who, state, "duel", "first copy"), step(who, state, "run", "fresh copy"),
			)
			if who == "remembering" && state == "cold" {
				r.Footing.Steps = append(r.Footing.Steps, step(who, state, "run", "empty .store"))
			}
			r.Footing.Steps = append(
				r.Footing.Steps, step(who, state, footing.Timed, "tidy"), step(who, state, "after heat", "sync"),
			)
		}
	}
	cost := func(c result.Cost, times int64, took time.Duration, said string) result.Cost {
		c.Times, c.Took, c.Said = times, took, said
		return c
	}
	r.Footing.Costs = []result.Cost{cost(step("plain", "", "duel", "first copy"), 1, 4*time.Millisecond, "")}
	r.Heats = []result.Heat{
		{Cell: cell.Of("plain", "cold"), LatencySum: time.Second, Costs: []result.Cost{
			cost(step("plain", "cold", "run", "fresh copy"), 4, 8*time.Millisecond, "3 files"),
		}},
		{Cell: cell.Of("plain", "cold"), LatencySum: time.Second, Costs: []result.Cost{
			cost(step("plain", "cold", "run", "fresh copy"), 4, 16*time.Millisecond, "4 files"),
		}},
		{Cell: cell.Of("remembering", "cold"), LatencySum: time.Second, Costs: []result.Cost{
			cost(step("remembering", "cold", "run", "empty .store"), 2, time.Millisecond, ""),
		}},
	}
	return r
}

func TestTheFootingIsArrangedFromTheOutsideIn(t *testing.T) {
	r := grounded()
	g := chart.NewGround(r, r.Heats)
	var got []string
	for _, row := range g.Rows {
		cells := ""
		for _, c := range row.Cells {
			switch {
			case !c.Has:
				cells += " ."
			default:
				cells += " " + c.Each
			}
		}
		got = append(got, fmt.Sprintf("%d %s %v %v %s:%s", row.Depth, row.Level, row.After, row.Timed, row.What, cells))
	}
	want := []string{
		"0 duel false false first copy: 4.00 ms 4.00 ms – –",
		"3 run false false fresh copy: 3.00 ms – – –",
		"3 run false false empty .store: . . 500 µs .",
		"3 run false true the run itself: – – – –",
		"2 heat true false sync: – – – –",
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("rows\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if len(g.Columns) != 4 || g.Columns[3].Name != "remembering" || g.Columns[3].State != "warm" ||
		!g.Columns[0].Baseline {
		t.Errorf("columns %+v", g.Columns)
	}
	if g.Timed != "3.00 s" || g.Aside != "29.0 ms" || g.Bare() {
		t.Errorf("timed %s, aside %s, bare %v", g.Timed, g.Aside, g.Bare())
	}
	if said := g.Rows[1].Cells[0].Said; said != "4 files" {
		t.Errorf("the latest copy said %q", said)
	}
}

func TestChangesInWords(t *testing.T) {
	tests := map[string]result.Changes{
		"nothing":              {},
		"1 file added, 5 B: x": {Added: 1, Bytes: 5, List: []result.Change{{Path: "x"}}},
		"2 files changed, 3 B": {Changed: 2, Bytes: 3},
		"1 file removed: y":    {Removed: 1, List: []result.Change{{Path: "y"}}},
		"nothing; its own caches hold 3 files, 7 B":      {StoreFiles: 3, StoreBytes: 7},
		"2 files rewritten with the same bytes: a and b": {Rewritten: 2, List: []result.Change{{Path: "a"}, {Path: "b"}}},
	}
	for want, c := range tests {
		if got := chart.ChangesWords(&c); got != want {
			t.Errorf("%+v is %q; want %q", c, got, want)
		}
	}
}

// answered is a run of a baseline and a challenger with the given first answers.
func answered(base, own result.Touch) *result.Result {
	return &result.Result{Plan: result.Plan{Baseline: "full"}, Entrants: []result.Entrant{
		{Name: "full", Touch: &base}, {Name: "slim", Touch: &own},
	}}
}

func TestTheBeamTipsToTheHeavierSide(t *testing.T) {
	files := func(n int64) *result.Changes { return &result.Changes{Bytes: n} }
	tests := []struct {
		base, own result.Touch
		tilt      float64
		say       string
	}{
		{result.Touch{Bytes: 4096}, result.Touch{Bytes: 1024}, 0.5, "full ships 4.0x the bytes of slim"},
		{result.Touch{Bytes: 1024}, result.Touch{Bytes: 4096}, -0.5, "slim ships 4.0x the bytes of full"},
		{result.Touch{Bytes: 99999}, result.Touch{Bytes: 1}, 1, "full ships 100 000x the bytes of slim"},
		{result.Touch{Bytes: 77}, result.Touch{Bytes: 77}, 0, "the same number of bytes"},
		{result.Touch{Bytes: 77}, result.Touch{}, 1, "full ships bytes, slim ships none"},
		{result.Touch{Changes: files(10)}, result.Touch{Changes: files(10)}, 0, "the same number of bytes"},
	}
	for _, tt := range tests {
		b := chart.NewBeam(answered(tt.base, tt.own), 1)
		if b == nil || b.Tilt < tt.tilt-0.001 || b.Tilt > tt.tilt+0.001 || b.Say != tt.say {
			t.Errorf("%+v against %+v: %+v; want tilt %g, %q", tt.base, tt.own, b, tt.tilt, tt.say)
		}
	}
	if chart.NewBeam(answered(result.Touch{}, result.Touch{}), 1) != nil ||
		chart.NewBeam(answered(result.Touch{Bytes: 1}, result.Touch{Bytes: 1}), 0) != nil {
		t.Error("nothing is weighed against nothing, or the baseline against itself")
	}
}

func TestPartsFaceEachOther(t *testing.T) {
	parts := func(pairs ...any) (out []result.Part) {
		for i := 0; i < len(pairs); i += 2 {
			out = append(out, result.Part{Path: pairs[i].(string), Bytes: int64(pairs[i+1].(int))})
		}
		return out
	}
	w := chart.NewWeights(answered(
		result.Touch{Parts: parts("history", 900, "name", 100, "id", 40), Heads: parts("Date", 30)},
		result.Touch{Parts: parts("name", 100, "kind", 60, "id", 40), Heads: parts("Date", 30, "X", 10)},
	), 1)
	var got []string
	for _, p := range w.Body {
		got = append(got, fmt.Sprintf("%s %s|%s %d", p.Path, p.Left.Text, p.Right.Text, p.Lacks))
	}
	want := "history 900 B|lacks it 1; name 100 B|100 B 0; kind lacks it|60 B -1; id 40 B|40 B 0"
	if strings.Join(got, "; ") != want {
		t.Errorf("parts %s; want %s", strings.Join(got, "; "), want)
	}
	if len(w.Headers) != 2 || w.Headers[1].Lacks != -1 || w.Body[0].Left.Length <= w.Body[1].Left.Length {
		t.Errorf("headers %+v", w.Headers)
	}
	// What is too light for a row of its own is put together, on both sides alike.
	var many []any
	for i := range 30 {
		many = append(many, fmt.Sprintf("m%02d", i), 1000-i)
	}
	w = chart.NewWeights(answered(result.Touch{
		Parts: parts(many...),
	}, result.Touch{Parts: parts("m00", 5, "m29", 7, "other", 3)}), 1)
	last := w.Body[len(w.Body)-1]
	if len(w.Body) != 10 || last.Path != "other" || last.Right.Text != "10 B" || last.Lacks != 0 {
		t.Errorf("%d rows, the last %+v", len(w.Body), last)
	}
	// However heavy that is, its bar keeps to the scale, whose end has a round number of its unit.
	if ratio := w.Body[0].Left.Length / last.Left.Length; math.Abs(ratio-1000.0/20601) > 1e-9 || last.Left.Length >= 1 {
		t.Errorf("a bar of %.4f for 1000 B beside %.4f for %s", w.Body[0].Left.Length, last.Left.Length, last.Left.Text)
	}
	if end := w.BodyScale.Ticks[len(w.BodyScale.Ticks)-1]; end.Label != "30 KiB" {
		t.Errorf("the scale ends at %s", end.Label)
	}
}
