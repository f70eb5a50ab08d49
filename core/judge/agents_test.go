package judge_test

import (
	"strings"
	"testing"
	"time"

	"paceduel/core/judge"
	"paceduel/core/result"
	"paceduel/internal/sample"
)

// afar makes a duel from two places: near, joined is 4.6 times as fast as per-vessel; far, 20 ms come on top for both.
func afar() *result.Result {
	at := func(more float64, seed uint64) *result.Result {
		return sample.Make(sample.Duel{Rounds: 20, Shots: 60, Seed: seed, Clients: 2, Entrants: []sample.Entrant{
			{Name: "per-vessel", Latency: sample.Times(0.0046+more, 0.02)},
			{Name: "joined", Latency: sample.Times(0.001+more, 0.02)},
		}})
	}
	return sample.Places(at(0, 1), at(0.020, 2))
}

func TestPlacesAreToldApart(t *testing.T) {
	v, err := judge.Judge(afar())
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{
		"From near, against per-vessel at p50: joined 4.6x faster",
		"From far, against per-vessel at p50: joined 1.17x faster",
		"From far, the way is 81.3 to 95.2 % of p50.",
	} {
		if !strings.Contains(v.Sentence, want) {
			t.Errorf("%q lacks %q", v.Sentence, want)
		}
	}
	if len(v.Gains) != 2 || !strings.Contains(v.Gains[1].Sentence,
		"From far, joined is answered 21x later than from near at p50") {
		t.Errorf("gains %+v", v.Gains)
	}
}

func TestClaimsAboutPlaces(t *testing.T) {
	r := afar()
	r.Plan.Claims = []string{
		"joined near p50 at least 4x faster than per-vessel", "joined far p50 at least 4x faster than per-vessel",
	}
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	if v.Claims[0].Finding != judge.Upheld || v.Claims[1].Finding != judge.Refuted {
		t.Errorf("claims %v, %v", v.Claims[0].Finding, v.Claims[1].Finding)
	}
}

func TestAgentsThatWeakenAVerdict(t *testing.T) {
	long(t)
	second := func(r *result.Result, change func(*result.Share)) {
		for i := range r.Heats {
			change(&r.Heats[i].Shares[1])
		}
	}
	tests := []struct {
		name  string
		spoil func(*result.Result)
		want  string // empty: nothing is told
	}{
		{"nothing", func(*result.Result) {}, ""},
		{"one was lost", func(r *result.Result) { r.Load.Agents[1].LostIn = 4 }, "agent near-2 was lost in round 4"},
		{"a clock hardly known", func(r *result.Result) {
			r.Plan.Pace = result.Pace{Rate: 100}
			second(r, func(s *result.Share) { s.Within = 3 * time.Millisecond })
		}, "was known within 3.00 ms only"},
		{"the same without a rate", func(r *result.Result) {
			second(r, func(s *result.Share) { s.Within = 3 * time.Millisecond })
		}, ""},
		{"a clock that goes off", func(r *result.Result) {
			second(r, func(s *result.Share) { s.Drift = 80 * time.Millisecond })
		}, "went off by 80.0 ms within a heat"},
		{"one begins late", func(r *result.Result) {
			second(r, func(s *result.Share) { s.Began = 30 * time.Millisecond })
		}, "began a heat 30.0 ms after the others"},
		{"one is busy with asking", func(r *result.Result) {
			second(r, func(s *result.Share) { s.Conditions.OwnFrac = 0.9 })
		}, "used 90 % of its machine to ask"},
		{"one lags", func(r *result.Result) {
			second(r, func(s *result.Share) { s.LagP99 = 9 * time.Millisecond })
		}, "agent near-2 is unlike the others: it sent its shots 9.00 ms late at p99"},
		{"one has other work", func(r *result.Result) {
			second(r, func(s *result.Share) { s.Conditions.OthersFrac = 0.5 })
		}, "it had other programs use 50 % of its machine"},
		{"one sees more", func(r *result.Result) {
			second(r, func(s *result.Share) { s.P50 = 2 * time.Millisecond })
		}, "it saw a p50 of 2.00 ms, the others there 1.00 ms"},
	}
	for _, tt := range tests {
		r := afar()
		tt.spoil(r)
		v, err := judge.Judge(r)
		if err != nil {
			t.Fatal(err)
		}
		var found []string
		for _, c := range v.Cautions {
			if strings.Contains(c.What, "agent ") {
				found = append(found, c.What)
			}
		}
		if tt.want == "" && len(found) > 0 || tt.want != "" && !strings.Contains(strings.Join(found, "\n"), tt.want) {
			t.Errorf("%s: %q; want %q", tt.name, found, tt.want)
		}
	}
}
