package chart_test

import (
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"paceduel/core/chart"
	"paceduel/core/judge"
	"paceduel/core/result"
	"paceduel/core/spans"
	"paceduel/core/tally"
	"paceduel/internal/sample"
)

// fixed has every shot of a heat alike, so that places are known exactly: vessel, then berth, each of 50 ms.
func fixed(*rand.Rand, int) (out []spans.Shot) {
	for range 25 {
		out = append(out, spans.Shot{Length: 100 * time.Millisecond, Known: true, Spans: []spans.Span{
			{Name: "vessel", End: 50 * time.Millisecond, Parent: spans.None},
			{Name: "berth", Begin: 50 * time.Millisecond, End: 100 * time.Millisecond, Parent: spans.None},
		}})
	}
	return out
}

func insideOf(t *testing.T) (*result.Result, *judge.Verdict) {
	t.Helper()
	r := sample.Make(sample.Duel{Rounds: 6, Shots: 25, Seed: 3, Entrants: []sample.Entrant{
		{Name: "in-turn", Latency: sample.Times(0.1, 0.1), Inside: fixed}, {Name: "unknown", Latency: sample.Times(0.1, 0.1)},
	}})
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	return r, v
}

func TestWhereStepsLie(t *testing.T) {
	r, v := insideOf(t)
	for _, which := range []string{"", result.AtSlowest} {
		p := chart.NewInside(r, v, chart.InsideLook{Which: which, Depth: chart.AllSteps, Line: 0.75})
		rows := p.Lanes[0].Rows
		if len(rows) != 2 || rows[1].Bars[0] != (chart.InsideBar{From: 0.5, To: 1, OnPath: true}) || rows[1].Path != "50 %" ||
			rows[1].Took != "50.0 ms" || p.Lanes[0].Read != "berth" || p.At() != "75.0 ms" || len(p.Lanes[1].Rows) > 0 {
			t.Errorf("%s: %+v", which, p)
		}
		// The second half fills the picture when that is in view.
		half := chart.NewInside(r, v, chart.InsideLook{Which: which, Depth: chart.AllSteps, From: 0.5, To: 1})
		if rows := half.Lanes[0].Rows; rows[1].Bars[0] != (chart.InsideBar{From: 0, To: 1, OnPath: true}) ||
			rows[0].Bars[0].To > 0 || half.Ticks[0].Label != "60 ms" {
			t.Errorf("%s: %+v, %+v", which, half.Lanes[0].Rows, half.Ticks)
		}
	}
}

// A row shows where nothing was under way, of the typical shot as of a real one. Gaps between the spans of one step are
// told, since the step's bar lies over them.
func TestWhereNothingIsUnderWay(t *testing.T) {
	ms := func(n int) time.Duration { return time.Duration(n) * time.Millisecond }
	at := func(name string, from, to int) spans.Span {
		return spans.Span{Name: name, Begin: ms(from), End: ms(to), Parent: spans.None}
	}
	apart := []spans.Span{at("vessel", 0, 30), at("berth", 50, 80)}
	folded := []spans.Span{at("vessel", 0, 30), at("vessel", 50, 100)}
	for _, tt := range []struct {
		which string
		spans []spans.Span
		took  string
		bars  int
		count string
	}{
		{"", apart, "40.0 ms", 2, ""}, {result.AtSlowest, apart, "40.0 ms", 2, ""},
		{"", folded, "20.0 ms", 0, "between the spans of a step"}, {result.AtSlowest, folded, "20.0 ms", 1, ""},
	} {
		r := sample.Make(sample.Duel{Rounds: 6, Shots: 25, Seed: 3, Entrants: []sample.Entrant{
			{Name: "in-turn", Latency: sample.Times(0.1, 0.1), Inside: func(*rand.Rand, int) (out []spans.Shot) {
				for range 25 {
					out = append(out, spans.Shot{Length: ms(100), Known: true, Spans: tt.spans})
				}
				return out
			}}, {Name: "unknown", Latency: sample.Times(0.1, 0.1)},
		}})
		v, err := judge.Judge(r)
		if err != nil {
			t.Fatal(err)
		}
		rows := chart.NewInside(r, v, chart.InsideLook{Which: tt.which, Depth: chart.AllSteps}).Lanes[0].Rows
		if len(rows) == 0 {
			t.Fatalf("%s: no rows", tt.which)
		}
		row := rows[len(rows)-1]
		if row.Label != "nothing under way" || row.Took != tt.took || len(row.Bars) != tt.bars || row.Count != tt.count {
			t.Errorf("%s of %d steps: %+v", tt.which, len(tt.spans), row)
		}
	}
}

// Zooming keeps the line where it is, and nothing leaves the scale however it is moved.
func TestLookingAround(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 4))
	look := chart.InsideLook{Line: 0.3}
	at := func(l chart.InsideLook) float64 {
		if l.To <= l.From {
			return l.Line
		}
		return l.From + l.Line*(l.To-l.From)
	}
	for range 2_000 {
		before := at(look)
		switch rng.IntN(4) {
		case 0:
			look = look.Zoom(true)
		case 1:
			look = look.Zoom(false)
		default:
			look = look.Move(0.2 * (rng.Float64() - 0.5))
			before = at(look)
		}
		if math.Abs(at(look)-before) > 1e-9 || look.From < 0 || look.To > 1+1e-9 || look.Line < 0 || look.Line > 1 {
			t.Fatalf("%+v: at %g, before %g", look, at(look), before)
		}
	}
}

func TestStepsFaceToFace(t *testing.T) {
	r := sample.Make(sample.Duel{Rounds: 6, Shots: 25, Seed: 3, Entrants: []sample.Entrant{
		{Name: "each", Latency: sample.Times(0.1, 0.1), Inside: sample.Traces(40, 0.0009, 0.002)},
		{Name: "some", Latency: sample.Times(0.1, 0.1), Inside: sample.Traces(4, 0.0009, 0.002)},
	}})
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	m := chart.NewMoves(r, v, 0)
	last := m.Rows[len(m.Rows)-1]
	if !last.Total || last.Label != "in all" || m.Rows[1].How != "shrank, 40 x to 4 x" ||
		m.Rows[1].Left <= m.Rows[1].Right {
		t.Errorf("%+v", m.Rows)
	}
}

// What is told without a when stands beside the steps, from zero on, and a name that a step has is not told twice.
func TestTimesWithoutAWhen(t *testing.T) {
	r := sample.Make(sample.Duel{Rounds: 6, Shots: 25, Seed: 3, Entrants: []sample.Entrant{
		{Name: "told", Latency: sample.Times(0.1, 0.1)}, {Name: "in-turn", Latency: sample.Times(0.1, 0.1), Inside: fixed},
	}})
	took := tally.NewHistogram()
	took.RecordValues(int64(30*time.Millisecond), 25)
	text, err := result.EncodeHistogram(took)
	if err != nil {
		t.Fatal(err)
	}
	for i := range r.Heats {
		for _, name := range []string{"db", "vessel"} {
			r.Heats[i].Splits = append(r.Heats[i].Splits, result.Split{
				Name: name, Told: true, Sum: int64(25 * 30 * time.Millisecond), Lengths: text,
			})
		}
	}
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	p := chart.NewInside(r, v, chart.InsideLook{Depth: chart.AllSteps})
	var names []string
	for _, lane := range p.Lanes {
		for _, row := range lane.Rows {
			names = append(names, lane.Name+" "+row.Label)
			if row.Apart && (row.Took != "30.0 ms" || row.Bars[0].From != 0 || row.Bars[0].To < 0.1 || row.Path != "") {
				t.Errorf("%+v", row)
			}
		}
	}
	if got := strings.Join(names, ", "); got != "told db, told vessel, in-turn vessel, in-turn berth, in-turn db" {
		t.Errorf("%s", got)
	}
}

// What of a real shot nothing covers has a row of its own.
func TestGapsOfARealShot(t *testing.T) {
	late := func(*rand.Rand, int) []spans.Shot {
		return []spans.Shot{{Length: 100 * time.Millisecond, Spans: []spans.Span{
			{Name: "vessel", Begin: 10 * time.Millisecond, End: 40 * time.Millisecond, Parent: spans.None},
			{Name: "read", Begin: 20 * time.Millisecond, End: 90 * time.Millisecond, Parent: 0},
			{Name: "berth", Begin: 30 * time.Millisecond, End: 60 * time.Millisecond, Parent: spans.None},
		}}}
	}
	r := sample.Make(sample.Duel{Rounds: 6, Shots: 25, Seed: 3, Entrants: []sample.Entrant{
		{Name: "a", Latency: sample.Times(0.1, 0.1), Inside: late}, {Name: "b", Latency: sample.Times(0.1, 0.1),
			Inside: fixed},
	}})
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	p := chart.NewInside(r, v, chart.InsideLook{Which: result.AtMiddle, Depth: chart.AllSteps})
	rows := p.Lanes[0].Rows
	last := rows[len(rows)-1]
	if last.Label != "nothing under way" || len(last.Bars) != 2 || last.Bars[0].From != 0 ||
		math.Abs(last.Bars[0].To-0.1) > 1e-9 || math.Abs(last.Bars[1].From-0.6) > 1e-9 || last.Took != "50.0 ms" {
		t.Errorf("%+v", rows)
	}
	if rows := p.Lanes[1].Rows; len(rows) != 2 {
		t.Errorf("%+v", rows)
	}
}
