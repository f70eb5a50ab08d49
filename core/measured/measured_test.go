package measured

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"paceduel/internal/golden"
)

// line makes a duel of a baseline and a contender that is so many times as fast, with noise of heats and of shots.
func line(id string, rounds, shots int, times float64, seed uint64) string {
	rng := rand.New(rand.NewPCG(seed, 5))
	var heats []string
	for round := range rounds {
		for order, name := range []string{"a", "b"} {
			factor := 0.004 * (1 + 0.02*rng.NormFloat64())
			if name == "b" {
				factor /= times
			}
			var samples []string
			sum := 0.0
			for range shots {
				x := factor * (1 + 0.2*rng.ExpFloat64())
				sum += x
				samples = append(samples, fmt.Sprintf("%.6g", x))
			}
			heats = append(heats, fmt.Sprintf(
				`{"round":%d,"order":%d,"contender":%q,"elapsed_s":%.6g,"samples_s":[%s]}`, round+1, order+1, name, sum,
				strings.Join(samples, ","),
			))
		}
	}
	return fmt.Sprintf(`{"id":%q,"baseline":"a","smallest_difference":1.02,"heats":[%s]}`, id, strings.Join(heats, ","))
}

func judged(t *testing.T, in string) (out []judgement, bad int, troubles []string) {
	t.Helper()
	var text bytes.Buffer
	bad, err := Judge(strings.NewReader(in), &text, func(
		line int, err error,
	) {
		troubles = append(troubles, fmt.Sprintf("%d: %v", line, err))
	})
	if err != nil {
		t.Fatal(err)
	}
	for l := range strings.Lines(text.String()) {
		var j judgement
		if err := json.Unmarshal([]byte(l), &j); err != nil {
			t.Fatalf("%q is no JSON: %v", l, err)
		}
		out = append(out, j)
	}
	return out, bad, troubles
}

func (j *judgement) find(name string) finding {
	for _, f := range j.Figures {
		if string(f.Figure) == name {
			return f
		}
	}
	return finding{}
}

func TestDuelsAreJudgedInOrder(t *testing.T) {
	var in strings.Builder
	for i := range 40 {
		fmt.Fprintln(&in, line(fmt.Sprint("duel ", i), 6+i%8, 20+i%50, 1+float64(i%2), uint64(i)))
	}
	out, bad, _ := judged(t, in.String())
	if len(out) != 40 || bad != 0 {
		t.Fatalf("%d judgements, %d bad", len(out), bad)
	}
	for i, j := range out {
		f := j.find("mean")
		want, ratio := "too close to call", 1.0
		if i%2 == 1 {
			want, ratio = "faster", 2
		}
		if j.ID != fmt.Sprint("duel ", i) || f.Ratio == nil || *f.Ratio < ratio*0.95 || *f.Ratio > ratio*1.05 {
			t.Errorf("line %d is %q, ratio %v; want %g", i+1, j.ID, f.Ratio, ratio)
		}
		if want == "faster" && f.Verdict != want {
			t.Errorf("line %d: %s", i+1, f.Verdict)
		}
		if f.Level != 0.95 || f.Rounds != 6+i%8 || *f.Low > *f.Ratio || *f.High < *f.Ratio {
			t.Errorf("line %d: %+v", i+1, f)
		}
	}
}

func TestOneDuelInFull(t *testing.T) {
	out, _, _ := judged(t, line("berths", 10, 100, 1.5, 3))
	text, err := json.MarshalIndent(out, "", " ")
	if err != nil {
		t.Fatal(err)
	}
	golden.Check(t, "berths", string(text)+"\n")
}

// Few rounds settle nothing together, though a figure alone may be.
func TestAloneAndTogether(t *testing.T) {
	out, _, _ := judged(t, line("five", 5, 100, 2, 3))
	f := out[0].find("p50")
	if f.Verdict != "faster" || f.Together != "still open" {
		t.Errorf("five rounds: %s alone, %s together", f.Verdict, f.Together)
	}
	if p99 := out[0].find("p99"); p99.Verdict != "too few" || p99.Need != 500 || p99.Ratio != nil {
		t.Errorf("p99 of 100 shots: %+v", p99)
	}
}

func TestBadLinesAreNamedAndPassed(t *testing.T) {
	good := line("good", 8, 20, 2, 1)
	for text, want := range map[string]string{
		`nonsense`:                             "this is not a duel",
		`[]`:                                   "this is not a duel",
		`{"id":"x","baseline":"a","heats":[]}`: "there are no heats",
		`{"id":"x","baseline":"c","heats":[{"round":1,"contender":"a","samples_s":[1]}]}`:                `the baseline "c" has no heats`,
		`{"id":"x","baseline":"a","heats":[{"round":1,"contender":"a","samples_s":[1]}]}`:                "1 contenders",
		`{"id":"x","baseline":"a","heats":[{"round":0,"contender":"a","samples_s":[1]}]}`:                "heat 1 is in round 0",
		`{"id":"x","baseline":"a","heats":[{"round":1,"contender":"a"},{"round":1,"contender":"a"}]}`:    "two heats in round 1",
		`{"id":"x","baseline":"a","heats":[{"round":1,"contender":"a","samples_s":[1,-1]}]}`:             "sample 2 is -1",
		`{"id":"x","baseline":"a","heats":[{"round":1,"contender":"a","samples_s":[1,"b"]}]}`:            `sample 2 is "b", no number`,
		`{"id":"x","baseline":"a","smallest_difference":0.5,"heats":[{"round":1,"contender":"a"}]}`:      "smallest difference",
		`{"id":"x","baseline":"a","heats":[{"round":1,"contender":"a","samples_s":{"a":1}}]}`:            "list of numbers",
		`{"id":"x","baseline":"a","heats":[{"round":1,"contender":"a","elapsed_s":-2,"samples_s":[1]}]}`: "impossible figures",
		`{"id":"x","baseline":"a","heats":[{"round":1,"contender":"a","samples_s":[1]},{"round":1}]}`:    "heat 2 names no contender",
	} {
		out, bad, troubles := judged(t, good+"\n\n"+text+"\n"+good)
		if len(out) != 3 || bad != 1 || out[0].ID != "good" || out[2].ID != "good" || out[2].Error != "" {
			t.Errorf("%s: %d lines, %d bad", text, len(out), bad)
			continue
		}
		if out[1].Line != 3 || !strings.Contains(out[1].Error, want) || len(troubles) != 1 ||
			!strings.HasPrefix(troubles[0], "3: ") {
			t.Errorf("%s: line %d, %q, told %q; want line 3, %q", text, out[1].Line, out[1].Error, troubles, want)
		}
	}
}

func TestWhatCannotBeWrittenEndsIt(t *testing.T) {
	full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	if err != nil {
		t.Skip("there is no /dev/full here: ", err)
	}
	defer full.Close()
	in := strings.Repeat(line("x", 6, 5, 1, 1)+"\n", 50)
	if _, err := Judge(strings.NewReader(in), full, func(int, error) {}); err == nil {
		t.Error("a full disk is not told")
	}
}

func FuzzJudge(f *testing.F) {
	f.Add(line("x", 6, 3, 2, 1))
	f.Add(
		`{"id":"x","baseline":"a","heats":[{"round":1,"contender":"a","samples_s":[1e308,0]},{"round":1,"contender":"b","samples_s":[0,0]}]}`,
	)
	f.Add("{\"heats\":null}\n[]\n\"")
	f.Fuzz(func(t *testing.T, in string) {
		var out bytes.Buffer
		bad, err := Judge(strings.NewReader(in), &out, func(int, error) {})
		lines := strings.Count(out.String(), "\n")
		if err != nil || bad > lines {
			t.Fatalf("%v, %d bad of %d", err, bad, lines)
		}
		for l := range strings.Lines(out.String()) {
			if !json.Valid([]byte(l)) {
				t.Fatalf("%q is no JSON", l)
			}
		}
	})
}

func BenchmarkThousandDuels(b *testing.B) {
	one := line("x", 10, 100, 1.1, 1) + "\n"
	in := strings.Repeat(one, 1000)
	b.SetBytes(int64(len(in)))
	for b.Loop() {
		if _, err := Judge(strings.NewReader(in), &bytes.Buffer{}, func(int, error) {}); err != nil {
			b.Fatal(err)
		}
	}
}
