package judge_test

import (
	"math"
	"strings"
	"testing"
	"time"

	"paceduel/core/figure"
	"paceduel/core/judge"
	"paceduel/core/result"
	"paceduel/internal/sample"
)

// held makes a duel of contenders of which each holds its bystander up for a time, a little more from round to round.
func held(t *testing.T, times ...time.Duration) (*result.Result, *judge.Verdict) {
	t.Helper()
	d := sample.Duel{Rounds: 10, Shots: 30, Seed: 4}
	for i := range times {
		name := []string{"one-go", "slices", "helper"}[i]
		d.Entrants = append(d.Entrants, sample.Entrant{Name: name, Latency: sample.Times(0.1*(1+0.4*float64(i%2)), 0.02)})
	}
	r := sample.Make(d)
	for i := range r.Heats {
		h := &r.Heats[i]
		for j, e := range r.Entrants {
			if h.Contender == e.Name {
				sample.HeldUp(h, times[j]+time.Duration(h.Round)*time.Millisecond/10)
			}
		}
	}
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	return r, v
}

// However seldom somebody waits longer than may be, it is not said that nobody does.
func TestSomebodyWaitsSeldom(t *testing.T) {
	r, _ := held(t, 12*time.Millisecond, 11*time.Millisecond)
	for i := range r.Heats {
		if h := &r.Heats[i]; h.Contender == "slices" && h.Round == 3 {
			h.Bystander.Meanwhile.HeldUp = h.Bystander.Meanwhile.Span / 10_000
		}
	}
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	if got := v.Meanwhile[1].Sentence; strings.Contains(got, "nobody waits") || !strings.Contains(got, "somebody waits") {
		t.Errorf("%q", got)
	}
	if got := v.Meanwhile[0].Sentence; !strings.Contains(got, "nobody waits longer than 50.0 ms") {
		t.Errorf("%q", got)
	}
}

func TestWhoWaitsMeanwhile(t *testing.T) {
	long(t)
	_, v := held(t, 2600*time.Millisecond, 12*time.Millisecond, 11*time.Millisecond)
	if len(v.Meanwhile) != 3 {
		t.Fatalf("%d", len(v.Meanwhile))
	}
	a := v.Meanwhile[0]
	if math.Abs(a.Longest.V-2.6) > 0.01 || math.Abs(a.HeldUp-0.87) > 0.01 || a.P99.V < 2 || a.Quiet.V > 0.0011 {
		t.Errorf("%+v", a)
	}
	for i, want := range []string{
		"While one-go works, a bystander waits 1.10 s in the middle (1.00 ms when it is quiet) and 2.60 s at the longest; " +
			"for 86.7 % of the time somebody waits longer than 50.0 ms.",
		"at the longest; nobody waits longer than 50.0 ms.",
	} {
		if got := v.Meanwhile[i].Sentence; !strings.Contains(got, want) {
			t.Errorf("%q; want %q", got, want)
		}
	}
	// Which of the others is kinder is told by the longest silence; its price is that of the work.
	if got := v.MeanwhileSentence; !strings.Contains(got, "and in the typical heat nobody waits longer than 1") ||
		!strings.HasSuffix(got, "one-go lets nobody in for 2.60 s.") {
		t.Errorf("%q", got)
	}
	_, v = held(t, 2600*time.Millisecond, 12*time.Millisecond)
	if got, want := v.MeanwhileSentence, "slices takes 1.40x as long as one-go (1."; !strings.HasPrefix(got, want) {
		t.Errorf("%q; want %q", got, want)
	}
	_, v = held(t, 12*time.Millisecond, 12*time.Millisecond)
	if got := v.MeanwhileSentence; !strings.HasPrefix(got, "Nobody surely lets others in sooner") {
		t.Errorf("%q", got)
	}
}

// Lines that are due are counted against those that came.
func TestTicksThatDoNotCome(t *testing.T) {
	r, _ := held(t, 500*time.Millisecond, 12*time.Millisecond)
	for i := range r.Heats {
		b := r.Heats[i].Bystander
		b.Ticks, b.Every = true, 10*time.Millisecond
		b.Meanwhile.OK = 300 // of 3 s
		if r.Heats[i].Contender == "one-go" {
			b.Meanwhile.OK = 225
		}
	}
	r.Plan.Rungs = []figure.Name{figure.Missed, figure.Silence}
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	if m := v.Meanwhile[0]; math.Abs(m.Missed-0.25) > 1e-9 ||
		!strings.HasSuffix(m.Sentence, "is up to 501 ms late, and 25 % of them do not come.") {
		t.Errorf("%+v", m)
	}
	const want = "and in the typical heat no line is later than 12.5 ms; one-go is silent for 501 ms."
	if got := v.MeanwhileSentence; !strings.HasSuffix(got, want) {
		t.Errorf("%q; want %q", got, want)
	}
	if a := figureIn(t, v, figure.Silence); a.Word != judge.Better || a.Ratio < 30 {
		t.Errorf("%+v", a)
	}
}
