package judge_test

import (
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"paceduel/core/cell"
	"paceduel/core/figure"
	"paceduel/core/judge"
	"paceduel/core/judge/curve"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/internal/sample"
)

// crossing are two contenders of whom the second takes over at 3 writers, and a third that is slow.
func crossing() sample.Swept {
	return sample.Swept{
		Duel: sample.Duel{
			Entrants: []sample.Entrant{
				{Name: "buffered", Bytes: 10}, {Name: "mapped", Bytes: 10}, {Name: "locked", Bytes: 10},
			},
			Rounds: 14, Shots: 20, Seed: 5,
		},
		Parameters: []result.Parameter{sample.Numbers("writers", plan.Threads, 1, 2, 4, 6, 8, 12)},
		Takes: func(way int, at ...float64) float64 {
			return []float64{0.001 * (1 + at[0]), 0.001 * (3.4 + 0.2*at[0]), 0.004 * at[0]}[way]
		},
		Spread: 0.1, Heats: 0.02,
	}
}

func judgeSweep(t *testing.T, r *result.Result) *judge.Sweep {
	t.Helper()
	s, err := judge.JudgeSweep(r)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func TestWhoWinsWhere(t *testing.T) {
	long(t)
	for _, drift := range []float64{0, 0.5} { // which falls on all points alike
		d := crossing()
		d.Drift = drift
		s := judgeSweep(t, sample.MakeSwept(d))
		for _, want := range []string{
			"buffered is fastest up to 3 writers (2 to 4), mapped from there on", "At 12 writers, locked is 8.",
			"slower than mapped",
		} {
			if !strings.Contains(s.Sentence, want) {
				t.Errorf("with a drift of %g: %q does not say %q", drift, s.Sentence, want)
			}
		}
		c := s.Curve(0, figure.Mean, judge.AsMeasured)
		if len(c.Turns) != 1 || c.Turns[0].At.Low > 3 || c.Turns[0].At.High < 3 {
			t.Errorf("with a drift of %g the order turns at %+v; want 3", drift, c.Turns)
		}
		for i, kind := range []curve.Kind{curve.Each, curve.Each, curve.Each} {
			if c.Laws[i] == nil || c.Laws[i].Kind != kind {
				t.Errorf("with a drift of %g %s grows by %+v; want %s", drift, s.Contenders[i], c.Laws[i], kind)
			}
		}
	}
}

// A machine that gets slower while it runs makes no contender grow with the parameter.
func TestADriftBecomesNoTrend(t *testing.T) {
	long(t)
	d := crossing()
	d.Drift = 1
	d.Takes = func(way int, _ ...float64) float64 { return 0.001 * float64(1+way) }
	s := judgeSweep(t, sample.MakeSwept(d))
	c := s.Curve(0, figure.Mean, judge.AsMeasured)
	for i, law := range c.Laws {
		if law == nil || law.Kind != curve.Steady {
			t.Errorf("%s grows by %+v", s.Contenders[i], law)
		}
	}
	if len(c.Turns) > 0 || !strings.Contains(s.Sentence, "buffered is fastest from 1 to 12 writers, without a turn") {
		t.Errorf("%s; turns %+v", s.Sentence, c.Turns)
	}
}

// What stands at a point is what its own duel would say, except that its words hold for all points together.
func TestAPointByItself(t *testing.T) {
	long(t)
	r := sample.MakeSwept(crossing())
	s := judgeSweep(t, r)
	for i := range r.Sweep.Points {
		v, err := s.At(i)
		if err != nil {
			t.Fatal(err)
		}
		alone, err := judge.Judge(r.AtPoint(i))
		if err != nil {
			t.Fatal(err)
		}
		for j := range v.Faces {
			for k, a := range v.Faces[j].Figures {
				other := alone.Faces[j].Figures[k]
				same := a.Ratio == other.Ratio && a.Low == other.Low || math.IsNaN(a.Ratio) && math.IsNaN(other.Ratio)
				if a.Figure != other.Figure || !same {
					t.Errorf("at %s: %s %g, alone %s %g", r.Sweep.Points[i].At, a.Figure, a.Ratio, other.Figure, other.Ratio)
				}
			}
		}
		if v.Note != s.Note {
			t.Errorf("at %s words were reached so: %s", r.Sweep.Points[i].At, v.Note)
		}
	}
	if n := s.Comparisons; n != 12 || s.Settled < 10 {
		t.Errorf("%d of %d comparisons are settled", s.Settled, n)
	}
}

// The same result gives the same sweep, whatever the order in which things were computed.
func TestASweepIsTheSameEachTime(t *testing.T) {
	r := sample.MakeSwept(crossing())
	first := judgeSweep(t, r)
	for range 5 {
		again := judgeSweep(t, r)
		if again.Sentence != first.Sentence || !slices.Equal(again.Remarks, first.Remarks) {
			t.Fatalf("%q, then %q", first.Sentence, again.Sentence)
		}
	}
}

func TestClaimsAlongASweep(t *testing.T) {
	long(t)
	tests := []struct {
		claim string
		want  judge.Finding
		why   string
	}{
		{"mapped at writers=12 at least 2x faster than buffered", judge.Upheld, "writers 12"},
		{"mapped at least 1x faster than buffered", judge.Refuted, "not so at writers 1"},
		{"mapped at writers 4 or more at least 1.05x faster than buffered", judge.Upheld,
			"closest of 4 points is writers 4"},
		{"buffered mean under 4ms at every writers", judge.Refuted, "not so at writers 12"},
		{"buffered mean under 20ms at every writers", judge.Upheld, "closest of 6 points is writers 12"},
		{"mapped best at writers 6 or more", judge.Upheld, "closest"},
		{"buffered best at writers 1", judge.Upheld, "writers 1"},
		{"buffered best at writers 4 or less", judge.Refuted, "not so at writers 4"},
	}
	for _, tt := range tests {
		t.Run(tt.claim, func(t *testing.T) {
			r := sample.MakeSwept(crossing())
			r.Plan.Claims = []string{tt.claim}
			s := judgeSweep(t, r)
			if c := s.Claims[0]; c.Finding != tt.want || !strings.Contains(c.Why, tt.why) {
				t.Errorf("%s, %s; want %s, %s", c.Finding, c.Why, tt.want, tt.why)
			}
			if s.Upheld() != (tt.want == judge.Upheld) {
				t.Errorf("all claims upheld: %v", s.Upheld())
			}
		})
	}
}

func TestSweetSpotsAndTradeOffs(t *testing.T) {
	d := crossing()
	d.Parameters = []result.Parameter{sample.Numbers("block", plan.Other, 1, 4, 16, 64, 256)}
	d.Takes = func(_ int, at ...float64) float64 { return 0.001 * (4/at[0] + 1 + at[0]/64) }
	r := sample.MakeSwept(d)
	for i := range r.Heats { // the larger the block, the more is held
		block := r.Heats[i].Point.Values()["block"]
		held := map[string]int64{"1": 1, "4": 2, "16": 4, "64": 8, "256": 16}[block] << 20
		r.Heats[i].SetAmount("memory", held)
	}
	s := judgeSweep(t, r)
	var text []string
	for _, m := range s.Remarks {
		text = append(text, string(m.Kind)+": "+m.Text)
	}
	all := strings.Join(text, "\n")
	for _, want := range []string{
		"which value: buffered is fastest with block 16", "trade-offs: buffered with block 16 is",
		"than with block 1 and has 4.0x more memory",
	} {
		if !strings.Contains(all, want) {
			t.Errorf("nothing says %q:\n%s", want, all)
		}
	}
}

// What a law comes to at the plan's own figures is told with its interval, and what lies beyond the measured as such.
func TestWhatALawIsWorth(t *testing.T) {
	long(t)
	d := crossing()
	d.Parameters = []result.Parameter{sample.Numbers("rows", plan.Items, 20, 50, 100, 200, 500)}
	d.Takes = func(way int, at ...float64) float64 { return 0.001 + 0.00001*float64(1+way)*at[0] }
	r := sample.MakeSwept(d)
	r.Plan.Stakes = &result.Stakes{Items: 100_000}
	s := judgeSweep(t, r)
	found := false
	for _, m := range s.Remarks {
		if m.Kind == judge.Carried && m.Contender == "mapped" {
			found = strings.Contains(m.Text, "for 100 000 rows, beyond what was measured") &&
				strings.Contains(m.Text, "takes 1.98 s (1.95 s to 2.02 s)")
			if !found {
				t.Log(m.Text)
			}
		}
	}
	if !found {
		t.Errorf("nothing is carried through: %+v", s.Remarks)
	}
}

func TestASweepOverTwo(t *testing.T) {
	long(t)
	d := crossing()
	d.Parameters = append(d.Parameters, sample.Numbers("rows", plan.Items, 20, 4000))
	takes := d.Takes
	d.Takes = func(way int, at ...float64) float64 { return takes(way, at[0]) * (1 + at[1]/1000) }
	s := judgeSweep(t, sample.MakeSwept(d))
	if len(s.Slices) != 2 || s.Where(&s.Slices[1]) != "rows 4000" || s.Comparisons != 24 {
		t.Fatalf("slices %+v, %d comparisons", s.Slices, s.Comparisons)
	}
	for i := range s.Slices {
		if c := s.Curve(i, figure.Mean, judge.AsMeasured); len(c.Turns) != 1 || len(c.Places) != 6 {
			t.Errorf("along %s: %+v", s.Where(&s.Slices[i]), c.Turns)
		}
	}
	if math.IsNaN(s.Lead()) || s.Lead() < 2 {
		t.Errorf("the lead is %g", s.Lead())
	}
}

func TestWordsHaveNoOrder(t *testing.T) {
	d := crossing()
	d.Parameters = []result.Parameter{{
		Name: "size", Counts: string(plan.Words), Values: []result.Value{{Text: "small"}, {Text: "big"}},
	}}
	d.Takes = func(way int, _ ...float64) float64 { return 0.001 * float64(1+way) }
	s := judgeSweep(t, sample.MakeSwept(d))
	if !strings.Contains(s.Sentence, "buffered is fastest at every size") {
		t.Error(s.Sentence)
	}
	if c := s.Curve(0, figure.Mean, judge.AsMeasured); len(c.Turns) > 0 || c.Laws[0] != nil {
		t.Errorf("turns %+v, laws %+v", c.Turns, c.Laws)
	}
}

func TestScalesOfALine(t *testing.T) {
	d := crossing()
	d.Parameters = []result.Parameter{sample.Numbers("rows", plan.Items, 20, 100)}
	d.Takes = func(way int, at ...float64) float64 { return 0.00001 * at[0] / float64(1+way) }
	d.Spread, d.Heats = 0.01, 0.001
	s := judgeSweep(t, sample.MakeSwept(d))
	at := func(scale judge.Scale, contender, point int) float64 {
		return s.Curve(0, figure.Mean, scale).Typical[contender][point].V
	}
	for _, tt := range []struct {
		name      string
		got, want float64
	}{
		{"as measured", at(judge.AsMeasured, 1, 1), 0.0005}, {"for each", at(judge.ForEach, 1, 1), 0.000005},
		{"for each, fewer", at(judge.ForEach, 1, 0), 0.000005}, {"in all", at(judge.InAll, 0, 1), 0.02},
		{"against the baseline", at(judge.AgainstBaseline, 2, 0), 3}, {"the baseline", at(judge.AgainstBaseline, 0, 0), 1},
	} {
		if math.Abs(tt.got/tt.want-1) > 0.01 {
			t.Errorf("%s: %g; want %g", tt.name, tt.got, tt.want)
		}
	}
	if s.Curve(0, figure.P99, judge.InAll) != nil {
		t.Error("percentiles add up")
	}
}

// While it runs only the wider intervals of close contenders want further rounds, and points where lines bend come
// next.
func TestSteering(t *testing.T) {
	long(t)
	d := crossing()
	d.Entrants = d.Entrants[:2]
	d.Parameters = []result.Parameter{sample.Numbers("writers", plan.Threads, 1, 2, 4)}
	d.Takes = func(way int, at ...float64) float64 { // far apart at 1, close at 2, known exactly at 4
		return 0.001 * (1 + float64(way)*map[float64]float64{1: 9, 2: 0.1, 4: 0.1}[at[0]])
	}
	r := sample.MakeSwept(d)
	for i := range r.Heats {
		if h := &r.Heats[i]; h.Point.Values()["writers"] == "4" {
			h.LatencySum = h.LatencySum.Round(10 * time.Millisecond)
		}
	}
	needs := judge.Needs(r, 6)
	at := func(n string) float64 { return needs[cell.At(map[string]string{"writers": n})] }
	if !(at("2") > 2*at("1") && at("2") > 2*at("4")) {
		t.Errorf("needs %v; want most at 2", needs)
	}
	bent := crossing()
	bent.Takes = func(way int, at ...float64) float64 {
		if way == 0 && at[0] > 6 {
			return 0.001 * math.Pow(at[0], 3)
		}
		return 0.001 * float64(2+way)
	}
	bends := judge.Bends(sample.MakeSwept(bent))
	if len(bends) == 0 || bends[0] != (judge.Between{From: "6", To: "8"}) {
		t.Errorf("bends %v; want 6 to 8 first", bends)
	}
	straight := crossing()
	straight.Heats, straight.Spread = 0, 0
	straight.Takes = func(way int, _ ...float64) float64 { return 0.001 * float64(1+way) }
	if bends := judge.Bends(sample.MakeSwept(straight)); len(bends) > 0 {
		t.Errorf("straight lines bend at %v", bends)
	}
}

func TestASweepThatSettlesNothing(t *testing.T) {
	d := crossing()
	d.Rounds = 3
	r := sample.MakeSwept(d)
	s := judgeSweep(t, r)
	if s.Settled != 0 || !strings.Contains(s.Sentence, "3 rounds cannot settle 12 comparisons together; 9 can") {
		t.Errorf("%d settled: %s", s.Settled, s.Sentence)
	}
	r.Heats = nil
	if s := judgeSweep(t, r); !strings.Contains(s.Sentence, "nothing can be compared") || len(s.Remarks) > 0 {
		t.Error(s.Sentence)
	}
	plain := sample.Duel{Entrants: []sample.Entrant{{Name: "a", Latency: sample.Times(1, 0)}}, Rounds: 2, Shots: 2}
	if _, err := judge.JudgeSweep(sample.Make(plain)); err == nil {
		t.Error("a duel without a sweep was judged as one")
	}
}

// A contender that fails at one point leaves the others as they are.
func TestAPointWithoutValues(t *testing.T) {
	long(t)
	r := sample.MakeSwept(crossing())
	at := cell.At(map[string]string{"writers": "4"})
	r.Heats = slices.DeleteFunc(r.Heats, func(h result.Heat) bool { return h.Point == at && h.Contender == "locked" })
	s := judgeSweep(t, r)
	c := s.Curve(0, figure.Mean, judge.AsMeasured)
	if c.Typical[2][2].Known() || !c.Typical[2][3].Known() {
		t.Errorf("at 4 writers locked has %+v", c.Typical[2])
	}
	table := s.Table(0, figure.Mean, judge.AsMeasured)
	if got := table.Rows[2][3]; got != "–" && got != "-" {
		t.Errorf("the table says %q", got)
	}
}

func BenchmarkJudgeSweep(b *testing.B) {
	d := sample.Swept{
		Duel:       sample.Duel{Rounds: 20, Shots: 500, Seed: 9},
		Parameters: []result.Parameter{sample.Numbers("writers", plan.Threads, 1, 2, 3, 4, 6, 8, 12, 16, 24, 32, 48, 64)},
		Takes: func(way int, at ...float64) float64 {
			return 0.001 * (1 + 0.1*float64(way) + 0.05*float64(8-way)*at[0])
		},
		Spread: 0.2, Heats: 0.02,
	}
	for _, name := range []string{"a", "b", "c", "d", "e", "f", "g", "h"} {
		d.Entrants = append(d.Entrants, sample.Entrant{Name: name, Bytes: 100})
	}
	r := sample.MakeSwept(d)
	for b.Loop() {
		if _, err := judge.JudgeSweep(r); err != nil {
			b.Fatal(err)
		}
	}
}

// Whoever fails at some points is told before anything else, and where that is worst.
func TestWhoFailsIsToldFirst(t *testing.T) {
	long(t)
	r := sample.MakeSwept(crossing())
	for i := range r.Heats {
		if h := &r.Heats[i]; h.Contender == "mapped" && slices.Contains([]string{"8", "12"}, h.Point.Values()["writers"]) {
			h.Failures = map[string]int64{"timeout": 5}
			if h.Point.Values()["writers"] == "12" {
				h.Failures["timeout"] = 20
			}
		}
	}
	s := judgeSweep(t, r)
	const want = "mapped fails 50 % of its shots at writers 12, and at 1 other point. "
	if !strings.HasPrefix(s.Sentence, want) {
		t.Errorf("%q does not begin with %q", s.Sentence, want)
	}
}

// A power law says "as long" of times alone.
func TestAPowerIsToldInTheFiguresOwnWords(t *testing.T) {
	long(t)
	d := crossing()
	d.Parameters = []result.Parameter{sample.Numbers("rows", plan.Items, 10, 20, 40, 80, 160, 320)}
	d.Takes = func(way int, at ...float64) float64 { return 1e-6 * float64(1+way) * at[0] * at[0] }
	for fig, want := range map[figure.Name]string{
		figure.Mean:       "twice as many take 4.0x as long",
		figure.Throughput: "twice as many make it 0.25x",
	} {
		d.Clients = 8
		r := sample.MakeSwept(d)
		r.Plan.Decides = fig
		s := judgeSweep(t, r)
		var said []string
		for _, remark := range s.Remarks {
			if remark.Kind == judge.HowItGoes {
				said = append(said, remark.Text)
			}
		}
		if !strings.Contains(strings.Join(said, " "), want) {
			t.Errorf("%s: %q; want %q", fig, said, want)
		}
	}
}

// A plan that names one state of caches has its words like any other.
func TestOneStateHasItsWords(t *testing.T) {
	long(t)
	r := sample.MakeSwept(crossing())
	r.Footing.States = []string{"warm"}
	for i := range r.Heats {
		r.Heats[i].State = "warm"
	}
	s := judgeSweep(t, r)
	of := &s.Slices[0]
	if got := s.Word(of, len(of.Points)-1, s.Decides, "mapped"); got != judge.Better {
		t.Errorf("mapped is %q at the last point; want better", got)
	}
}

// A table says which scale its numbers are on, and one of many entries is an entry.
func TestTablesAreOnTheirScale(t *testing.T) {
	long(t)
	d := crossing()
	d.Parameters = []result.Parameter{sample.Numbers("entries", plan.Items, 1, 2, 4, 6, 8, 12)}
	s := judgeSweep(t, sample.MakeSwept(d))
	for scale, want := range map[judge.Scale]string{
		judge.AsMeasured: "mean, entries", judge.ForEach: "mean for each entry, entries",
		judge.AgainstBaseline: "mean, times better than buffered, entries",
	} {
		if got := s.Table(0, figure.Mean, scale).Head[0]; got != want {
			t.Errorf("%q; want %q", got, want)
		}
	}
	for _, remark := range s.Remarks {
		if strings.Contains(remark.Text, "entrie ") || strings.Contains(remark.Text, "entrie.") {
			t.Errorf("%q", remark.Text)
		}
	}
}
