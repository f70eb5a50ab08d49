package judge_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"paceduel/core/cell"
	"paceduel/core/figure"
	"paceduel/core/judge"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/shots"
	"paceduel/core/tally"
	"paceduel/core/units"
	"paceduel/internal/sample"
)

// extra gives every heat what a run of commands and a service has besides its latencies: memory, a start, a part.
func extra(t *testing.T, r *result.Result, of map[string]float64) {
	t.Helper()
	rng := rand.New(rand.NewPCG(8, 8))
	for i := range r.Heats {
		h := &r.Heats[i]
		about := func(x float64) float64 { return x * of[h.Contender] * (1 + 0.01*rng.NormFloat64()) }
		h.SetAmount(shots.Memory, int64(about(100<<20)))
		h.Costs = append(h.Costs, result.Cost{
			When: "heat", What: "start the board", Start: true, Times: 1, Took: time.Duration(about(2e9)),
		})
		lengths := tally.NewHistogram()
		sum := time.Duration(0)
		for range h.OK {
			d := time.Duration(about(3e6))
			sum += d
			lengths.RecordValue(int64(d))
		}
		text, err := result.EncodeHistogram(lengths)
		if err != nil {
			t.Fatal(err)
		}
		h.Splits = []result.Split{
			{Name: "wait", Sum: int64(sum), Lengths: text}, {Name: "render", Told: true, Sum: int64(sum), Lengths: text},
		}
	}
}

// Every figure finds the ratio that was put in, and the difference in its unit.
func TestEveryFigureIsJudged(t *testing.T) {
	d := duel(sample.Times(0.010, 0.05), sample.Times(0.005, 0.05), 12, 6000)
	d.Entrants[1].Bytes /= 2
	r := sample.Make(d)
	extra(t, r, map[string]float64{"per-vessel": 1, "joined": 0.5})
	v := weigh(t, r)
	differences := map[figure.Name]float64{
		figure.P50: -0.005, figure.Mean: -0.005, figure.Throughput: 800, figure.Memory: -50 << 20, figure.Received: -4222,
		figure.Start: -1, "part wait": -1.5e-3, "told render": -1.5e-3,
	}
	for _, f := range []figure.Name{
		figure.P50, figure.P75, figure.P90, figure.P95, figure.P99, figure.P999, figure.Longest, figure.Mean,
		figure.Throughput, figure.Total, figure.Memory, figure.Received, figure.Start, "part wait", "told render",
	} {
		a := figureIn(t, v, f)
		if a.Ratio < 1.9 || a.Ratio > 2.1 || a.Word != judge.Better || a.Rounds != 12 {
			t.Errorf("%s: %s, ratio %g of %d rounds (alone %s)", f, a.Word, a.Ratio, a.Rounds, a.Alone)
		}
		if want, ok := differences[f]; ok && (math.Abs(a.Difference/want-1) > 0.03 ||
			!(a.DifferenceLow <= a.Difference && a.Difference <= a.DifferenceHigh)) {
			t.Errorf(
				"%s: the difference is %g (%g to %g); want about %g", f, a.Difference, a.DifferenceLow, a.DifferenceHigh, want,
			)
		}
		if a.Main != (f == figure.P50 || f == figure.P90 || f == figure.P99 || f == figure.Mean || f == figure.Throughput ||
			f == figure.Memory) {
			t.Errorf("%s: on the ladder %v", f, a.Main)
		}
	}
	if a := figureIn(t, v, figure.Received); !a.Counted || !strings.Contains(a.Say(), "counted") {
		t.Errorf("bytes that never vary are %q, counted %v", a.Say(), a.Counted)
	}
	if got := figureIn(t, v, figure.P50).Apart(); !strings.HasPrefix(got, "-5.0") || !strings.Contains(got, " to -") {
		t.Errorf("the difference is written as %q", got)
	}
}

// A plan's own rungs carry the verdict, and differences of interest are each figure's own.
func TestRungsAndInterests(t *testing.T) {
	r := sample.Make(duel(sample.Times(0.0100, 0.02), sample.Times(0.0095, 0.02), 12, 3000))
	r.Plan.Rungs = []figure.Name{figure.P95, figure.Mean}
	r.Plan.Interests = map[figure.Name]float64{figure.P95: 0.10}
	v := weigh(t, r)
	if a := figureIn(t, v, figure.P95); !a.Main || a.Word != judge.Alike {
		t.Errorf("p95 is %s, on the ladder %v; 5 %% are of no interest", a.Word, a.Main)
	}
	if a := figureIn(t, v, figure.Mean); !a.Main || a.Word != judge.Better {
		t.Errorf("the mean is %s, on the ladder %v", a.Word, a.Main)
	}
	if a := figureIn(t, v, figure.P50); a.Main {
		t.Error("p50 is on a ladder that does not name it")
	}
	if !strings.Contains(v.Sentence, "p95") || strings.Contains(v.Sentence, "p50") {
		t.Errorf("sentence %q", v.Sentence)
	}
}

// mixed answers mostly in one time, and every hundredth and fiftieth or so in another.
func mixed(middle, tail float64) func(*rand.Rand, int) float64 {
	return func(rng *rand.Rand, round int) float64 {
		if rng.IntN(20) == 0 {
			return sample.Times(tail, 0.05)(rng, round)
		}
		return sample.Times(middle, 0.05)(rng, round)
	}
}

func TestTradeOffsAreNamed(t *testing.T) {
	long(t)
	r := sample.Make(duel(mixed(0.010, 0.020), mixed(0.005, 0.080), 12, 2000))
	v := weigh(t, r)
	if !strings.HasPrefix(
		v.Sentence, "joined is faster in the middle, slower in the tail: it is 2.0x faster than per-vessel at p50",
	) || v.Faces[0].Holds {
		t.Errorf("%q, holds %v", v.Sentence, v.Faces[0].Holds)
	}

	r = sample.Make(duel(sample.Times(0.010, 0.05), sample.Times(0.005, 0.05), 12, 2000))
	extra(t, r, map[string]float64{"per-vessel": 1, "joined": 2.4})
	if v = weigh(t, r); !strings.Contains(v.Sentence, ". It holds 2.4x the memory (2.3") {
		t.Errorf("%q", v.Sentence)
	}
	r = sample.Make(duel(sample.Times(0.010, 0.05), sample.Times(0.005, 0.05), 12, 2000))
	extra(t, r, map[string]float64{"per-vessel": 1, "joined": 0.6})
	if v = weigh(t, r); !strings.Contains(v.Sentence, "It holds 40") || !strings.Contains(v.Sentence, " % less memory") {
		t.Errorf("%q", v.Sentence)
	}

	v = weigh(t, sample.Make(duel(sample.Times(0.010, 0.05), sample.Times(0.010, 0.05), 20, 4000)))
	if !strings.HasPrefix(v.Sentence, "They are alike: the choice may rest on other grounds.") {
		t.Errorf("%q", v.Sentence)
	}

	v = weigh(t, coldAndWarm(12, [4]float64{0.08, 0.02, 0.08, 0.01}))
	if !strings.HasPrefix(v.Faces[0].Sentence, "remembering is faster warm, alike cold. Cold, ") {
		t.Errorf("%q", v.Faces[0].Sentence)
	}
}

func TestRankingTellsWhoCannotBeToldApart(t *testing.T) {
	long(t)
	d := sample.Duel{Rounds: 12, Shots: 400, Seed: 5, Entrants: []sample.Entrant{
		{Name: "slow", Latency: sample.Times(0.020, 0.1)}, {Name: "twin", Latency: sample.Times(0.010, 0.1)},
		{Name: "fast", Latency: sample.Times(0.004, 0.1)}, {Name: "other twin", Latency: sample.Times(0.010, 0.1)},
	}}
	v := weigh(t, sample.Make(d))
	if len(v.Ranking) != 1 {
		t.Fatalf("%d rankings", len(v.Ranking))
	}
	got := map[string]string{}
	for _, p := range v.Ranking[0].Places {
		got[p.Contender] = p.String()
	}
	if fmt.Sprint(got) != "map[fast:1 other twin:2 to 3 slow:4 twin:2 to 3]" ||
		v.Ranking[0].Places[0].Contender != "fast" {
		t.Errorf("places %v", got)
	}
	if said := v.Ranking[0].Sentence(); !strings.HasPrefix(said, "By p50: 1 fast (4.0") ||
		!strings.Contains(said, "2 to 3 ") {
		t.Errorf("%q", said)
	}
	all := []sample.Entrant{}
	for _, name := range []string{"a", "b", "c", "d"} {
		all = append(all, sample.Entrant{Name: name, Latency: heatNoise(0.1)})
	}
	v = weigh(t, sample.Make(sample.Duel{Rounds: 10, Shots: 100, Seed: 5, Entrants: all}))
	if said := v.Ranking[0].Sentence(); said != "By p50 no two of the 4 can be told apart yet." {
		t.Errorf("%q", said)
	}
	if v.Sentence != "All 3 are still open at p50 and at p90 (heats of 100 shots) against a." {
		t.Errorf("%q", v.Sentence)
	}
	d.Rounds = 4
	if v = weigh(t, sample.Make(d)); len(v.Ranking) != 0 {
		t.Error("four rounds give a ranking")
	}
}

// A figure that was named beforehand holds for all contenders at once.
func TestOneFigureOfSeveralContenders(t *testing.T) {
	d := sample.Duel{Rounds: 6, Shots: 400, Seed: 5, Decides: figure.P50}
	for i, name := range []string{"slow", "b", "c", "d", "e"} {
		d.Entrants = append(d.Entrants, sample.Entrant{Name: name, Latency: sample.Times(0.020/float64(1+i), 0.1)})
	}
	v := weigh(t, sample.Make(d))
	if a := figureIn(t, v, figure.P50); a.Word != judge.Open || a.Alone != judge.Better ||
		!strings.Contains(v.Note, "all 4 comparisons together") {
		t.Errorf("six rounds settle four comparisons: %s, note %q", a.Word, v.Note)
	}
	d.Rounds = 10
	if a := figureIn(t, weigh(t, sample.Make(d)), figure.P50); a.Word != judge.Better {
		t.Errorf("ten rounds: %s", a.Word)
	}
}

func TestFacingTurnsThePairRound(t *testing.T) {
	d := sample.Duel{Rounds: 10, Shots: 400, Seed: 5, Entrants: []sample.Entrant{
		{
			Name: "slow", Latency: sample.Times(0.020, 0.1),
		}, {Name: "twin", Latency: sample.Times(0.010, 0.1)}, {Name: "fast", Latency: sample.Times(0.004, 0.1)}}}
	r := sample.Make(d)
	v, err := judge.Facing(r, "twin")
	if err != nil || v.Baseline != "twin" || len(v.Faces) != 2 || r.Plan.Baseline != "slow" {
		t.Fatalf("%v, %+v", err, v)
	}
	if a := v.Faces[1].Figures[0]; v.Faces[1].Contender != "fast" || a.Ratio < 2.4 || a.Ratio > 2.6 {
		t.Errorf("%s against twin: %g", v.Faces[1].Contender, a.Ratio)
	}
	if _, err := judge.Facing(r, "nobody"); err == nil {
		t.Error("nobody is faced")
	}
}

// Speed 2 at 800 shots a second and 8 clients of 10 ms: 1 000 000 items take 1 250 s and half of it.
func TestStakes(t *testing.T) {
	r := sample.Make(duel(sample.Times(0.010, 0.02), sample.Times(0.005, 0.02), 10, 2000))
	r.Plan.Stakes = &result.Stakes{
		Items: 1e6, RunsPerDay: 600_000, MinutePrice: 0.01, PeakRate: 5000, Spare: 0.2, ServerPrice: 30, Currency: "crowns",
		Prices: map[figure.Name]float64{figure.Told("select pilot", "times"): 1e-6},
	}
	for i := range r.Heats { // of 50 shots that were looked into 20 have the step, 5 or 3 times each
		h := &r.Heats[i]
		s := result.Split{
			Name: "select pilot", Told: true, Step: true, Unit: "times", PerUnit: 1000, Sum: 20 * 5000, Lengths: h.Latencies,
		}
		if h.Contender == "joined" {
			s.Sum = 20 * 3000
		}
		h.Splits, h.Inside = append(h.Splits, s), &result.Inside{Shots: 50, Of: h.OK}
	}
	v := weigh(t, r)
	got := map[string]judge.Stake{}
	for _, s := range v.Stakes {
		got[s.What] = s
	}
	for what, want := range map[string][3]float64{
		"time for 1 000 000 items":                {1250, 625, 625},
		"minutes in a month of 30 days":           {3000, 1500, 1500}, // 600 000 x 30 x 10 ms
		"price of a month's minutes":              {30, 15, 15},
		"servers like this machine for 5 000/s":   {8, 4, 4}, // 6 250 of 800, of 1 600
		"price of these servers in a month":       {240, 120, 120},
		"price of a month's select pilot (times)": {36, 21.6, 14.4}, // 18 million x 2 and 1.2 of 1e-6
	} {
		s, ok := got[what]
		if !ok {
			t.Errorf("no stake %q", what)
			continue
		}
		for i, b := range []judge.Bound{s.Baseline, s.Own, s.Saved} {
			if math.Abs(b.V/want[i]-1) > 0.01 || b.Low > b.V || b.High < b.V {
				t.Errorf("%s: %+v; want %g", what, b, want[i])
			}
		}
	}
	s := got["servers like this machine for 5 000/s"]
	if text := s.Sentence("per-vessel"); text != "servers like this machine for 5 000/s: per-vessel 8 servers, joined 4 "+
		"servers; it saves 4 servers (3 to 4)." {
		t.Errorf("%q", text)
	}
	if s.Formula != "peak-rate / (1 - spare) / throughput, rounded up" {
		t.Errorf("formula %q", s.Formula)
	}
	r.Plan.Baseline = "joined"
	for _, s := range weigh(t, r).Stakes {
		if s.What == "time for 1 000 000 items" && !strings.Contains(s.Sentence("joined"), "it costs 10 min") {
			t.Errorf("the other way round: %q", s.Sentence("joined"))
		}
	}
}

// mirrored is a duel in which the baseline's twin is a little slower than itself.
func mirrored(own, twin float64) *result.Result {
	r := sample.Make(sample.Duel{Rounds: 12, Shots: 1000, Seed: 5, Entrants: []sample.Entrant{
		{Name: "per-vessel", Latency: sample.Times(0.010, 0.02)}, {Name: "joined", Latency: sample.Times(0.010/own, 0.02)},
		{Name: "per-vessel again", Latency: sample.Times(0.010*twin, 0.02)}}})
	r.Entrants[2].Mirror = true
	return r
}

func TestTheBaselineAgainstItself(t *testing.T) {
	long(t)
	v := weigh(t, mirrored(1.05, 1.08))
	if len(v.Faces) != 1 || v.Mirror == nil || v.Mirror.Contender != "per-vessel again" {
		t.Fatalf("%d faces, mirror %v", len(v.Faces), v.Mirror)
	}
	a := figureIn(t, v, figure.P50)
	if a.Noise < 1.07 || a.Noise > 1.1 || a.Word != judge.Better {
		t.Errorf("noise %g, p50 %s", a.Noise, a.Word)
	}
	if !hasCaution(v, "the baseline differs from itself at p50: 1.08x") ||
		!hasCaution(v, "joined is 1.05x faster at p50, and this machine differs from itself by up to 1.0") {
		t.Errorf("cautions %+v", v.Cautions)
	}
	if len(v.Ranking) != 0 {
		t.Error("the twin is ranked")
	}
	turned, err := judge.Facing(mirrored(1.05, 1.08), "joined")
	if err != nil || turned.Mirror != nil || len(turned.Faces) != 1 {
		t.Errorf("with another in the baseline's place: %v, %+v", err, turned.Mirror)
	}
	v = weigh(t, mirrored(2, 1))
	if hasCaution(v, "differs from itself") || !strings.Contains(v.Note, "all 7 figures") {
		t.Errorf("a quiet machine: note %q, cautions %+v", v.Note, v.Cautions)
	}
	if a = figureIn(
		t, weigh(t, sample.Make(duel(sample.Times(0.01, 0.1), sample.Times(0.01, 0.1), 8, 100))), figure.P50,
	); !math.IsNaN(a.Noise) {
		t.Errorf("noise %g where it was not tried", a.Noise)
	}
}

// A run that is looked at on the way has wider intervals, and is settled when all that carry the verdict are.
func TestLooks(t *testing.T) {
	clear := sample.Make(duel(sample.Times(0.010, 0.05), sample.Times(0.002, 0.05), 10, 600))
	narrow := figureIn(t, weigh(t, clear), figure.P50)
	clear.Plan.Looks = plan.Looks
	wide := figureIn(t, weigh(t, clear), figure.P50)
	if wide.Level != 0.985 || narrow.Level != 0.95 || wide.Width() <= narrow.Width() {
		t.Errorf("levels %g and %g, widths %g and %g", wide.Level, narrow.Level, wide.Width(), narrow.Width())
	}
	if ok, err := judge.Settled(clear); err != nil || !ok {
		t.Errorf("ten clear rounds are settled: %v, %v", ok, err)
	}
	open := sample.Make(duel(heatNoise(0.1), heatNoise(0.1), 10, 600))
	open.Plan.Looks = plan.Looks
	if ok, err := judge.Settled(open); err != nil || ok {
		t.Errorf("ten noisy rounds of likes are settled: %v, %v", ok, err)
	}
	few := sample.Make(duel(sample.Times(0.010, 0.05), sample.Times(0.002, 0.05), 5, 600))
	few.Plan.Looks = plan.Looks
	if ok, _ := judge.Settled(few); ok {
		t.Error("five rounds settle five figures together")
	}
	few.Plan.Decides = figure.P50
	if ok, _ := judge.Settled(few); !ok {
		t.Error("five clear rounds do not settle the one figure that was named beforehand")
	}
}

// It is long since its cases are listed in it.
func TestDisturbancesAreTold(t *testing.T) {
	long(t)
	find := func(v *judge.Verdict, kind judge.CautionKind) *judge.Caution {
		for i := range v.Cautions {
			if v.Cautions[i].Kind == kind {
				return &v.Cautions[i]
			}
		}
		return nil
	}
	plainly := sample.Times(0.010, 0.05)
	quiet := weigh(t, sample.Make(duel(plainly, plainly, 16, 400)))
	for _, kind := range []judge.CautionKind{judge.Drift, judge.FirstHeat, judge.Humps, judge.Outlier} {
		if c := find(quiet, kind); c != nil {
			t.Errorf("a quiet duel has %+v", c)
		}
	}
	shaped := func(base, own func(*rand.Rand, int) float64) *judge.Verdict {
		return weigh(t, sample.Make(duel(base, own, 16, 400)))
	}
	by := func(factor func(round int) float64) func(*rand.Rand, int) float64 {
		return func(rng *rand.Rand, round int) float64 { return plainly(rng, round) * factor(round) }
	}
	rising := by(func(round int) float64 { return 1 + 0.02*float64(round) })
	if c := find(shaped(rising, rising), judge.Drift); c == nil ||
		!strings.Contains(c.What, "p50 of all contenders rose over the run, by 2") || c.See != judge.InHeats {
		t.Errorf("drift of all: %+v", c)
	}
	if v := shaped(plainly, rising); find(v, judge.Drift) == nil ||
		!hasCaution(v, "joined loses on per-vessel from round to round") {
		t.Errorf("drift of one: %+v", v.Cautions)
	}
	first := by(func(round int) float64 {
		if round == 0 {
			return 2
		}
		return 1
	})
	if c := find(shaped(plainly, first), judge.FirstHeat); c == nil || c.Contender != "joined" || c.Round != 1 ||
		!strings.Contains(c.What, "p50 2.0x longer than the rest") {
		t.Errorf("first heat: %+v", c)
	}
	far := by(func(round int) float64 {
		if round == 9 {
			return 3
		}
		return 1
	})
	if c := find(shaped(plainly, far), judge.Outlier); c == nil || c.Round != 10 || !strings.Contains(
		c.What, "round 10 of joined lies far out: p50 3.0x its usual one, ",
	) || !strings.Contains(c.What, "other programs then used") {
		t.Errorf("outlier: %+v", c)
	}
	two := func(rng *rand.Rand, round int) float64 {
		if rng.IntN(3) == 0 {
			return 3 * plainly(rng, round)
		}
		return plainly(rng, round)
	}
	if c := find(shaped(plainly, two), judge.Humps); c == nil || c.Contender != "joined" || c.See != judge.InShapes {
		t.Errorf("humps: %+v", c)
	}
	stalled := func(rng *rand.Rand, round int) float64 {
		if round == 3 && rng.IntN(200) == 0 {
			return 0.9
		}
		return plainly(rng, round)
	}
	if c := find(shaped(plainly, stalled), judge.ClosedModel); c == nil || c.Round != 4 ||
		!strings.Contains(c.What, "a shot of joined took 9") {
		t.Errorf("stalls: %+v", c)
	}
}

func TestOutputToATerminalIsTold(t *testing.T) {
	r := sample.Make(duel(sample.Times(0.010, 0.05), sample.Times(0.005, 0.05), 6, 50))
	r.Entrants[1].Touch.Terminal = true
	v := weigh(t, r)
	if !hasCaution(v, "joined writes to a terminal: drawing 8.25 KiB") ||
		hasCaution(v, "per-vessel writes to a terminal") {
		t.Errorf("cautions %+v", v.Cautions)
	}
}

// served gives heats services that hold so much at rest, and grow by so much with each thousand shots.
func served(r *result.Result, grows map[string]float64) {
	rng := rand.New(rand.NewPCG(2, 2))
	for i := range r.Heats {
		h := &r.Heats[i]
		rest := int64(40<<20) + rng.Int64N(1<<20)
		last := rest + int64(grows[h.Contender]*float64(h.Shots())/1000*(1+0.1*rng.NormFloat64()))
		h.Service = &result.Service{CPU: h.Wall, Peak: last, Proportional: last / 2, Moments: []result.Moment{
			{Resident: rest, Threads: 4, Processes: 1},
		}}
		for k := 1; k <= 4; k++ {
			h.Service.Moments = append(h.Service.Moments, result.Moment{
				At: h.Wall * time.Duration(k) / 4, Resident: rest + (last-rest)*int64(k)/4, Threads: 9, Processes: 1,
			})
		}
		h.SetAmount(shots.CPU, int64(h.Service.CPU))
		h.SetAmount(shots.Memory, last)
		h.Conditions.OthersFrac = 0.55 // of two processors, one by the service
	}
}

func TestServicesAreJudged(t *testing.T) {
	r := sample.Make(duel(sample.Times(0.010, 0.05), sample.Times(0.010, 0.05), 10, 2000))
	served(r, map[string]float64{"joined": 4 << 20, "per-vessel": 0})
	v := weigh(t, r)
	const grows = "the service of joined still grows in the second half of its heats: by "
	if !hasCaution(v, grows+"4.0") && !hasCaution(v, grows+"3.9") ||
		hasCaution(v, "the service of per-vessel") {
		t.Errorf("cautions %+v", v.Cautions)
	}
	if hasCaution(v, "other programs") {
		t.Error("the service is taken for another program")
	}
	rows := map[string]string{}
	for _, row := range v.Scorecard {
		rows[row.Name] = strings.Join(row.Values, " | ")
	}
	if rest := strings.Split(rows["grows, 1 000 shots"], " | "); len(rest) != 2 || !strings.HasPrefix(rest[0], "0 B") ||
		!strings.Contains(rest[1], " MiB (") {
		t.Errorf("growth %q", rest)
	}
	if rows["threads at most"] != "9 | 9" || !strings.HasPrefix(rows["memory at rest"], "40.") ||
		!strings.HasPrefix(rows["shared parts divided"], "20.") {
		t.Errorf("scorecard %v", rows)
	}
	if a := figureIn(t, v, figure.Memory); !a.Main || a.Word != judge.Worse || a.Ratio > 0.9 || a.Ratio < 0.8 {
		t.Errorf("memory is %s, %g", a.Word, a.Ratio)
	}
}

// Of a few shots nothing is said of how much a thousand would take.
func TestGrowthTakesManyShots(t *testing.T) {
	r := sample.Make(duel(sample.Times(0.010, 0.05), sample.Times(0.010, 0.05), 10, 50))
	served(r, map[string]float64{"joined": 400 << 20, "per-vessel": 0})
	v := weigh(t, r)
	if hasCaution(v, "still grows") {
		t.Errorf("cautions %+v", v.Cautions)
	}
	for _, row := range v.Scorecard {
		if strings.HasPrefix(row.Name, "grows") {
			t.Errorf("the scorecard says %q", row.Values)
		}
	}
}

func TestServicesInTroubleAreCautions(t *testing.T) {
	r := sample.Make(duel(sample.Times(0.010, 0.05), sample.Times(0.010, 0.05), 10, 200))
	served(r, map[string]float64{"joined": 0, "per-vessel": 0})
	for i := range r.Heats {
		if h := &r.Heats[i]; h.Contender == "joined" {
			h.Service.Killed, h.Service.Limits, h.WakeFailed = 2, "at most 64 MiB of memory", "reset"
		}
	}
	v := weigh(t, r)
	for _, want := range []string{
		"20 processes of the service of joined were killed because they wanted more than at most 64 MiB",
		"the shot after the silence failed for joined in 10 heats: reset",
	} {
		if !hasCaution(v, want) {
			t.Errorf("no caution says %q: %+v", want, v.Cautions)
		}
	}
}

func TestLatencies(t *testing.T) {
	v := weigh(t, sample.Make(duel(sample.Times(0.010, 0.1), sample.Times(0.005, 0.1), 6, 1000)))
	l := v.Latencies[cell.Of("joined", "")]
	if l.Shots() != 6000 {
		t.Fatalf("%d shots", l.Shots())
	}
	for q := 0.05; q < 1; q += 0.05 {
		x := l.Quantile(q)
		if got := l.UpTo(x); math.Abs(got-q) > 0.006 {
			t.Errorf("%g lie up to the %g quantile", got, q)
		}
	}
	low, high := l.Ends()
	if l.UpTo(low*0.99) != 0 || l.UpTo(high) != 1 || l.Quantile(1) != high || l.Quantile(0) != low {
		t.Errorf("ends %g and %g: %g below, %g up to", low, high, l.UpTo(low*0.99), l.UpTo(high))
	}
	var none *judge.Latencies
	if none.Shots() != 0 || !math.IsNaN(none.Quantile(0.5)) || !math.IsNaN(none.UpTo(1)) {
		t.Error("no latencies have figures")
	}
}

// Ten million shots in 20 heats, with what their latencies are made of.
func BenchmarkTenMillionShots(b *testing.B) {
	r := sample.Make(duel(sample.Times(0.010, 0.3), sample.Times(0.005, 0.3), 10, 500_000))
	for i := range r.Heats {
		for _, name := range []string{"late", "send", "wait", "read"} {
			r.Heats[i].Splits = append(r.Heats[i].Splits, result.Split{
				Name: name, Sum: int64(r.Heats[i].LatencySum), Lengths: r.Heats[i].Latencies,
			})
		}
	}
	for b.Loop() {
		if _, err := judge.Judge(r); err != nil {
			b.Fatal(err)
		}
	}
}

// started gives every heat a start that takes its contender so many seconds in all, and a first answer that takes a
// fifth of it.
func started(r *result.Result, of map[string]float64) {
	rng := rand.New(rand.NewPCG(3, 3))
	for i := range r.Heats {
		h := &r.Heats[i]
		unit := of[h.Contender] * (1 + 0.01*rng.NormFloat64())
		part := func(x float64) time.Duration { return time.Duration(x * unit * 1e9) }
		h.Starts = []result.Start{
			{Ready: part(99), First: part(99), Unjudged: true},
			{Prepared: part(5), Output: part(0.2), Ready: part(0.7), Asked: part(0.8), First: part(1), Second: part(1.1),
				Settled: part(2), Shot: 4,
				FirstTook: part(0.2), SecondTook: part(0.1),
				Marks: []result.StartMark{{
					Name: "tables", Unit: units.Second, Value: part(0.5).Seconds(),
				}, {Name: "rows", Unit: "rows", Value: 365 * of[h.Contender]}},
				Rush: &result.Rush{Due: 10, Failed: 3, Waited: 5, Longest: part(0.6)}},
		}
	}
}

func TestStartsAreJudged(t *testing.T) {
	r := sample.Make(duel(sample.Times(0.010, 0.05), sample.Times(0.010, 0.05), 10, 2000))
	started(r, map[string]float64{"per-vessel": 1, "joined": 0.25})
	r.Plan.Rungs = []figure.Name{figure.FirstAnswer, figure.P50}
	v := weigh(t, r)
	for _, f := range []figure.Name{
		figure.Start, figure.FirstOutput, figure.FirstAnswer, figure.SecondAnswer, figure.Settled, figure.Prepare,
	} {
		a := figureIn(t, v, f)
		if a.Word != judge.Better || a.Ratio < 3.8 || a.Ratio > 4.2 || a.Main != (f == figure.FirstAnswer) {
			t.Errorf("%s: %s, %g, main %v", f, a.Word, a.Ratio, a.Main)
		}
	}
	if !strings.Contains(v.Faces[0].Sentence, "faster than per-vessel until its first answer") {
		t.Errorf("sentence %q", v.Faces[0].Sentence)
	}
	rows := map[string]string{}
	for _, row := range v.Scorecard {
		rows[row.Name] = strings.Join(row.Values, " | ")
	}
	if rows["of these, failed"] != "30 | 30" || rows["rows, at the start"] != "365 rows | 91.2 rows" ||
		rows["due before it was ready"] != "100 | 100" {
		t.Errorf("scorecard %v", rows)
	}
	typical, n := judge.TypicalStart(r, "joined", "")
	if n != 10 || typical.Ready < 170*time.Millisecond || typical.Ready > 180*time.Millisecond || typical.Shot != 4 ||
		len(typical.Marks) != 2 {
		t.Errorf("%d starts, typically %+v", n, typical)
	}
}

// A heat of which one start lacks a part has no figure of it.
func TestAStartWithoutAnAnswer(t *testing.T) {
	r := sample.Make(duel(sample.Times(0.010, 0.05), sample.Times(0.010, 0.05), 10, 200))
	started(r, map[string]float64{"per-vessel": 1, "joined": 0.25})
	for i := range r.Heats {
		if r.Heats[i].Contender == "joined" {
			r.Heats[i].Starts[1].First = 0
		}
	}
	v := weigh(t, r)
	for _, a := range v.Faces[0].Figures {
		if a.Figure == figure.FirstAnswer && a.Word != judge.NoWord {
			t.Errorf("first answer: %s", a.Word)
		}
	}
	if a := figureIn(t, v, figure.Start); a.Word != judge.Better {
		t.Errorf("start: %s", a.Word)
	}
}

func TestFirstRunsStandBesideLaterOnes(t *testing.T) {
	r := sample.Make(duel(sample.Times(0.010, 0.05), sample.Times(0.010, 0.05), 10, 50))
	for i := range r.Heats {
		h := &r.Heats[i]
		h.SetAmount(shots.CPU, int64(h.Wall))
		r.Entrant(h.Contender).OwnProcess = true
		h.First = 30 * time.Millisecond
		if h.Contender == "joined" {
			h.First = 20 * time.Millisecond
		}
	}
	v := weigh(t, r)
	if a := figureIn(t, v, figure.FirstRun); a.Word != judge.Better || math.Abs(a.Ratio-1.5) > 1e-6 {
		t.Errorf("first run: %s, %g", a.Word, a.Ratio)
	}
	if len(v.Beginnings) != 2 || math.Abs(v.Beginnings[0].Ratio-3) > 0.1 || !(v.Beginnings[1].Low < 2 &&
		2 < v.Beginnings[1].High) || !strings.HasPrefix(v.Beginnings[0].Say(), "3.0x as long as later ones (") {
		t.Errorf("beginnings %+v", v.Beginnings)
	}
}

// Cost that moves from one mark to another is said to have moved; marks of other units than time are shown in theirs.
func TestCostThatMovedIsNotGone(t *testing.T) {
	r := sample.Make(duel(sample.Times(0.010, 0.05), sample.Times(0.010, 0.05), 10, 50))
	r.Plan.Marks = []figure.Name{"told load", "told render", "told heap [B]", "told all"}
	r.Plan.Sums = map[figure.Name][]figure.Name{"told all": {"told load", "told render"}}
	rng := rand.New(rand.NewPCG(5, 5))
	for i := range r.Heats {
		h := &r.Heats[i]
		load, render := 6e6, 2e6
		if h.Contender == "joined" {
			load, render = 2e6, 6e6
		}
		for name, x := range map[string]float64{"load": load, "render": render, "all": 8e6, "heap": load} {
			lengths := tally.NewHistogram()
			var sum time.Duration
			for range h.OK {
				d := time.Duration(x * (1 + 0.002*rng.NormFloat64()))
				sum += d
				lengths.RecordValue(int64(d))
			}
			text, err := result.EncodeHistogram(lengths)
			if err != nil {
				t.Fatal(err)
			}
			one := result.Split{Name: name, Told: true, Sum: int64(sum), Lengths: text}
			if name == "heap" {
				one.Unit, one.PerUnit = units.Byte, 1
			}
			h.Splits = append(h.Splits, one)
		}
	}
	v := weigh(t, r)
	if want := "What it wins in load it loses in render: their sum, all, is no different."; !strings.Contains(
		v.Faces[0].Sentence, want,
	) {
		t.Errorf("sentence %q; want %q", v.Faces[0].Sentence, want)
	}
	a := figureIn(t, v, "told heap [B]")
	if a.Word != judge.Better || a.Say() != "less" || a.Figure.Label() != "heap (told)" ||
		a.Figure.Show(a.Contender.V) != "1.91 MiB" {
		t.Errorf("heap: %s %s, %s", a.Word, a.Say(), a.Figure.Show(a.Contender.V))
	}
}

// No word is said of a difference in memory that the measure cannot see, however often it is seen.
func TestWordsAreNoSurerThanTheMeasure(t *testing.T) {
	made := func(grain int64) *judge.Verdict {
		r := sample.Make(sample.Duel{
			Entrants: []sample.Entrant{
				{Name: "a", Latency: sample.Times(0.01, 0.1)}, {Name: "b", Latency: sample.Times(0.01, 0.1)},
			},
			Rounds: 12, Shots: 50, Seed: 1,
		})
		for i := range r.Heats {
			r.Heats[i].SetAmount(shots.Memory, 1_200_000)
			if r.Heats[i].Contender == "b" {
				r.Heats[i].SetAmount(shots.Memory, 1_070_000) // 10.8 % less, each time
			}
			r.Heats[i].PeakGrain = grain
		}
		v, err := judge.Judge(r)
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
	for grain, want := range map[int64]judge.Word{0: judge.Better, 1000: judge.Better, 512 << 10: judge.Open} {
		v := made(grain)
		i := slices.IndexFunc(v.Faces[0].Figures, func(a judge.Assessment) bool { return a.Figure == figure.Memory })
		a := v.Faces[0].Figures[i]
		if a.Word != want {
			t.Errorf("with a grain of %d bytes the word is %s (%.3f to %.3f); want %s", grain, a.Word, a.Low, a.High, want)
		}
		if grain > 1000 && (a.Low > 0.8 || a.High < 1.5 || a.DifferenceHigh-a.DifferenceLow < 2*float64(grain)) {
			t.Errorf("the interval is %.3f to %.3f, %.0f to %.0f bytes", a.Low, a.High, a.DifferenceLow, a.DifferenceHigh)
		}
	}
}

// A figure that was named to decide stands on the ladder and carries the verdict, whichever it is.
func TestAnyFigureMayDecide(t *testing.T) {
	d := duel(sample.Times(0.01, 0.1), sample.Times(0.005, 0.1), 6, 200)
	d.Decides = figure.P95
	v := weigh(t, sample.Make(d))
	a := figureIn(t, v, figure.P95)
	if !a.Main || a.Word != judge.Better || !v.Faces[0].Holds ||
		!strings.Contains(v.Sentence, "faster than per-vessel at p95") {
		t.Errorf("p95: %+v; %s", a, v.Sentence)
	}
}

// What a kind counts may be named as a figure, and so much a second of it where the kind says so.
func TestAmountsAreFigures(t *testing.T) {
	r := sample.Make(duel(sample.Times(0.010, 0.05), sample.Times(0.005, 0.05), 10, 50))
	r.Amounts = append(r.Amounts,
		shots.Amount{Name: "cargo", Unit: units.Byte, Rate: true},
		shots.Amount{Name: "lifts", Unit: "lifts", Row: "lifts a shot", Per: shots.PerShot, Site: shots.Uses})
	for i := range r.Heats {
		h := &r.Heats[i]
		h.SetAmount("cargo", 50<<20)
		h.SetAmount("lifts", int64(100+i%3))
		if h.Contender == "joined" {
			h.SetAmount("lifts", int64(400+i%3))
		}
	}
	r.Plan.Rungs = []figure.Name{figure.P50, figure.Amount("lifts", "lifts"), figure.RateOf("cargo", units.Byte)}
	r.Plan.Claims = []string{
		"joined lifts at most 5x that of per-vessel", "joined cargo/s at least 1.5x that of per-vessel",
	}
	v := weigh(t, r)
	lifts, cargo := figureIn(t, v, figure.Amount("lifts", "lifts")), figureIn(t, v, figure.RateOf("cargo", units.Byte))
	if lifts.Word != judge.Worse || lifts.Say() != "more lifts" || math.Abs(lifts.Ratio-0.25) > 0.01 {
		t.Errorf("lifts: %s, %g", lifts.Say(), lifts.Ratio)
	}
	if cargo.Word != judge.Better || cargo.Say() != "more cargo a second" || cargo.Figure.Label() != "cargo/s" {
		t.Errorf("cargo: %s, %g", cargo.Say(), cargo.Ratio)
	}
	if text := cargo.Figure.Show(cargo.Contender.V); math.Abs(cargo.Contender.V/(8*50<<20)*50*0.005-1) > 0.05 {
		t.Errorf("cargo is moved at %s", text)
	}
	for _, c := range v.Claims {
		if c.Finding != judge.Upheld {
			t.Errorf("%s is %s: %s", c.Text, c.Finding, c.Why)
		}
	}
}

// told is a made-up duel of commands whose shots tell an amount: so many of the baseline and of the contender in each
// round.
func told(t *testing.T, split result.Split, amounts func(round int) (base, own int64)) *result.Result {
	t.Helper()
	r := sample.Make(duel(sample.Times(0.010, 0.02), sample.Times(0.010, 0.02), 10, 40))
	for i := range r.Heats {
		h := &r.Heats[i]
		base, own := amounts(h.Round)
		amount := base
		if h.Contender != r.Plan.Baseline {
			amount = own
		}
		lengths := tally.NewHistogram()
		one := split
		for range h.OK {
			lengths.RecordValue(amount * int64(split.PerUnit))
			one.Sum += amount * int64(split.PerUnit)
		}
		var err error
		if one.Lengths, err = result.EncodeHistogram(lengths); err != nil {
			t.Fatal(err)
		}
		h.Splits = append(h.Splits, one)
	}
	r.Plan.Marks = []figure.Name{split.Figure()}
	for i := range r.Entrants {
		r.Entrants[i].Marks = r.Plan.Marks
	}
	return r
}

func TestNoneAgainstManyIsAFinding(t *testing.T) {
	long(t)
	lines := result.Split{Name: "lost", Told: true, Unit: "lines", PerUnit: 1000}
	for name, tt := range map[string]struct {
		amounts func(round int) (base, own int64)
		word    judge.Word
		say     string
	}{
		"none against the same each time": {
			func(int) (int64, int64) { return 1280, 0 }, judge.Better, "fewer lines, 0 against 1 280 lines",
		},
		"none against many": {
			func(round int) (int64, int64) { return 1200 + int64(round), 0 }, judge.Better,
			"fewer lines, 0 against 1 210 lines",
		},
		"many against none": {
			func(round int) (int64, int64) { return 0, 40 + int64(round%3) }, judge.Worse, "more lines, 41.0 against 0 lines",
		},
		"none against none": {func(int) (int64, int64) { return 0, 0 }, judge.Alike, "the same"},
		"now and then": {
			func(round int) (int64, int64) { return int64(round % 2), int64(1 - round%2) }, judge.Open, "still open, ",
		},
		"the same each time": {
			func(int) (int64, int64) { return 1001, 1001 }, judge.Alike, "the same",
		},
	} {
		a := figureIn(t, weigh(t, told(t, lines, tt.amounts)), lines.Figure())
		if a.Word != tt.word || !strings.HasPrefix(a.Say(), tt.say) {
			t.Errorf("%s: %s, %q; want %s, %q", name, a.Word, a.Say(), tt.word, tt.say)
		}
		if name == "the same each time" && a.Figure.Show(a.Contender.V) != "1 001 lines" {
			t.Errorf("1 001 is shown as %s", a.Figure.Show(a.Contender.V))
		}
	}
}

// A time to parts of a nanosecond stands on the ladder, and its thousandths are told apart.
func TestTimesOfOperationsAreRungs(t *testing.T) {
	operation := result.Split{Name: "operation", Told: true, Unit: units.Nanosecond, PerUnit: 1000}
	r := told(t, operation, func(round int) (int64, int64) { return 1300 + int64(round%3), 1450 + int64(round%3) })
	for i := range r.Heats { // as told works in whole ones
		last := &r.Heats[i].Splits[len(r.Heats[i].Splits)-1]
		last.PerUnit *= 1000
	}
	a := figureIn(t, weigh(t, r), operation.Figure())
	if !a.Main || a.Word != judge.Worse || a.Figure.Show(a.Baseline.V) != "1.30 ns" {
		t.Errorf("on the ladder %v, %s, %q, %s", a.Main, a.Word, a.Say(), a.Figure.Show(a.Baseline.V))
	}
}

// Where each contender had one process, a small difference may be that of two starts.
func TestOneProcessEachIsACaution(t *testing.T) {
	const text = "contenders ran in one process each"
	for slower, want := range map[float64]bool{1.1: true, 3: false, 1: false} {
		r := sample.Make(duel(sample.Times(0.010, 0.001), sample.Times(0.010*slower, 0.001), 12, 500))
		if hasCaution(weigh(t, r), text) {
			t.Errorf("%gx: told of processes that started anew", slower)
		}
		r.Entrants[0].OneProcess, r.Entrants[1].OneProcess = true, true
		if got := hasCaution(weigh(t, r), text); got != want {
			t.Errorf("%gx: told %v; want %v", slower, got, want)
		}
	}
}

// A database that carries a statement out in another way than at the weigh-in is told, with the round from which on.
func TestAnotherQueryPlanIsACaution(t *testing.T) {
	r := sample.Make(duel(sample.Times(0.010, 0.001), sample.Times(0.008, 0.001), 12, 500))
	if hasCaution(weigh(t, r), "in another way") {
		t.Error("told without a sign of it")
	}
	for i := range r.Heats {
		if h := &r.Heats[i]; h.Contender == r.Entrants[1].Name && (h.Round == 7 || h.Round == 9) {
			h.QueryPlan = "SCAN calls\nUSE TEMP B-TREE"
		}
	}
	want := "the database carries out " + r.Entrants[1].Name + " in another way than at the weigh-in, after 2 heats, " +
		"first in round 7: SCAN calls"
	if v := weigh(t, r); !hasCaution(v, want) {
		t.Errorf("%v", v.Cautions)
	}
}

// What a contender counted of all shots of a heat is the judged ones' share of it, also taken together.
func TestAccountsAreSharedOut(t *testing.T) {
	r := sample.Make(duel(sample.Times(0.010, 0.001), sample.Times(0.008, 0.001), 12, 500))
	r.Amounts = append(r.Amounts, shots.Amount{
		Name: "steps", Unit: "steps", Row: "steps a shot", Per: shots.PerShot, Site: shots.Uses,
	})
	for i := range r.Heats {
		h := &r.Heats[i]
		each := int64(100)
		if h.Contender == r.Plan.Baseline {
			each = 300
		}
		h.AccountShots = h.Shots() + 40
		h.Account = map[string]int64{"steps": each * h.AccountShots}
	}
	r.Plan.Claims = []string{r.Entrants[1].Name + " steps under 101", r.Plan.Baseline + " steps under 299"}
	v := weigh(t, r)
	if v.Claims[0].Finding != judge.Upheld || v.Claims[1].Finding != judge.Refuted {
		t.Errorf("%+v", v.Claims)
	}
	for _, row := range v.Scorecard {
		if row.Name == "steps a shot" && row.Values[0] == "300" && row.Values[1] == "100" {
			return
		}
	}
	t.Errorf("%v", v.Scorecard)
}

// What is none in every heat keeps any limit; claims may name whatever was told.
func TestClaimsAboutWhatIsNoneEverywhere(t *testing.T) {
	collections := result.Split{Name: "collections", Told: true, Unit: "collections", PerUnit: 1000}
	r := told(t, collections, func(int) (int64, int64) { return 0, 0 })
	r.Plan.Marks = nil // a worker tells it without a mark in the plan
	r.Plan.Claims = []string{"joined collections under 5", "joined collections over 5"}
	v := weigh(t, r)
	if v.Claims[0].Finding != judge.Upheld || v.Claims[1].Finding != judge.Refuted ||
		!strings.Contains(v.Claims[0].Why, "0 collections in every heat") {
		t.Errorf("%+v", v.Claims)
	}
}

// What shots of many operations take says no more than these do: it leaves the ladder to them, and the sentence too,
// and it is said whose operations have no percentiles.
func TestOperationsTakeThePlaceOfTheirShots(t *testing.T) {
	long(t)
	operation := result.Split{Name: "operation", Told: true, Unit: units.Nanosecond, PerUnit: 1000}
	tail := result.Split{Name: "p99 of operation", Told: true, Unit: units.Nanosecond, PerUnit: 1000}
	alike := func(round int) (int64, int64) { return 1300 + int64(round%3), 1300 + int64(round%3) }
	v := weigh(t, told(t, operation, alike))
	if figureIn(t, v, figure.P50).Main || figureIn(t, v, figure.Mean).Main {
		t.Error("what a shot takes stands on the ladder beside the operations that it is made of")
	}
	if !strings.HasSuffix(v.Note, "too short to be timed one by one, so their percentiles are not known") {
		t.Errorf("note %q", v.Note)
	}
	r := told(t, operation, alike)
	stopped := r.Heats[0]
	stopped.Stopped, stopped.Splits, stopped.OK = "no berth was free", nil, 0
	r.Heats = append(r.Heats, stopped)
	if figureIn(t, weigh(t, r), figure.P50).Main {
		t.Error("a heat that was stopped brings shots back to the ladder")
	}
	r.Heats = r.Heats[:len(r.Heats)-1]
	for i := range r.Heats {
		h := &r.Heats[i]
		one := told(t, tail, func(int) (int64, int64) { return 2000, 3000 }).Heats[i]
		h.Splits = append(h.Splits, one.Splits[len(one.Splits)-1])
	}
	used := result.Split{Name: "CPU of operation", Told: true, Unit: units.Nanosecond, PerUnit: 1000}
	for i := range r.Heats {
		one := told(t, used, func(int) (int64, int64) { return 1300, 2600 }).Heats[i]
		r.Heats[i].Splits = append(r.Heats[i].Splits, one.Splits[len(one.Splits)-1])
	}
	v = weigh(t, r)
	a := figureIn(t, v, used.Figure())
	if a.Word != judge.Worse || a.Figure.Comparative(false) != "more CPU" ||
		!strings.Contains(v.Sentence, "It takes 2.0x more CPU") {
		t.Errorf("%q, in %q", a.Say(), v.Sentence)
	}
	if !strings.Contains(v.Sentence, "1.50x slower") || !strings.Contains(v.Sentence, "at p99 of operation") {
		t.Errorf("%q does not tell of the tail", v.Sentence)
	}
	if strings.Contains(v.Note, "too short") {
		t.Errorf("note %q, and percentiles are known", v.Note)
	}
	for _, row := range v.Scorecard {
		if row.Name == "p99 of operation at p50" {
			t.Error("a percentile of a percentile")
		}
	}
}

func TestMarksMayLeanTheOtherWayAndCountBySecond(t *testing.T) {
	findings := result.Split{Name: "findings", Told: true, More: true, Unit: "findings", PerUnit: 1000}
	a := figureIn(t, weigh(t, told(t, findings, func(int) (int64, int64) { return 40, 60 })), findings.Figure())
	if a.Word != judge.Better || a.Say() != "more findings, counted" {
		t.Errorf("findings: %s, %q", a.Word, a.Say())
	}
	work := result.Split{Name: "work", Told: true, Rate: true, Unit: units.Byte, PerUnit: 1}
	v := weigh(t, told(t, work, func(int) (int64, int64) { return 1 << 20, 3 << 20 }))
	a = figureIn(t, v, work.Figure())
	// A MiB each 10 ms, by eight clients.
	if a.Word != judge.Better || math.Abs(a.Baseline.V/(800<<20)-1) > 0.02 || math.Abs(a.Ratio-3) > 0.1 {
		t.Errorf("work: %s, %s, %g", a.Word, a.Figure.Show(a.Baseline.V), a.Ratio)
	}
	for _, row := range v.Scorecard {
		if strings.HasPrefix(row.Name, "work") {
			t.Errorf("the scorecard has %q, which is not an amount of a shot", row.Name)
		}
	}
}

func TestMarksThatAreNotAlwaysToldAreNamed(t *testing.T) {
	split := result.Split{Name: "load", Told: true, PerUnit: 1e9}
	r := told(t, split, func(int) (int64, int64) { return 1, 1 })
	for i := range r.Heats {
		if h := &r.Heats[i]; h.Contender != r.Plan.Baseline {
			lengths := tally.NewHistogram() // of all shots but one
			lengths.RecordValues(1e9, h.OK-1)
			var err error
			if h.Splits[0].Lengths, err = result.EncodeHistogram(lengths); err != nil {
				t.Fatal(err)
			}
		}
	}
	all := ""
	for _, c := range weigh(t, r).Cautions {
		all += c.What + "\n"
	}
	want := "joined told load in 390 of 400 shots"
	if !strings.Contains(all, want) || strings.Count(all, "told load") != 1 {
		t.Errorf("cautions lack %q:\n%s", want, all)
	}
}

func TestWhoFindsNothingMayNotHaveLooked(t *testing.T) {
	for name, tt := range map[string]struct {
		more   bool
		stderr string
		want   bool
	}{
		"more is better":         {true, "", true},
		"it said something":      {false, "unknown rule tide-gate", true},
		"none is what is wanted": {false, "", false},
	} {
		split := result.Split{Name: "findings", Told: true, More: tt.more, Unit: "findings", PerUnit: 1000}
		r := told(t, split, func(int) (int64, int64) { return 40, 0 })
		r.Entrants[1].Touch.Stderr = tt.stderr
		const text = "joined tells no findings where per-vessel tells 40 findings: it may not have looked"
		if got := hasCaution(weigh(t, r), text); got != tt.want {
			t.Errorf("%s: told %v; want %v", name, got, tt.want)
		}
	}
}

// Processors used are CPU time for each second that runs take: two of them where a run of 10 ms takes 20 ms of CPU.
func TestProcessorsUsed(t *testing.T) {
	d := duel(sample.Times(0.010, 0.001), sample.Times(0.010, 0.001), 8, 20)
	d.Clients = 0
	d.Entrants[0].CPU, d.Entrants[1].CPU = 20*time.Millisecond, 5*time.Millisecond
	r := sample.Make(d)
	r.Plan.Claims = []string{"joined processors under 0.6", "per-vessel processors under 1.5"}
	v := weigh(t, r)
	for _, row := range v.Scorecard {
		if row.Name == "processors used" && (strings.Join(row.Values, " ") != "2.00 0.5" || !row.Plain) {
			t.Errorf("processors used: %q", row.Values)
		}
	}
	if len(v.Claims) != 2 || v.Claims[0].Finding != judge.Upheld || v.Claims[1].Finding != judge.Refuted {
		t.Errorf("claims %+v", v.Claims)
	}
	// At a set rate most clients wait for shots to be due: it is all of the heat that counts, here ten times as long.
	r.Plan.Pace.Rate, r.Plan.Pace.Repeat = 50, 0
	for i := range r.Heats {
		h := &r.Heats[i]
		h.Clients, h.Busy = 64, 64*10*h.LatencySum
	}
	if v = weigh(t, r); v.Claims[0].Finding != judge.Upheld || !strings.Contains(v.Claims[0].Why, "0.05 processors") {
		t.Errorf("at a rate: %+v", v.Claims[0])
	}
	for _, row := range v.Scorecard {
		if row.Name == "processors used" && strings.Join(row.Values, " ") != "0.2 0.05" {
			t.Errorf("processors used at a rate: %q", row.Values)
		}
	}
}

// Amounts that differ are written so that it is seen.
func TestWhatDiffersIsSeenToDiffer(t *testing.T) {
	r := sample.Make(duel(sample.Times(0.010, 0.02), sample.Times(0.010, 0.02), 8, 20))
	r.Entrants[0].Touch.Bytes, r.Entrants[1].Touch.Bytes = 2<<30, 2<<30+1
	const text = "the answers differ in size: per-vessel 2 147 483 648 B, joined 2 147 483 649 B"
	if v := weigh(t, r); !hasCaution(v, text) {
		t.Errorf("cautions %+v", v.Cautions)
	}
	r.Entrants[1].Touch.Bytes = 3 << 30
	if v := weigh(t, r); !hasCaution(v, "per-vessel 2.00 GiB, joined 3.00 GiB") {
		t.Errorf("cautions %+v", v.Cautions)
	}
}

// Sorts of shots are judged by themselves, by their own numbers: what is too few for one is enough for the other.
func TestSortsAreJudgedByThemselves(t *testing.T) {
	r := sample.Make(duel(sample.Times(0.010, 0.05), sample.Times(0.005, 0.05), 10, 1000))
	p99 := figure.Of(figure.P99, "report")
	r.Plan.Rungs = []figure.Name{figure.Of(figure.P99, "ping"), p99, figure.Of(figure.Mean, "ping")}
	r.Plan.Claims = []string{"joined p99 of report under 1s", "joined p99 of ping at most 0.6x that of per-vessel"}
	for i := range r.Heats {
		h := &r.Heats[i]
		for name, n := range map[string]int64{"ping": 950, "report": 50} {
			lengths := tally.NewHistogram()
			took := int64(4e6)
			if h.Contender == "joined" {
				took = 2e6
			}
			lengths.RecordValues(took, n)
			text, err := result.EncodeHistogram(lengths)
			if err != nil {
				t.Fatal(err)
			}
			h.Splits = append(h.Splits, result.Split{Name: name, Told: true, Stream: true, Sum: took * n, Lengths: text})
			h.Sorts = append(h.Sorts, result.Sort{Name: name, OK: n})
		}
	}
	v := weigh(t, r)
	if a := figureIn(t, v, figure.Of(figure.P99, "ping")); math.Abs(a.Ratio-2) > 0.01 || a.Contender.V > 0.00201 {
		t.Errorf("%+v", a)
	}
	if a := figureIn(t, v, figure.Of(figure.Mean, "ping")); math.Abs(a.Ratio-2) > 1e-6 {
		t.Errorf("%+v", a)
	}
	if a := figureIn(t, v, p99); a.Word != judge.TooFew || a.NeedShots != 500 ||
		!strings.Contains(a.Say(), "needs 500 of report a heat") {
		t.Errorf("%+v: %s", a, a.Say())
	}
	if c := v.Claims[0]; c.Finding != judge.Undecided || c.Why != "too few: p99 of report needs 500 of report a heat" {
		t.Errorf("%+v", c)
	}
	if c := v.Claims[1]; c.Finding != judge.Upheld {
		t.Errorf("%+v", c)
	}
}

// Figures that are still open lean where the middle half of what they may be does: of alike contenders half of them,
// and never against the difference beside it.
func TestHalfOfAllLean(t *testing.T) {
	long(t)
	open, lean := 0, 0
	for seed := range uint64(60) {
		v := weigh(t, sample.Make(sample.Duel{Rounds: 8, Shots: 60, Seed: seed + 1, Entrants: []sample.Entrant{
			{Name: "gather", Latency: sample.Times(0.3, 0.4)}, {Name: "twin", Latency: sample.Times(0.3, 0.4)},
		}}))
		for _, a := range v.Faces[0].Figures {
			if a.Word != judge.Open || a.Figure != figure.P50 && a.Figure != figure.Throughput {
				continue
			}
			open++
			if !strings.Contains(a.Say(), "leans") {
				continue
			}
			lean++
			better := strings.Contains(a.Say(), "leans "+a.Figure.Comparative(true))
			if better != (a.Ratio > 1) || better != (a.Difference < 0 != a.Figure.MoreIsBetter()) {
				t.Errorf("seed %d: %s is %s; %s, %s apart", seed, a.Figure, a.Say(), a.Factor(), a.Apart())
			}
		}
	}
	if share := float64(lean) / float64(open); open < 60 || share < 0.35 || share > 0.6 {
		t.Errorf("%d of %d open figures lean", lean, open)
	}
}
