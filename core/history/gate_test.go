package history_test

import (
	"strings"
	"testing"
	"time"

	"paceduel/core/history"
	"paceduel/core/judge"
	"paceduel/core/result"
)

func gate(t *testing.T, then, now *result.Result, goodFor time.Duration) []judge.Claim {
	t.Helper()
	p, err := history.PairOf(then, now, "", "")
	if err != nil {
		t.Fatal(err)
	}
	return p.Gate(goodFor)
}

// A run is held to an earlier one: who has surely become worse is refuted, whatever the machine is like; all others are
// not, and an old run is no measure.
func TestARunIsHeldToAnEarlierOne(t *testing.T) {
	then := run(1, 4)
	for _, tt := range []struct {
		name    string
		now     *result.Result
		goodFor time.Duration
		want    judge.Finding
		why     string
	}{
		{"as it was", run(2, 4), 0, judge.Upheld, ""},
		{"better", run(3, 5), 0, judge.Upheld, "faster"},
		{"worse", run(4, 3), 0, judge.Refuted, "slower"},
		{"old", run(40, 4), 30 * 24 * time.Hour, judge.Undecided, "39 days old, and good for 30 days"},
		{"not too old", run(20, 4), 30 * 24 * time.Hour, judge.Upheld, ""},
	} {
		claims := gate(t, then, tt.now, tt.goodFor)
		if len(claims) != 1 || claims[0].Finding != tt.want || !strings.Contains(claims[0].Why, tt.why) {
			t.Errorf("%s: %+v", tt.name, claims)
		}
	}
	other := run(5, 4)
	other.Plan.Baseline = "joined"
	if claims := gate(t, then, other, 0); len(claims) != 1 || claims[0].Finding != judge.Undecided ||
		!strings.Contains(claims[0].Why, "no baseline and challenger in common") {
		t.Errorf("%+v", claims)
	}
	short := run(6, 4)
	short.Heats = short.Heats[:6]
	if claims := gate(t, then, short, 0); len(claims) != 1 || claims[0].Finding != judge.Undecided {
		t.Errorf("of three rounds: %+v", claims)
	}
}

// Of runs of the same, at most one in twenty is said to have become worse.
func TestSameRunsAreSeldomHeldToBeWorse(t *testing.T) {
	runs := 60
	if testing.Short() {
		runs = 20
	}
	alarms := 0
	before := run(100, 4)
	for i := range runs {
		next := run(uint64(101+i), 4)
		for _, c := range gate(t, before, next, 0) {
			if c.Finding != judge.Upheld {
				alarms++
			}
		}
		before = next
	}
	if alarms > runs*5/100 {
		t.Errorf("%d of %d alarms", alarms, runs)
	}
}
