package judge_test

import (
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"paceduel/core/judge"
	"paceduel/core/result"
	"paceduel/core/spans"
	"paceduel/internal/sample"
)

// inside makes a duel whose contenders' shots are known inside.
func inside(t *testing.T, entrants ...sample.Entrant) (*result.Result, *judge.Verdict) {
	t.Helper()
	for i := range entrants {
		if entrants[i].Latency == nil {
			entrants[i].Latency = sample.Times(0.1, 0.1)
		}
	}
	r := sample.Make(sample.Duel{Entrants: entrants, Rounds: 12, Shots: 25, Seed: 3})
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	return r, v
}

func near(got, want, by float64) bool { return math.Abs(got-want) <= by*want }

func TestTheTypicalShot(t *testing.T) {
	r, v := inside(t, sample.Entrant{Name: "in-turn", Inside: sample.Legs(false, 0.041, 0.052, 0.049)},
		sample.Entrant{Name: "together", Inside: sample.Legs(true, 0.041, 0.052, 0.049)},
		sample.Entrant{Name: "unknown"})
	all := v.Inner(r)
	if len(all) != 2 {
		t.Fatalf("%d are known inside", len(all))
	}
	a, b := all[0], all[1]
	if !near(a.Length.V, 0.142, 0.02) || !near(a.Added.V, 0.142, 0.02) || !near(a.Together.V, 0.0525, 0.03) ||
		a.Together.Low > 0.0525 || a.Together.High < 0.052 || a.Shots != 300 || !a.Known {
		t.Errorf("in turn: %+v", a)
	}
	if s := &a.Steps[1]; s.Path != "berth" || !near(s.Begin[1], 0.041, 0.03) || !near(s.OnPath.V, 0.052, 0.03) ||
		!near(s.Halved.V, 0.116, 0.03) || s.Count != 1 || s.Share != 1 || s.Begin[0] > s.Begin[1] || s.End[2] < s.End[1] {
		t.Errorf("berth in turn: %+v", s)
	}
	// The estimate is held to the contender that does it.
	if a.Held == nil || a.Held.Contender != "together" || math.Abs(a.Held.Off) > 0.03 || b.Held != nil {
		t.Errorf("held to %+v, %+v", a.Held, b.Held)
	}
	for _, want := range []string{"vessel, berth and tide wait for each other, ",
		"and need not. Together they could take 5"} {
		if !strings.Contains(a.Say(), want) {
			t.Errorf("%q; want %q", a.Say(), want)
		}
	}
	if !strings.HasSuffix(b.Say(), "ms.") || !strings.Contains(b.Say(),
		"Nothing of it waits for what it does not need.") {
		t.Errorf("%q", b.Say())
	}
	if len(v.Moved) != 1 || v.Moved[0].Contender != "together" {
		t.Fatalf("%d comparisons of steps", len(v.Moved))
	}
	moved := v.Moved[0]
	var how []judge.MoveKind
	for _, m := range moved.Moves {
		how = append(how, m.How)
	}
	if how[0] != judge.Left || how[2] == judge.Left && how[1] == judge.Left || !near(-moved.Whole.V, 0.0895, 0.03) {
		t.Errorf("%v, %+v", how, moved.Whole)
	}
}

// What needs what is said as it is: a list whose pages need each other, calls that need the list and not each other,
// and a tide that needs nothing.
func TestWhoWaitsForWhat(t *testing.T) {
	ms := func(n int) time.Duration { return time.Duration(n) * time.Millisecond }
	at := func(name string, from, to int, needs ...int) spans.Span {
		return spans.Span{Name: name, Begin: ms(from), End: ms(to), Parent: spans.None, Needs: needs}
	}
	calls := []spans.Span{at("list", 0, 20), at("list", 20, 40, 0), at("call", 40, 60, 1), at("call", 60, 80, 1)}
	needed := []spans.Span{at("list", 0, 20), at("list", 20, 40, 0), at("bill", 40, 60, 1), at("print", 60, 80, 2)}
	tide := []spans.Span{at("list", 0, 20), at("list", 20, 40, 0), at("call", 40, 60, 1), at("tide", 60, 80)}
	for _, tt := range []struct {
		spans []spans.Span
		want  string
	}{
		{calls, "a takes 80.0 ms, of which 2 x list, one after another, are 40.0 ms. With all at once that need nothing " +
			"of each other it could take 60.0 ms."},
		{needed,
			"a takes 80.0 ms, of which 2 x list, one after another, are 40.0 ms. Nothing of it waits for what it does " +
				"not need. If list took half, it would take 60.0 ms."},
		{tide, "a takes 80.0 ms: call and tide wait for each other, 20.0 ms + 20.0 ms, and need not. Together they could " +
			"take 60.0 ms."},
	} {
		r, v := inside(t, sample.Entrant{Name: "a", Latency: sample.Times(0.08, 0.01),
			Inside: func(*rand.Rand, int) (out []spans.Shot) {
				for range 25 {
					out = append(out, spans.Shot{Length: ms(80), Known: true, Spans: tt.spans})
				}
				return out
			}}, sample.Entrant{Name: "b"})
		if got := v.Inner(r)[0].Say(); got != tt.want {
			t.Errorf("%q; want %q", got, tt.want)
		}
	}
}

func TestManyQueriesOfAService(t *testing.T) {
	r, v := inside(t, sample.Entrant{Name: "each", Inside: sample.Traces(40, 0.0009, 0.002)},
		sample.Entrant{Name: "some", Inside: sample.Traces(4, 0.0009, 0.002)})
	in := v.Inner(r)[0]
	var paths []string
	for _, s := range in.Steps {
		paths = append(paths, strings.Repeat(" ", s.Depth)+s.Path)
	}
	want := "GET /board| GET /board › pilot|  GET /board › pilot › select pilot|  GET /board › pilot › select tug|" +
		" GET /board › render"
	if got := strings.Join(paths, "|"); got != want {
		t.Fatalf("steps %s; want %s", got, want)
	}
	if s := &in.Steps[1]; s.Count != 40 || s.AtOnce != 1 || !near(s.OnPath.V, 0.036, 0.03) || in.Known {
		t.Errorf("%+v", s)
	}
	if said := in.Say(); !strings.Contains(said, "of which 20 x select pilot, one after another, are 16.") ||
		!strings.Contains(said, "If none of its steps needed what stands beside it, it could take ") {
		t.Errorf("%q", said)
	}
	if m := v.Moved[0]; m.Moves[1].How != judge.Shrank || m.Moves[4].How != judge.Same || m.Kept ||
		!strings.Contains(m.Sentence, "some takes less for ") {
		t.Errorf("%+v: %s", m.Moves, m.Sentence)
	}
}

// Where all of a shot lies within one step of each, that is the same step, whatever it is called: two addresses of one
// service.
func TestStepsBeneathTwoAddresses(t *testing.T) {
	r := sample.Make(sample.Duel{Entrants: []sample.Entrant{
		{Name: "each", Latency: sample.Times(0.1, 0.1), Inside: sample.Traces(40, 0.0009, 0.002)},
		{Name: "some", Latency: sample.Times(0.1, 0.1), Inside: sample.Traces(4, 0.0009, 0.002)},
	}, Rounds: 12, Shots: 25, Seed: 3})
	for i := range r.Heats {
		if h := &r.Heats[i]; h.Contender == "some" {
			h.Inside.Steps[0].Name = "GET /some"
		}
	}
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	m := v.Moved[0]
	if m.Moves[0].Name != "the whole request" || m.Moves[0].How != judge.Shrank || m.Moves[1].How != judge.Shrank ||
		m.Moves[1].ContenderCount != 4 || len(m.Moves) != 5 {
		t.Errorf("%+v", m.Moves)
	}
}

// A step that grows by what another shrinks is no gain, and is said to be none.
func TestWhatOnlyMoved(t *testing.T) {
	_, v := inside(t, sample.Entrant{Name: "a", Inside: sample.Legs(false, 0.040, 0.060, 0.050)},
		sample.Entrant{Name: "b", Inside: sample.Legs(false, 0.060, 0.040, 0.050)})
	m := v.Moved[0]
	if m.Moves[0].How != judge.Grew || m.Moves[1].How != judge.Shrank || !near(m.Moves[0].By.V, 0.020, 0.15) {
		t.Fatalf("%+v", m.Moves)
	}
	if m.Kept != (m.Whole.Low >= -0.003 && m.Whole.High <= 0.003) {
		t.Errorf("kept %v, in all %+v", m.Kept, m.Whole)
	}
	// Of the same heats it is certain.
	r := sample.Make(sample.Duel{Entrants: []sample.Entrant{
		{Name: "a", Latency: sample.Times(0.1, 0.1), Inside: sample.Legs(false, 0.040, 0.060, 0.050)},
		{Name: "b", Latency: sample.Times(0.1, 0.1)},
	}, Rounds: 12, Shots: 25, Seed: 3})
	for i := range r.Heats {
		if h := &r.Heats[i]; h.Contender == "b" {
			other := *r.Heats[i-1].Inside
			other.Steps = append([]result.InsideStep(nil), other.Steps...)
			other.Steps[0].Name, other.Steps[1].Name = "berth", "vessel"
			h.Inside = &other
		}
	}
	certain, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	if m := certain.Moved[0]; !m.Kept || !strings.Contains(m.Sentence,
		"What it saves comes back elsewhere: in all 0 s.") {
		t.Errorf("%+v: %s", m.Whole, m.Sentence)
	}
	r.Heats[0].Inside.Steps[0].Name = "other"
	came, err := judge.Judge(&result.Result{
		Version: r.Version, Plan: r.Plan, Entrants: r.Entrants, Heats: r.Heats[:2], Ending: r.Ending, Order: r.Order[:1],
	})
	if err != nil {
		t.Fatal(err)
	}
	if m := came.Moved[0]; m.Moves[0].How != judge.Went || m.Moves[len(m.Moves)-1].How != judge.Came {
		t.Errorf("%+v", m.Moves)
	}
}

// What was wrong with spans, and that many shots were traced, are cautions of whom they are of.
func TestCautionsOfSpans(t *testing.T) {
	long(t)
	for _, tt := range []struct {
		traced result.Traced
		kind   judge.CautionKind
		want   string
	}{
		{result.Traced{Sampled: 2, Spans: 20}, "", ""},
		{result.Traced{Sampled: 2, Lost: 2}, judge.LostSpans, "the service of b sent no spans of 24 sampled shots"},
		{result.Traced{Sampled: 2, Lost: 1, Spans: 9}, judge.LostSpans, "no spans came of 12 of 24 sampled shots of b"},
		{result.Traced{Sampled: 2, Spans: 9, Late: 1}, judge.LostSpans,
			"12 spans of b came too late, could not be read or found no room"},
		{result.Traced{Sampled: 2, Spans: 9, Shifted: 3e6}, judge.OtherClock, "off by up to 3.00 ms"},
		{result.Traced{Sampled: 5, Spans: 9}, judge.Traced, "20 % of the shots of b were traced"},
	} {
		r := sample.Make(sample.Duel{Entrants: []sample.Entrant{
			{Name: "a", Latency: sample.Times(0.1, 0.1)}, {Name: "b", Latency: sample.Times(0.1, 0.1)},
		}, Rounds: 12, Shots: 25, Seed: 3})
		for i := range r.Heats {
			if h := &r.Heats[i]; h.Contender == "b" {
				own := tt.traced
				h.Traced = &own
			}
		}
		v, err := judge.Judge(r)
		if err != nil {
			t.Fatal(err)
		}
		found := ""
		for _, c := range v.Cautions {
			if c.See == judge.InInside {
				found += string(c.Kind) + ": " + c.What
				if c.Kind != tt.kind || c.Contender != "b" || c.Try == "" {
					t.Errorf("%+v", c)
				}
			}
		}
		if (found == "") != (tt.want == "") || !strings.Contains(found, tt.want) {
			t.Errorf("%+v: %q; want %q", tt.traced, found, tt.want)
		}
	}
}

// Steps at once are not said to follow one another, though now one and now another is waited for.
func TestStepsAtOnceDoNotFollow(t *testing.T) {
	page := func(*rand.Rand, int) (out []spans.Shot) {
		for i := range 24 {
			took := [3]time.Duration{20 * time.Millisecond, 20 * time.Millisecond, 20 * time.Millisecond}
			took[i%3] += 20 * time.Millisecond
			s := spans.Shot{Length: 50 * time.Millisecond, Known: true, Spans: []spans.Span{
				{Name: "page", End: 10 * time.Millisecond, Parent: spans.None},
			}}
			for j, name := range []string{"style", "chart", "news"} {
				s.Spans = append(s.Spans, spans.Span{
					Name: name, Begin: 10 * time.Millisecond, End: 10*time.Millisecond + took[j], Parent: spans.None,
					Needs: []int{0},
				})
			}
			out = append(out, s)
		}
		return out
	}
	r, v := inside(t, sample.Entrant{Name: "a", Inside: page}, sample.Entrant{Name: "b", Inside: page})
	said := v.Inner(r)[0].Say()
	if strings.Contains(said, "news") || !strings.Contains(said, "of which style is 13.3 ms") {
		t.Errorf("%s", said)
	}
	sum := 0.0
	for _, s := range v.Inner(r)[0].Steps {
		sum += s.OnPath.V
	}
	if !near(sum, 0.050, 0.001) {
		t.Errorf("steps are %g s of the path; want 0.05", sum)
	}
}

// A step that takes far less is still waited for: it shrank, and did not leave the path.
func TestAStepThatShrinksIsStillWaitedFor(t *testing.T) {
	_, v := inside(t, sample.Entrant{Name: "slow", Inside: sample.Legs(false, 0.040, 0.200, 0.050)},
		sample.Entrant{Name: "quick", Inside: sample.Legs(false, 0.040, 0.002, 0.050)})
	if m := v.Moved[0]; m.Moves[1].How != judge.Shrank || !strings.Contains(m.Sentence, "quick takes less for berth") {
		t.Errorf("%+v: %s", m.Moves, m.Sentence)
	}
}
