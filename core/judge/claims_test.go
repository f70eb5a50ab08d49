package judge_test

import (
	"maps"
	"slices"
	"strings"
	"testing"

	"paceduel/core/judge"
	"paceduel/internal/sample"
)

// joined is three times as fast as per-vessel, fails 2 % of its shots, and sends as many bytes.
func TestClaimsAreWeighed(t *testing.T) {
	d := duel(sample.Times(0.012, 0.1), sample.Times(0.004, 0.1), 10, 1000)
	d.Entrants[1].FailFrac = 0.02
	wanted := map[string]judge.Finding{
		"joined p95 at least 2x faster than per-vessel":       judge.Upheld,
		"joined p95 at least 4x faster than per-vessel":       judge.Refuted,
		"per-vessel p50 at least 2x faster than joined":       judge.Refuted,
		"joined p50 at most 50% of per-vessel":                judge.Upheld,
		"joined mean at most 0.2x that of per-vessel":         judge.Refuted,
		"joined throughput at least 2x that of per-vessel":    judge.Upheld,
		"joined throughput over 10000/s":                      judge.Refuted,
		"joined p90 under 6ms":                                judge.Upheld,
		"joined p90 under 2ms":                                judge.Refuted,
		"joined p90 over 2ms":                                 judge.Upheld,
		"joined error rate under 5%":                          judge.Upheld,
		"joined error rate under 0.1%":                        judge.Refuted,
		"per-vessel error rate under 0.1%":                    judge.Upheld,
		"joined error rate over 0.1%":                         judge.Upheld,
		"joined p99.9 under 1s":                               judge.Undecided, // which needs 5 000 shots a heat
		"joined memory under 1GiB":                            judge.Undecided, // not known here
		"joined bytes at most 1.1x that of per-vessel":        judge.Upheld,
		"per-vessel longest at least 1.1x faster than joined": judge.Refuted,
	}
	r := sample.Make(d)
	r.Plan.Claims = slices.Sorted(maps.Keys(wanted))
	v := weigh(t, r)
	for i, text := range r.Plan.Claims {
		c := v.Claims[i]
		if c.Finding != wanted[text] || c.Text != text || c.Why == "" {
			t.Errorf("%s: %s, %s; want %s", text, c.Finding, c.Why, wanted[text])
		}
		if one := (&judge.Verdict{Claims: []judge.Claim{c}}); one.Upheld() != (wanted[text] == judge.Upheld) {
			t.Errorf("%s alone is upheld: %v", text, one.Upheld())
		}
	}
	if v.Upheld() {
		t.Error("all are upheld")
	}
	alike := sample.Make(duel(sample.Times(0.010, 0.3), sample.Times(0.010, 0.3), 6, 30))
	alike.Plan.Claims = []string{"joined mean at least 1x faster than per-vessel"}
	if c := weigh(t, alike).Claims[0]; c.Finding != judge.Undecided || !strings.Contains(c.Why, "as fast (") {
		t.Errorf("at the edge: %+v", c)
	}
	few := sample.Make(duel(sample.Times(0.010, 0.3), sample.Times(0.010, 0.3), 4, 300))
	few.Plan.Claims = []string{"joined mean under 1s"}
	if c := weigh(t, few).Claims[0]; c.Finding != judge.Undecided || !strings.Contains(c.Why, "an interval needs 5") {
		t.Errorf("4 rounds: %+v", c)
	}
	few.Plan.Claims = []string{"nobody mean under 1s"}
	if _, err := judge.Judge(few); err == nil || !strings.Contains(err.Error(), "no contender is called") {
		t.Errorf("a claim of a document about nobody: %v", err)
	}
}
