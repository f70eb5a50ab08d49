package judge_test

import (
	"strings"
	"testing"

	"paceduel/core/figure"
	"paceduel/core/judge"
	"paceduel/core/result"
	"paceduel/internal/sample"
)

// pairRun is a run of a tiled way and a joined one that is so many times faster, on a machine that is slower or faster.
func pairRun(seed uint64, machine, lead float64, decides figure.Name) *result.Result {
	return sample.Make(sample.Duel{
		Entrants: []sample.Entrant{
			{Name: "tiled", Latency: sample.Times(0.004*machine, 0.05)},
			{Name: "joined", Latency: sample.Times(0.004*machine/lead, 0.05)},
		},
		Rounds: 10, Shots: 400, Seed: seed, Decides: decides,
	})
}

func pairing(t *testing.T, then, now *result.Result, a, b string) *judge.Pairing {
	t.Helper()
	all, err := judge.Pairings(judge.Corner{Run: then, Contender: a}, judge.Corner{Run: now, Contender: b})
	if err != nil || len(all) != 1 {
		t.Fatalf("%d pairings, %v", len(all), err)
	}
	return all[0]
}

// A machine that is three times slower is no change: the baseline is the bridge. A lead that shrank is.
func TestABridgeTakesTheMachineOut(t *testing.T) {
	then := pairRun(1, 1, 4, figure.P50)
	same := pairing(t, then, pairRun(2, 3, 4, figure.P50), "joined", "joined")
	if p50 := same.Of(figure.P50); same.Bridge != "tiled" || p50.Word != judge.Alike {
		t.Errorf("over %q it is %s: %s", same.Bridge, p50.Word, same.Sentence)
	}
	less := pairing(t, then, pairRun(3, 3, 3, figure.P50), "joined", "joined")
	p50 := less.Of(figure.P50)
	if p50.Word != judge.Worse || p50.Low > 0.75 || p50.High < 0.75 {
		t.Errorf("it is %s, %.3f (%.3f to %.3f), want worse, 0.75", p50.Word, p50.Ratio, p50.Low, p50.High)
	}
	for _, want := range []string{"As against tiled, joined was 4", "then and is 3", "slower (1."} {
		if !strings.Contains(less.Sentence, want) {
			t.Errorf("%q lacks %q", less.Sentence, want)
		}
	}
}

// Without a bridge times themselves are compared, and a slower machine shows.
func TestWithoutABridgeTimesAreCompared(t *testing.T) {
	then, now := pairRun(1, 1, 4, ""), pairRun(2, 1.5, 4, "")
	base := pairing(t, then, now, "tiled", "tiled")
	if p50 := base.Of(figure.P50); base.Bridge != "" || p50.Word != judge.Worse || p50.Low > 1/1.5 || p50.High < 1/1.5 {
		t.Errorf("%s: %.3f to %.3f", base.Sentence, p50.Low, p50.High)
	}
	now.Plan.Baseline = "joined"
	if p := pairing(t, then, now, "joined", "joined"); p.Bridge != "" {
		t.Errorf("%q is a bridge that only one of the runs has", p.Bridge)
	}
}

// One contender of each: a challenger then, the baseline now.
func TestContendersOfTwoRunsAreHeldToEachOther(t *testing.T) {
	p := pairing(t, pairRun(1, 1, 4, figure.P50), pairRun(2, 1, 4, figure.P50), "joined", "tiled")
	if p50 := p.Of(figure.P50); p50.Word != judge.Worse || p50.Low > 0.25 || p50.High < 0.25 {
		t.Errorf("%s: %.3f to %.3f", p.Sentence, p50.Low, p50.High)
	}
}

func TestPairingsRefuseWhatIsNotThere(t *testing.T) {
	then, now := pairRun(1, 1, 4, ""), pairRun(2, 1, 4, "")
	_, err := judge.Pairings(judge.Corner{Run: then, Contender: "spread"}, judge.Corner{Run: now, Contender: "joined"})
	if err == nil || !strings.Contains(err.Error(), "tiled and joined") {
		t.Errorf("%v", err)
	}
	now.Heats = nil
	p := pairing(t, then, now, "joined", "joined")
	for _, a := range p.Figures {
		if a.Surely() {
			t.Errorf("of a run without heats %s is %s", a.Figure, a.Word)
		}
	}
}

// Runs of too few rounds, and of too few shots, settle nothing.
func TestFewRoundsSettleNoPair(t *testing.T) {
	short := sample.Make(sample.Duel{
		Entrants: []sample.Entrant{
			{Name: "tiled", Latency: sample.Times(0.004, 0.05)}, {Name: "joined", Latency: sample.Times(0.001, 0.05)},
		},
		Rounds: 4, Shots: 400, Seed: 5,
	})
	p := pairing(t, short, pairRun(2, 1, 2, ""), "joined", "joined")
	if p50 := p.Of(figure.P50); p50.Word != judge.Open || !strings.Contains(p.Sentence, "still open") {
		t.Errorf("%s: %s", p50.Word, p.Sentence)
	}
	few := sample.Make(sample.Duel{
		Entrants: []sample.Entrant{
			{Name: "tiled", Latency: sample.Times(0.004, 0.05)}, {Name: "joined", Latency: sample.Times(0.001, 0.05)},
		},
		Rounds: 10, Shots: 4, Seed: 5,
	})
	p = pairing(t, few, pairRun(2, 1, 2, ""), "joined", "joined")
	p50 := p.Of(figure.P50)
	if then, now := p.Sides(p50); p50.Word != judge.TooFew || then != "–" || now != "–" {
		t.Errorf("of too few shots: %s, %s and %s", p50.Word, then, now)
	}
}

// What is the same in every heat is known, and so is its word: no interval, no rounds are needed for it.
func TestConstantsOfTwoRunsAreTold(t *testing.T) {
	of := func(bytes int64) *result.Result {
		return sample.Make(sample.Duel{Rounds: 5, Shots: 20, Seed: 1, Entrants: []sample.Entrant{
			{Name: "tiled", Latency: sample.Times(0.004, 0.05), Bytes: 100},
			{Name: "joined", Latency: sample.Times(0.004, 0.05), Bytes: bytes},
		}})
	}
	for now, want := range map[int64]judge.Word{100: judge.Alike, 200: judge.Worse, 50: judge.Better} {
		for bridge, p := range map[bool]*judge.Pairing{
			true:  pairing(t, of(100), of(now), "joined", "joined"),
			false: pairing(t, of(100), of(now), "tiled", "joined"),
		} {
			if a := p.Of(figure.Received); a == nil || a.Word != want || (a.InShort() == "the same") != (now == 100) {
				t.Errorf("bytes are 100, then %d, bridge %v: %+v; want %s", now, bridge, a, want)
			}
		}
	}
}
