package judge_test

import (
	"math"
	"strings"
	"testing"
	"time"

	"paceduel/core/judge"
	"paceduel/core/judge/stats"
	"paceduel/core/result"
	"paceduel/internal/sample"
)

// What crashes left is told as it is: who keeps everything, who loses how much, and who is faster for it.
func TestWhatCrashesLeave(t *testing.T) {
	r := sample.Make(sample.Duel{Rounds: 10, Shots: 600, Seed: 4, Entrants: []sample.Entrant{
		{Name: "mapped", Latency: sample.Times(0.06, 0.05)}, {Name: "buffered", Latency: sample.Times(0.001, 0.05)},
		{Name: "doubling", Latency: sample.Times(0.06, 0.05)}, {Name: "stuck", Latency: sample.Times(0.06, 0.05)},
	}})
	for no := 1; no <= 10; no++ {
		n := int64(7_000 + 100*no)
		r.Crashes = append(r.Crashes,
			result.Crash{Contender: "mapped", No: no, Acknowledged: n, Unknown: 4, Records: n + 2, Again: 20 * time.Millisecond},
			result.Crash{Contender: "buffered", No: no, Acknowledged: n, Unknown: 4, Records: n - n/7, Torn: 1},
			result.Crash{Contender: "doubling", No: no, Acknowledged: n, Unknown: 4, Records: n + 30, Doubled: 26},
			result.Crash{Contender: "stuck", No: no, Err: "it does not start again"})
	}
	v, err := judge.Judge(r)
	if err != nil || len(v.Survival) != 4 {
		t.Fatalf("%d, %v", len(v.Survival), err)
	}
	if s := v.Survival[1]; s.Losing != 10 || math.Abs(s.Lost.V-1.0/7) > 0.001 || s.Most != 8_000/7+1 || s.Torn != 10 {
		t.Errorf("%+v", s)
	}
	for i, want := range []string{
		"mapped loses none of its acknowledged records in 10 crashes: at 95 %, at most 25.9 % of crashes lose any; it " +
			"serves again after 20.0 ms.",
		"buffered loses up to 1 143 of its last acknowledged records in a crash, and some in 10 of 10 crashes, 14.3 % of " +
			"what it had acknowledged (14.3 to 14.3 %); 10 torn.",
		"doubling loses none of its acknowledged records in 10 crashes: at 95 %, at most 25.9 % of crashes lose any; 260 " +
			"doubled.",
		"stuck was ended 10 times, and what was left is not known: it does not start again.",
	} {
		if got := v.Survival[i].Sentence; got != want {
			t.Errorf("%q; want %q", got, want)
		}
	}
	const ahead, behind = "buffered is 60x faster than ", "and loses up to 1 143 of the last acknowledged records when " +
		"its process dies; mapped and doubling lose none."
	if got := v.SurvivalSentence; !strings.HasPrefix(got, ahead) || !strings.HasSuffix(got, behind) ||
		!strings.Contains(v.Sentence, got) {
		t.Errorf("%q in %q", got, v.Sentence)
	}
	if !hasCaution(v, "buffered loses what it had acknowledged when its process dies") {
		t.Errorf("%+v", v.Cautions)
	}
}

// Claims about what crashes leave are held to the interval over crashes; what none has lost is believed as far as their
// number goes.
func TestClaimsAboutCrashes(t *testing.T) {
	r := sample.Make(sample.Duel{Rounds: 10, Shots: 20, Seed: 4, Entrants: []sample.Entrant{
		{Name: "keeps", Latency: sample.Times(0.01, 0.05)}, {Name: "loses", Latency: sample.Times(0.01, 0.05)},
		{Name: "rare", Latency: sample.Times(0.01, 0.05)},
	}})
	for no := 1; no <= 10; no++ {
		again := time.Duration(100+no) * time.Millisecond
		r.Crashes = append(r.Crashes,
			result.Crash{Contender: "keeps", No: no, Acknowledged: 1000, Records: 1000, Again: again},
			result.Crash{Contender: "loses", No: no, Acknowledged: 1000, Records: 850 + int64(no), Torn: 5},
			result.Crash{Contender: "rare", No: no, Acknowledged: 1000, Records: 1000 - 900*int64(no/10)})
	}
	for _, tt := range []struct {
		claim string
		want  judge.Finding
		why   string
	}{
		{"keeps lost records under 30%", judge.Upheld, "none in 10 crashes: at 95 %, at most 25.9 % of crashes leave any"},
		{"keeps lost records under 1%", judge.Undecided, "none in 10 crashes"},
		{"lost records of loses under 20%", judge.Upheld, "14.9 % (14.7 % to 15.2 %) in 10 crashes"},
		{"loses lost records under 10%", judge.Refuted, "14.9 %"},
		{"loses lost records over 10%", judge.Upheld, "14.9 %"},
		{"loses torn records under 0.1%", judge.Refuted, "0.5 %"},
		{"rare lost records under 50%", judge.Undecided, "in 10 crashes"},
		{"keeps serves again under 200ms", judge.Upheld, "106 ms"},
		{"keeps serves again under 50ms", judge.Refuted, "106 ms"},
		{"loses serves again under 50ms", judge.Undecided, "no crash of loses tells"},
	} {
		r.Plan.Claims = []string{tt.claim}
		v, err := judge.Judge(r)
		if err != nil || len(v.Claims) != 1 {
			t.Fatalf("%s: %v, %v", tt.claim, v, err)
		}
		if got := v.Claims[0]; got.Finding != tt.want || !strings.Contains(got.Why, tt.why) {
			t.Errorf("%s: %s, %s; want %s, %s", tt.claim, got.Finding, got.Why, tt.want, tt.why)
		}
	}
}

// Whoever lost anything is told of, whoever stands first and however few crashes there were; who keeps all is believed
// as far as the fewest crashes go.
func TestFewCrashes(t *testing.T) {
	r := sample.Make(sample.Duel{Rounds: 10, Shots: 20, Seed: 4, Entrants: []sample.Entrant{
		{Name: "keeps", Latency: sample.Times(0.01, 0.05)}, {Name: "loses", Latency: sample.Times(0.01, 0.05)},
	}})
	r.Crashes = []result.Crash{
		{Contender: "keeps", No: 1, Acknowledged: 9, Records: 9},
		{Contender: "keeps", No: 2, Acknowledged: 9, Records: 9},
		{Contender: "loses", No: 1, Acknowledged: 9, Records: 8},
	}
	for lost, want := range []string{
		"None of them loses an acknowledged record when its process dies: at 95 %, at most 95 % of crashes lose any.",
		"loses loses up to 1 of the last acknowledged records when its process dies; keeps loses none.",
	} {
		r.Crashes[2].Records = int64(9 - lost)
		v, err := judge.Judge(r)
		if err != nil || v.SurvivalSentence != want {
			t.Errorf("%q, %v; want %q", v.SurvivalSentence, err, want)
		}
		if few := v.Survival[1].Few(); !strings.HasPrefix(few, "1 crash, ") {
			t.Errorf("%q", few)
		}
	}
}

// What had promised nothing when it was ended is told by whether it was left half-written.
func TestWhatIsLeftOfACommand(t *testing.T) {
	r := sample.Make(sample.Duel{Rounds: 10, Shots: 20, Seed: 4, Entrants: []sample.Entrant{
		{Name: "in-place", Latency: sample.Times(0.2, 0.05)}, {Name: "renamed", Latency: sample.Times(0.2, 0.05)},
	}})
	for no := 1; no <= 8; no++ {
		torn := int64(no % 2)
		r.Crashes = append(r.Crashes, result.Crash{Contender: "in-place", No: no, Unknown: 1, Records: torn, Torn: torn},
			result.Crash{Contender: "renamed", No: no, Unknown: 1})
	}
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	const half = "in-place is left half-written in 4 of 8 crashes (at 95 %, in 15.7 to 84.3 % of all)."
	const whole = "renamed leaves nothing half-written in 8 crashes: at 95 %, at most 31.2 % of crashes leave anything so."
	if v.Survival[0].Sentence != half || v.Survival[1].Sentence != whole || v.SurvivalSentence != half {
		t.Errorf("%q, %q, %q", v.Survival[0].Sentence, v.Survival[1].Sentence, v.SurvivalSentence)
	}
}

// Never in n trials is at most 1 - 0.05^(1/n); the rest is from tables of the method.
func TestTheChanceOfAnEvent(t *testing.T) {
	for _, tt := range []struct {
		k, n      int
		low, high float64
	}{
		{0, 10, 0, 1 - math.Pow(0.05, 0.1)}, {10, 10, math.Pow(0.05, 0.1), 1}, {5, 10, 0.1871, 0.8129},
		{1, 20, 0.0013, 0.2487}, {0, 0, 0, 1},
	} {
		got := stats.Chance(tt.k, tt.n)
		if math.Abs(got[0]-tt.low) > 1e-4 || math.Abs(got[1]-tt.high) > 1e-4 {
			t.Errorf("%d of %d: %v; want %g to %g", tt.k, tt.n, got, tt.low, tt.high)
		}
	}
}

// Processes of which each does all of the work print the same as often as there are of them.
func TestWorkThatIsDoneAgain(t *testing.T) {
	r := sample.Make(sample.Duel{Rounds: 8, Shots: 20, Seed: 4, Entrants: []sample.Entrant{
		{Name: "one", Latency: sample.Times(0.1, 0.02)}, {Name: "four", Latency: sample.Times(0.1, 0.02)},
		{Name: "parts", Latency: sample.Times(0.1, 0.02)},
	}})
	for i, body := range []string{
		"total 9\ntide is in\n", strings.Repeat("total 9\n", 4) + strings.Repeat("tide is in\n", 4),
		"total 9\ntide is in\ntide is in\n",
	} {
		r.Entrants[i].Touch = &result.Touch{Body: body, Bytes: int64(len(body))}
	}
	for i := range r.Heats {
		cpu := int64(20 * 100e6)
		if r.Heats[i].Contender == "four" {
			cpu *= 4
		}
		r.Heats[i].SetAmount("cpu", cpu)
	}
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	const again = "four prints what one does 4 times over, and takes 4.0x its CPU: it may do all of the work that often"
	if !hasCaution(v, again) || hasCaution(v, "parts prints") {
		t.Errorf("%+v", v.Cautions)
	}
}
