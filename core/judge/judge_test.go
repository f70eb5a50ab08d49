package judge_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"paceduel/core/figure"
	"paceduel/core/judge"
	"paceduel/core/judge/stats"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/shots"
	"paceduel/core/tally"
	"paceduel/internal/golden"
	"paceduel/internal/sample"
)

// long leaves a test out where tests are to be short, which is where races are looked for.
func long(t *testing.T) {
	t.Helper()
	if testing.Short() {
		t.Skip("it computes for long, and starts no goroutine that others do not")
	}
}

func weigh(t *testing.T, r *result.Result) *judge.Verdict {
	t.Helper()
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	return v
}

func figureIn(t *testing.T, v *judge.Verdict, f figure.Name) judge.Assessment {
	t.Helper()
	for _, a := range v.Faces[0].Figures {
		if a.Figure == f {
			return a
		}
	}
	t.Fatalf("no figure %s", f)
	return judge.Assessment{}
}

func duel(base, other func(*rand.Rand, int) float64, rounds, shots int) sample.Duel {
	return sample.Duel{
		Entrants: []sample.Entrant{
			{Name: "per-vessel", Latency: base, Bytes: 8443}, {Name: "joined", Latency: other, Bytes: 8443},
		},
		Rounds: rounds, Shots: shots, Clients: 8, Seed: 4127,
	}
}

func TestAKnownRatioIsFound(t *testing.T) {
	v := weigh(t, sample.Make(duel(sample.Times(0.012, 0.2), sample.Times(0.004, 0.2), 10, 2000)))
	for _, f := range []figure.Name{figure.P50, figure.P90, figure.P99, figure.Mean, figure.Throughput} {
		a := figureIn(t, v, f)
		if a.Word != judge.Better || a.Ratio < 2.9 || a.Ratio > 3.1 || a.Low > a.Ratio || a.High < a.Ratio || !a.Corrected {
			t.Errorf("%s: %s, ratio %g (%g to %g); want 3 times better", f, a.Word, a.Ratio, a.Low, a.High)
		}
	}
	want := "joined is 3.0x faster than per-vessel at p50 (3.0 to 3.0), 3.0x at p90 (3.0 to 3.0) and 3.0x at p99 (3.0 " +
		"to 3.0)."
	if strings.Contains(v.Sentence, "faster than per-vessel at p50") == false || len(v.Sentence) > len(want)+40 {
		t.Errorf("sentence %q", v.Sentence)
	}
}

func TestLikeContendersAreATie(t *testing.T) {
	v := weigh(t, sample.Make(duel(sample.Times(0.010, 0.05), sample.Times(0.010, 0.05), 12, 4000)))
	if a := figureIn(t, v, figure.P50); a.Word != judge.Alike {
		t.Errorf("p50 is %s (%g to %g); want too close to call", a.Word, a.Low, a.High)
	}
	if !strings.Contains(v.Sentence, "too close to call at p50") || v.Faces[0].Holds {
		t.Errorf("sentence %q, holds %v", v.Sentence, v.Faces[0].Holds)
	}
}

func TestTurnedRoundItIsTheInverse(t *testing.T) {
	a := weigh(t, sample.Make(duel(sample.Times(0.012, 0.2), sample.Times(0.004, 0.2), 8, 500)))
	d := sample.Make(duel(sample.Times(0.012, 0.2), sample.Times(0.004, 0.2), 8, 500))
	d.Plan.Baseline = "joined"
	b := weigh(t, d)
	for _, f := range []figure.Name{figure.P50, figure.Mean, figure.Throughput} {
		x, y := figureIn(t, a, f), figureIn(t, b, f)
		if math.Abs(x.Ratio*y.Ratio-1) > 1e-9 || math.Abs(x.Low*y.High-1) > 1e-9 || x.Word != judge.Better ||
			y.Word != judge.Worse {
			t.Errorf(
				"%s: %g (%g to %g, %s) one way, %g (%g to %g, %s) the other", f, x.Ratio, x.Low, x.High, x.Word, y.Ratio, y.Low,
				y.High, y.Word,
			)
		}
		if x.Factor() != y.Factor() || x.Interval() != y.Interval() {
			t.Errorf("%s is put as %s (%s) one way, %s (%s) the other", f, x.Factor(), x.Interval(), y.Factor(), y.Interval())
		}
	}
}

func TestDriftFallsOnAllAlike(t *testing.T) {
	drifting := func(median float64) func(*rand.Rand, int) float64 {
		return func(rng *rand.Rand, round int) float64 {
			return sample.Times(median, 0.05)(rng, round) * (1 + 0.1*float64(round))
		}
	}
	a := figureIn(t, weigh(t, sample.Make(duel(drifting(0.020), drifting(0.010), 10, 500))), figure.P50)
	if a.Word != judge.Better || a.Ratio < 1.97 || a.Ratio > 2.03 {
		t.Errorf("ratio %g (%g to %g) with a machine that slows down twofold; want 2", a.Ratio, a.Low, a.High)
	}
}

func TestTooFewShotsAreCalledThat(t *testing.T) {
	tests := []struct {
		shots      int
		p50, p90   int64 // needed
		p99        int64
		qualified  bool // p50 of heats of n shots
		meanNeeded bool
	}{
		{5, 10, 50, 500, false, false},
		{10, 0, 50, 500, true, false},
		{100, 0, 0, 500, false, false},
		{2000, 0, 0, 0, false, false},
	}
	for _, tt := range tests {
		v := weigh(t, sample.Make(duel(sample.Times(0.010, 0.1), sample.Times(0.005, 0.1), 8, tt.shots)))
		for f, want := range map[figure.Name]int64{figure.P50: tt.p50, figure.P90: tt.p90, figure.P99: tt.p99} {
			a := figureIn(t, v, f)
			if a.NeedShots != want || (want > 0) != (a.Word == judge.TooFew) {
				t.Errorf("%d shots: %s needs %d, %s; want %d", tt.shots, f, a.NeedShots, a.Word, want)
			}
		}
		if a := figureIn(t, v, figure.P50); (a.HeatShots > 0) != tt.qualified {
			t.Errorf("%d shots: p50 qualified by %d", tt.shots, a.HeatShots)
		}
		if a := figureIn(t, v, figure.Mean); a.Word != judge.Better {
			t.Errorf("%d shots: the mean is %s", tt.shots, a.Word)
		}
	}
}

func TestFewRoundsSettleNothing(t *testing.T) {
	for rounds, want := range map[int]string{
		1: "After 1 round joined is about", 4: "nothing is settled, an interval needs 5 rounds",
	} {
		v := weigh(t, sample.Make(duel(sample.Times(0.010, 0.01), sample.Times(0.001, 0.01), rounds, 2000)))
		if a := figureIn(t, v, figure.P50); a.Word != judge.Open || !math.IsNaN(a.Low) {
			t.Errorf("%d rounds: %s (%g to %g)", rounds, a.Word, a.Low, a.High)
		}
		if !strings.Contains(v.Sentence, want) {
			t.Errorf("%d rounds: %q; want %q", rounds, v.Sentence, want)
		}
	}
	same := weigh(t, sample.Make(duel(sample.Times(0.010, 0.01), sample.Times(0.010, 0.01), 3, 2000))).Sentence
	if !strings.Contains(same, "joined is about the same at p50, at p90 and at p99") || strings.Contains(same, "1x") {
		t.Errorf("two that do the same: %q", same)
	}
	d := duel(sample.Times(0.010, 0.01), sample.Times(0.001, 0.01), 3, 2000)
	d.Entrants = append(d.Entrants, sample.Entrant{
		Name: "snapshot", Latency: sample.Times(0.020, 0.01), Bytes: d.Entrants[0].Bytes,
	})
	several := weigh(t, sample.Make(d)).Sentence
	if !strings.HasPrefix(several, "After 3 rounds, as against per-vessel: joined is about 10x faster at p50") ||
		!strings.Contains(several, "; snapshot is about 2.0x slower at p50") ||
		!strings.HasSuffix(several, ". Nothing is settled, an interval needs 5 rounds.") {
		t.Errorf("of two contenders after three rounds it says %q", several)
	}
	// Five corrected figures need eight rounds, however clear they are.
	v := weigh(t, sample.Make(duel(sample.Times(0.010, 0.01), sample.Times(0.001, 0.01), 7, 2000)))
	if a := figureIn(t, v, figure.P50); a.Word != judge.Open {
		t.Errorf("7 rounds settle one of five figures: %s", a.Word)
	}
	if !hasCaution(v, "7 rounds cannot settle any of 5 figures together; that needs 8") {
		t.Errorf("no caution says why: %+v", v.Cautions)
	}
	const why = "7 rounds cannot settle 5 figures together; 8 can."
	if !strings.HasSuffix(v.Sentence, why) {
		t.Errorf("the sentence %q does not say why", v.Sentence)
	}
	// While it runs there are more rounds to come, and with enough of them there is nothing to say.
	for rounds, ending := range map[int]result.Ending{7: result.Running, 8: result.Done} {
		r := sample.Make(duel(sample.Times(0.010, 0.01), sample.Times(0.001, 0.01), rounds, 2000))
		r.Ending = ending
		if v := weigh(t, r); strings.Contains(v.Sentence, "cannot settle") {
			t.Errorf("%d rounds, %s: %q", rounds, ending, v.Sentence)
		}
	}
}

func TestAFigureNamedBeforehandDecidesAlone(t *testing.T) {
	d := duel(sample.Times(0.010, 0.01), sample.Times(0.001, 0.01), 6, 2000)
	d.Decides = figure.P90
	v := weigh(t, sample.Make(d))
	if a := figureIn(t, v, figure.P90); a.Word != judge.Better || a.Corrected {
		t.Errorf("p90 is %s, corrected %v; want better, as it was named beforehand", a.Word, a.Corrected)
	}
	if !strings.HasPrefix(v.Sentence, "joined is 10x faster than per-vessel at p90 (") ||
		strings.Contains(v.Sentence, "p50") {
		t.Errorf("sentence %q; want p90 alone", v.Sentence)
	}
}

func hasCaution(v *judge.Verdict, part string) bool {
	for _, c := range v.Cautions {
		if strings.Contains(c.What, part) {
			return true
		}
	}
	return false
}

func TestFailuresComeBeforeAnyRatio(t *testing.T) {
	d := duel(sample.Times(0.010, 0.1), sample.Times(0.002, 0.1), 8, 1000)
	d.Entrants[1].FailFrac = 0.25
	v := weigh(t, sample.Make(d))
	if !strings.HasPrefix(v.Sentence, "joined fails 2") ||
		!strings.Contains(v.Sentence, "% of its shots, per-vessel none. joined is 5.") {
		t.Errorf("sentence %q; want the failures first", v.Sentence)
	}
	if !hasCaution(v, "joined: ") || !hasCaution(v, "status 503") {
		t.Errorf("cautions %+v; want the failures with their cause", v.Cautions)
	}
	d.Entrants[1].FailFrac = 1
	v = weigh(t, sample.Make(d))
	if a := figureIn(t, v, figure.P50); a.Word == judge.Better || a.Rounds > 0 {
		t.Errorf("a contender that always fails is %s", a.Word)
	}
}

func TestOnlyCompleteRoundsCount(t *testing.T) {
	r := sample.Make(duel(sample.Times(0.010, 0.1), sample.Times(0.005, 0.1), 8, 500))
	r.Heats[len(r.Heats)-1].Cut = true
	r.Ending = result.Interrupted
	v := weigh(t, r)
	if v.Rounds != 7 || figureIn(t, v, figure.P50).Rounds != 7 ||
		!hasCaution(v, "interrupted: 7 of 8 rounds are complete") {
		t.Errorf("%d rounds, cautions %+v; want 7 of 8", v.Rounds, v.Cautions)
	}
	r.Heats = nil
	if v := weigh(t, r); v.Sentence != "No round was finished, so nothing can be compared." {
		t.Errorf("sentence %q", v.Sentence)
	}
}

// False verdicts over all figures stay at five in a hundred: a contender against its like.
func TestFalseVerdictsAreRare(t *testing.T) {
	long(t)
	duels := 60 // internal/calibration holds it with very many
	if testing.Short() {
		duels = 15
	}
	wrong := 0
	for i := range duels {
		d := duel(heatNoise(0.05), heatNoise(0.05), 10, 60)
		d.Seed = uint64(i)
		v := weigh(t, sample.Make(d))
		for _, a := range v.Faces[0].Figures {
			if a.Word == judge.Better || a.Word == judge.Worse {
				wrong++
				break
			}
		}
	}
	if limit := 0.05*float64(duels) + 2.5*math.Sqrt(0.05*0.95*float64(duels)); float64(wrong) > limit {
		t.Errorf("%d of %d duels of likes got a verdict; at most %.0f may", wrong, duels, limit)
	}
}

// heatNoise is a shape whose heats differ as wholes, as they do on a shared machine.
func heatNoise(spread float64) func(*rand.Rand, int) float64 {
	factor, of := 1.0, -1
	return func(rng *rand.Rand, round int) float64 {
		if round != of {
			factor, of = math.Exp(spread*rng.NormFloat64()), round
		}
		return 0.010 * factor * (1 + 0.1*rng.ExpFloat64())
	}
}

func TestSameResultSameVerdict(t *testing.T) {
	r := sample.Make(duel(sample.Times(0.012, 0.2), sample.Times(0.004, 0.2), 9, 800))
	said := func() string {
		v := weigh(t, r)
		v.Latencies = nil // printed by its address
		return fmt.Sprintf("%+v", v)
	}
	if a, b := said(), said(); a != b {
		t.Error("judging twice gave two verdicts")
	}
}

func TestVerdictInWords(t *testing.T) {
	d := sample.Duel{
		Entrants: []sample.Entrant{
			{Name: "gather", Latency: sample.Times(0.3, 0.05), CPU: 4e8, Bytes: 1000},
			{Name: "stream", Latency: sample.Times(0.05, 0.05), CPU: 1e8, Bytes: 1000},
			{Name: "guess", Latency: sample.Times(0.6, 0.05), CPU: 4e8, Bytes: 2000, FailFrac: 0.1},
			{Name: "twin", Latency: sample.Times(0.3, 0.3), CPU: 4e8, Bytes: 1000},
		},
		Rounds: 12, Shots: 25, Seed: 11,
	}
	v := weigh(t, sample.Make(d))
	var out strings.Builder
	fmt.Fprintln(&out, v.Sentence)
	fmt.Fprintln(&out, v.Note)
	for _, f := range v.Faces {
		fmt.Fprintf(&out, "\n%s (holds %v)\n", f.Contender, f.Holds)
		for _, a := range f.Figures {
			fmt.Fprintf(
				&out, "%s: %s, %s: %s (%s), %s\n", a.Figure.Label(), a.Figure.Show(a.Baseline.V), a.Figure.Show(a.Contender.V),
				a.Factor(), a.Interval(), a.Say(),
			)
		}
	}
	fmt.Fprintln(&out)
	for _, r := range v.Scorecard {
		fmt.Fprintf(&out, "%s: %s, lean %d\n", r.Name, strings.Join(r.Values, " | "), r.Lean(0, 1))
	}
	fmt.Fprintln(&out)
	for _, c := range v.Cautions {
		fmt.Fprintf(&out, "! %s\n  %s\n", c.What, c.Try)
	}
	golden.Check(t, "verdict", out.String())
}

func TestNotesVersionsAndUnequalWorkAreToldWithTheVerdict(t *testing.T) {
	r := sample.Make(duel(sample.Times(0.010, 0.1), sample.Times(0.005, 0.1), 8, 500))
	r.Entrants[1].Avoid, r.Entrants[1].Version = "memory is short", "joined 2.1"
	r.Weighing = &result.Weighing{
		Ruled: true, Accepted: true, Checks: []result.Check{{Contender: "joined", Rule: "the same bytes"}},
	}
	r.Heats[0].Warmup = 40
	v := weigh(t, r)
	if row := v.Scorecard[1]; row.Name != "warm-up, not judged" || row.Values[0] != "40" ||
		v.Scorecard[0].Values[0] != "4 000" {
		t.Errorf("the warm-up is told as %+v, shots as %+v", row, v.Scorecard[0])
	}
	for _, want := range []string{
		"do not use joined when memory is short", "unequal work was accepted: joined broke the plan's rules",
	} {
		if !hasCaution(v, want) {
			t.Errorf("no caution says %q: %+v", want, v.Cautions)
		}
	}
	last := v.Scorecard[len(v.Scorecard)-1]
	if last.Name != "version" || last.Values[1] != "joined 2.1" || last.Lean(0, 1) != 0 {
		t.Errorf("scorecard ends with %+v; want the versions", last)
	}
}

// Without rules, what answers hold is told, and not how well they are compressed on their way.
func TestDifferentAnswersWithoutRules(t *testing.T) {
	differ := &result.Weighing{Checks: []result.Check{{Contender: "joined", Rule: "the same bytes",
		Differences: []result.Difference{{Where: "line 3", Baseline: "cod", Contender: "salt\x1b[2J"}}}}}
	tests := []struct {
		name     string
		weighing *result.Weighing
		decoded  [2]int64
		want     string // of the caution; empty: none
	}{
		{"compressed, the same", &result.Weighing{}, [2]int64{0, 4000}, ""},
		{
			"compressed, other", differ, [2]int64{0, 4000},
			"joined did not answer as per-vessel did: not the same bytes: line 3 is salt·[2J, not cod",
		},
		{"of different sizes", differ, [2]int64{0, 0}, "the answers differ in size: joined 0.977 KiB, per-vessel 3.91 KiB"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			r := sample.Make(duel(sample.Times(0.010, 0.1), sample.Times(0.005, 0.1), 8, 500))
			for i, size := range []int64{4000, 1000} {
				r.Entrants[i].Touch = &result.Touch{Class: "ok", Outcome: "200 OK", Bytes: size, Decoded: tt.decoded[i]}
			}
			r.Weighing = tt.weighing
			v := weigh(t, r)
			var got []string
			for _, c := range v.Cautions {
				if c.Kind == judge.UnequalWork {
					got = append(got, c.What)
				}
			}
			if strings.Join(got, "; ") != tt.want {
				t.Errorf("cautions say %q; want %q", got, tt.want)
			}
		})
	}
}

func TestCautionsOfTheMachine(t *testing.T) {
	r := sample.Make(duel(sample.Times(0.010, 0.1), sample.Times(0.005, 0.1), 8, 500))
	for i := range r.Heats {
		r.Heats[i].Conditions.OwnFrac, r.Heats[i].Conditions.StealFrac = 0.9, 0.1
		r.Heats[i].SetAmount(shots.Connections, r.Heats[i].OK)
		r.Heats[i].Conditions.MHz = 3000 - 40*float64(i)
	}
	r.Heats[3].LeftBehind, r.Heats[3].Wall = 2, time.Second
	for i := range r.Heats {
		r.Heats[i].Wall = time.Second
	}
	floor := tally.NewHistogram()
	floor.RecordValues(4_000_000, 100)
	text, err := result.EncodeHistogram(floor)
	if err != nil {
		t.Fatal(err)
	}
	r.Floor = []result.Floor{{Kind: "http", Shots: 100, Latencies: text}}
	r.Entrants[1].LeftOut, r.Paused = 9, time.Hour
	for i := range r.Heats {
		if h := &r.Heats[i]; h.Contender == "joined" {
			h.SetAmount(shots.Idle, int64(h.Wall)/10)
			h.SetAmount(shots.Rest, int64(h.Wall))
		}
	}
	v := weigh(t, r)
	for _, want := range []string{
		"joined used 10 % of a processor while others had their turn",
		"ran at 2400 MHz in one heat and at 3000 in another", "left 2 processes behind in",
		"that does nothing takes 4.00 ms here", "of the p50 of joined",
		"joined was left out from round 9 on", "paused for 1 h", "Pace Duel itself used 90 % of this machine",
		"10 % of this machine's time was taken by its host", "joined opened 1 new connections a shot", "closed model"} {
		if !hasCaution(v, strings.Replace(want, "1 new", "1.00 new", 1)) && !hasCaution(v, want) {
			t.Errorf("no caution says %q: %+v", want, v.Cautions)
		}
	}
}

// A plan that does not say how many rounds it wants gets enough to settle six figures of each challenger together.
func TestRoundsUnlessSaidCanSettle(t *testing.T) {
	for challengers := 1; challengers < plan.MaxContenders; challengers++ {
		n := plan.RoundsFor(challengers)
		if least := stats.LeastRounds(0.05 * 0.8 / float64(6*challengers)); n < least {
			t.Errorf("%d challengers get %d rounds; settling 6 figures of each needs %d", challengers, n, least)
		}
	}
}

// Nobody is better by what cannot be read.
func TestValuesThatReadAlikeLeanNoWay(t *testing.T) {
	for _, tt := range []struct {
		values []string
		want   int
	}{{[]string{"0", "0"}, 0}, {[]string{"1 ns", "2 ns"}, -1}} {
		row := judge.Row{Amount: []float64{1e-9, 2e-9}, Values: tt.values, Lower: true}
		if got := row.Lean(0, 1); got != tt.want {
			t.Errorf("%q: lean %d; want %d", tt.values, got, tt.want)
		}
	}
}
