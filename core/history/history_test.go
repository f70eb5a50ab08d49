package history_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"paceduel/core/figure"
	"paceduel/core/history"
	"paceduel/core/judge"
	"paceduel/core/logbook"
	"paceduel/core/result"
	"paceduel/core/shots"
	"paceduel/internal/sample"
)

var began = time.Date(2031, 3, 9, 6, 40, 0, 0, time.UTC)

// lineOf is a time line of runs whose ratios and standard errors are given, in logarithms.
func lineOf(ratios, errors []float64, change func(int, *history.Stand)) *history.Line {
	var entries []logbook.Entry
	stands := map[string]*history.Stand{}
	for i, x := range ratios {
		id := fmt.Sprint(i)
		entries = append(entries, logbook.Entry{ID: id, Started: began.AddDate(0, 0, i)})
		stands[id] = &history.Stand{Interest: 0.01, Ratios: []history.Ratio{{
			Contender: "joined", Figure: figure.P50, Rounds: 10,
			Times: math.Exp(x), Low: math.Exp(x - 1.96*errors[i]), High: math.Exp(x + 1.96*errors[i]),
		}}}
		if change != nil {
			change(i, stands[id])
		}
	}
	return history.LineOf("Berth board", entries, func(e *logbook.Entry) *history.Stand { return stands[e.ID] })
}

func same(n int, x float64) (out []float64) {
	for range n {
		out = append(out, x)
	}
	return out
}

func TestALeadThatFellIsSaidWithWhatChanged(t *testing.T) {
	lead := math.Log(4.6)
	l := lineOf([]float64{lead, lead + 0.02, lead - 0.01, math.Log(3.1), math.Log(3.15)}, same(5, 0.03),
		func(i int, s *history.Stand) {
			s.Versions = map[string]string{"joined": "2.3"}
			if i >= 3 {
				s.Versions["joined"] = "2.4"
			}
		})
	want := "joined's lead fell from 4.6x to 3.1x (2.9 to 3.3) at p50 since 12 Mar; what changed: its version."
	if l.Sentence != want {
		t.Errorf("%q\nwant %q", l.Sentence, want)
	}
	if len(l.Tracks) != 1 || len(l.Tracks[0].Shifts) != 1 || l.Tracks[0].Latest().Run != 3 ||
		l.Tracks[0].Latest().WasRuns != 3 {
		t.Errorf("%+v", l.Tracks)
	}
	l.Runs[4].Started = l.Runs[4].Started.AddDate(1, 0, 0)
	if said := l.SayShift(&l.Tracks[0], l.Tracks[0].Latest()); l.Day(4) != "13 Mar" || !strings.Contains(said,
		"since 12 Mar 2031;") {
		t.Errorf("the last run is of %s; %q", l.Day(4), said)
	}
	if got := l.Tracks[0].At(0); got != "4.60x (4.34 to 4.88)" {
		t.Errorf("it stood at %q", got)
	}
}

// Whatever the runs are like, about one in a hundred is said to differ for nothing; where runs scatter more than their
// own intervals say, a few more, until that scatter is known.
func TestRunsOfTheSameSeldomDiffer(t *testing.T) {
	for name, c := range map[string]struct{ scatter, most float64 }{"alike": {0, 0.015}, "scattered": {0.03, 0.05}} {
		rng := rand.New(rand.NewPCG(7, 7))
		const lines, runs = 400, 20
		said := 0
		for range lines {
			x, se := make([]float64, runs), make([]float64, runs)
			for i := range x {
				se[i] = 0.02 + 0.02*rng.Float64()
				x[i] = 0.4 + se[i]*rng.NormFloat64() + c.scatter*rng.NormFloat64()
			}
			said += len(lineOf(x, se, nil).Tracks[0].Shifts)
		}
		if share := float64(said) / (lines * (runs - 1)); share > c.most {
			t.Errorf("%s: %.4f of runs are said to differ", name, share)
		}
	}
}

// A step of three times its error is found within two runs, mostly at once.
func TestAStepIsFound(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 8))
	const lines = 300
	found := 0
	for range lines {
		var x []float64
		for i := range 12 {
			x = append(x, 0.03*rng.NormFloat64()-0.15*float64(i/6))
		}
		for _, s := range lineOf(x, same(12, 0.03), nil).Tracks[0].Shifts {
			if s.Run == 6 || s.Run == 7 {
				found++
				break
			}
		}
	}
	if share := float64(found) / lines; share < 0.85 {
		t.Errorf("%.2f of steps are found", share)
	}
}

func run(seed uint64, lead float64) *result.Result {
	r := sample.Make(sample.Duel{
		Entrants: []sample.Entrant{
			{Name: "tiled", Latency: sample.Times(0.004, 0.05)}, {Name: "joined", Latency: sample.Times(0.004/lead, 0.05)},
		},
		Rounds: 10, Shots: 400, Seed: seed, Decides: figure.P50,
	})
	r.Started = began.AddDate(0, 0, int(seed))
	return r
}

func TestAStandIsKeptAndReadAgain(t *testing.T) {
	r := run(1, 4)
	r.Entrants[1].Version = "2.3"
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	s := history.Of(r, v, nil)
	got := history.Decode(s.Encode())
	if got == nil || len(got.Ratios) != 1 || got.Ratios[0].Figure != figure.P50 ||
		math.Abs(got.Ratios[0].Times-4) > 0.2 ||
		got.Ratios[0].Low >= got.Ratios[0].Times || got.Versions["joined"] != "2.3" {
		t.Errorf("%+v", got)
	}
	for _, text := range []string{"", "{", `{"ratios":[{"times":-1}]}`} {
		if s := history.Decode([]byte(text)); s != nil && len(s.Ratios) > 0 {
			t.Errorf("%q is %+v", text, s)
		}
	}
}

func TestWhatDiffersBetweenTwoRuns(t *testing.T) {
	then, now := run(1, 4), run(2, 4)
	then.Plan.Source, now.Plan.Source = "duel: a\npace: 1\n", "duel: b\npace: 2\n"
	then.Plan.SHA256, now.Plan.SHA256 = "1", "2"
	then.Entrants[1].Version, now.Entrants[1].Version = "2.3", "2.4"
	then.Host.Kernel, now.Host.Kernel = "6.1", "6.2"
	p, err := history.PairOf(then, now, "", "")
	if err != nil {
		t.Fatal(err)
	}
	want := "What changed: plan (pace), version of joined (2.3, now 2.4) and kernel (6.1, now 6.2)."
	if got := p.Changed(); got != want {
		t.Errorf("%q\nwant %q", got, want)
	}
	if len(p.Pairings) != 2 || p.Pairings[0].Bridge != "tiled" || p.Pairings[1].Bridge != "" {
		t.Errorf("%d pairings", len(p.Pairings))
	}
	for _, want := range []string{"machines differ", "no baseline between", "plans differ", "one run of each"} {
		if !strings.Contains(strings.Join(p.Cautions, " "), want) {
			t.Errorf("no caution says %q: %q", want, p.Cautions)
		}
	}
	now.Entrants[1].Name = "spread"
	for i := range now.Heats {
		if now.Heats[i].Contender == "joined" {
			now.Heats[i].Contender = "spread"
		}
	}
	if p, err = history.PairOf(then, now, "joined", "spread"); err != nil || len(p.Pairings) != 1 ||
		!strings.Contains(p.Pairings[0].Sentence, "spread is") {
		t.Errorf("%v, %+v", err, p)
	}
}

// twoRuns are two of the same, of which kernels differ.
func twoRuns() (then, now *result.Result) {
	then, now = run(1, 4), run(2, 4)
	then.Host.Kernel, now.Host.Kernel = "6.1", "6.2"
	return then, now
}

func TestWhoDroveTwoRuns(t *testing.T) {
	then, now := twoRuns()
	if was := history.Decode([]byte(`{"machine":"6.1"}`)); len(history.Changes(was, was)) != 0 ||
		strings.Contains(history.Say(history.Changes(was, history.Of(now, nil, nil))), "agents") {
		t.Error("a run of which nobody kept who drove it differs in that")
	}
	drives := func(agents ...result.Agent) *result.Load { return &result.Load{Agents: agents} }
	near, far := result.Agent{Name: "quay-1", Place: "near"}, result.Agent{Name: "quay-2", Place: "far", Weight: 3}
	moved := near
	moved.Host.Cores = 8
	for _, tt := range []struct {
		then, now *result.Load
		want      string
	}{
		{drives(near, far), drives(near, far), "changed: kernel (6.1, now 6.2)."},
		{drives(near), drives(near, far), " and agents (without them, now quay-2 at far of weight 3)."},
		{nil, drives(near), " and agents (none, driven from here, now quay-1 at near)."},
		{drives(near), drives(moved), "now quay-1 at near on , 8 cores, , 0 B, )."},
	} {
		then.Load, now.Load = tt.then, tt.now
		p, err := history.PairOf(then, now, "", "")
		if err != nil {
			t.Fatal(err)
		}
		said := p.Changed() + strings.Join(p.Cautions, " ")
		if differ := len(p.Changes) > 1; !strings.Contains(said, tt.want) ||
			strings.Contains(said, "The machines and agents differ") != differ {
			t.Errorf("%q does not say %q", said, tt.want)
		}
	}
}

func TestOtherLoadBesideTwoRuns(t *testing.T) {
	then, now := twoRuns()
	busy := func(r *result.Result, share float64) {
		for i := range r.Heats {
			r.Heats[i].Conditions.OthersFrac = share
			r.Heats[i].SetAmount(shots.CPU, 1e6)
		}
	}
	for _, tt := range []struct {
		then, now float64
		want      string
	}{
		{0.02, 0.36, " and other load (2 % of the machine, now 36 %)."}, {0.4, 0.02, "now 2 %)."},
		{0.02, 0.09, "changed: kernel (6.1, now 6.2)."},
	} {
		busy(then, tt.then)
		busy(now, tt.now)
		if p, err := history.PairOf(then, now, "", ""); err != nil || !strings.HasSuffix(p.Changed(), tt.want) {
			t.Errorf("others took %g, then %g: %q, %v; want %q", tt.then, tt.now, p.Changed(), err, tt.want)
		}
	}
}
