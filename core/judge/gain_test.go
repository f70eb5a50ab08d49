package judge_test

import (
	"strings"
	"testing"

	"paceduel/core/cell"
	"paceduel/core/judge"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/internal/sample"
)

// coldAndWarm is a made-up duel of two contenders in two states, with the medians given in seconds: cold and warm of
// the baseline, then of the challenger.
func coldAndWarm(rounds int, medians [4]float64) *result.Result {
	cold := sample.Make(sample.Duel{Rounds: rounds, Shots: 40, Seed: 3, Entrants: []sample.Entrant{
		{
			Name: "plain", Latency: sample.Times(medians[0], 0.02),
		}, {Name: "remembering", Latency: sample.Times(medians[2], 0.02)}}})
	warm := sample.Make(sample.Duel{Rounds: rounds, Shots: 40, Seed: 4, Entrants: []sample.Entrant{
		{
			Name: "plain", Latency: sample.Times(medians[1], 0.02),
		}, {Name: "remembering", Latency: sample.Times(medians[3], 0.02)}}})
	for i := range cold.Heats {
		cold.Heats[i].State = string(plan.Cold)
		warm.Heats[i].State = string(plan.Warm)
	}
	cold.Heats = append(cold.Heats, warm.Heats...)
	cold.Footing.States = []string{string(plan.Cold), string(plan.Warm)}
	for i := range cold.Order {
		for j := range cold.Order[i] {
			cold.Order[i][j].State, warm.Order[i][j].State = string(plan.Cold), string(plan.Warm)
		}
		cold.Order[i] = append(cold.Order[i], warm.Order[i]...)
	}
	return cold
}

// States by other words are told by these, and a claim about one that nothing was run in is not passed over.
func TestStatesByTheirWords(t *testing.T) {
	r := coldAndWarm(12, [4]float64{0.080, 0.080, 0.088, 0.020})
	to := map[string]string{"cold": "asleep", "warm": "awake"}
	for i := range r.Heats {
		r.Heats[i].State = to[r.Heats[i].State]
	}
	for i := range r.Order {
		for j := range r.Order[i] {
			r.Order[i][j].State = to[r.Order[i][j].State]
		}
	}
	r.Footing.States = []string{"asleep", "awake"}
	r.Plan.Claims = []string{"remembering awake p50 under 1s", "remembering cold p50 under 1s"}
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{
		"plain is as fast asleep as awake at p50 (", "Awake, remembering is 4.4x faster than asleep",
	} {
		if !strings.Contains(v.Sentence, want) {
			t.Errorf("%q lacks %q", v.Sentence, want)
		}
	}
	if len(v.Claims) != 2 || v.Claims[0].Finding != judge.Upheld || v.Claims[1].Finding != judge.Undecided || v.Upheld() ||
		v.Claims[1].Why != "nothing was run cold" {
		t.Errorf("%+v", v.Claims)
	}
}

func TestColdAndWarmAreFiguresOfTheirOwn(t *testing.T) {
	v, err := judge.Judge(coldAndWarm(12, [4]float64{0.080, 0.080, 0.088, 0.020}))
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{
		"Cold, against plain at p50: remembering 1.10x slower", "Warm, against plain at p50: remembering 4.0x faster",
		"plain gains nothing from its caches at p50 (", "Warm, remembering is 4.4x faster than cold at p50",
	} {
		if !strings.Contains(v.Sentence, want) {
			t.Errorf("%q lacks %q", v.Sentence, want)
		}
	}
	titles := ""
	for _, a := range v.Faces[0].Figures {
		if !a.Main {
			continue
		}
		titles += a.Title() + ", "
	}
	if !strings.HasPrefix(titles, "p50 cold, p50 warm, p90 cold, p90 warm") {
		t.Errorf("figures %s", titles)
	}
	if v.Faces[0].Holds {
		t.Error("who is slower cold is said to win")
	}
	var card []string
	for _, row := range v.Scorecard {
		card = append(card, row.Name+": "+strings.Join(row.Values, ", "))
	}
	if got := strings.Join(card, "; "); !strings.Contains(got, "warm against cold: no gain, 4.4x faster") ||
		!strings.Contains(got, "shots that count: 960, 960") {
		t.Errorf("scorecard %s", got)
	}
	if v.Lanes[cell.Of("remembering", "warm")].P50 > 0.022 || v.Lanes[cell.Of("remembering", "cold")].P50 < 0.08 {
		t.Errorf("lanes %+v", v.Lanes)
	}
}

func TestStatesAreCountedTogetherInTheCorrection(t *testing.T) {
	v, err := judge.Judge(coldAndWarm(5, [4]float64{0.08, 0.08, 0.04, 0.02}))
	if err != nil {
		t.Fatal(err)
	}
	// p50 and mean of one face in two states, and what two contenders gain in both.
	if !strings.Contains(v.Note, "words hold for all 8 figures together") {
		t.Errorf("note %q", v.Note)
	}
}

// A heat that its footing stopped counts for nothing, and a state that was not reached weakens the verdict.
func TestFootingCautions(t *testing.T) {
	r := coldAndWarm(8, [4]float64{0.08, 0.08, 0.08, 0.02})
	r.Footing.Cannot = []string{"the machine's caches cannot be dropped"}
	r.Heats[0].Stopped = "before run: make clean: exit code 2"
	r.Heats[1].ColdLeft = 0.4
	r.Heats[16].WarmLacks, r.Heats[16].Unfilled = 0.2, []string{".store"}
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	if v.Rounds != 7 {
		t.Errorf("%d rounds count; want 7, one heat having been stopped", v.Rounds)
	}
	var all []string
	for _, c := range v.Cautions {
		all = append(all, c.What)
	}
	for _, want := range []string{
		"the machine's caches cannot be dropped", "plain: 1 heat stopped: before run: make clean: exit code 2",
		"remembering: up to 40 % of its pages were still in memory before cold runs",
		"plain: up to 20 % of its pages were not in memory before warm runs", "plain: .store was empty before warm runs",
	} {
		if got := strings.Join(all, "\n"); !strings.Contains(got, want) {
			t.Errorf("cautions lack %q:\n%s", want, got)
		}
	}
}
