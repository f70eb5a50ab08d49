package calibration

import (
	"cmp"
	"flag"
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"paceduel/core/figure"
	"paceduel/core/judge"
	"paceduel/core/plan"
)

var full = flag.String("full", "", "run every cell in full and write the tables between the marks of this `FILE`")

// span is the least and the most of some shares.
type span struct{ low, high float64 }

var none = span{math.Inf(1), math.Inf(-1)}

func (s span) with(x float64) span { return span{min(s.low, x), max(s.high, x)} }

func (s span) String() string {
	if s.low > s.high {
		return "–"
	}
	return fmt.Sprintf("%.1f to %.1f", s.low*100, s.high*100)
}

func share(k, n int) float64 { return float64(k) / float64(n) }

// slack is how far chance moves a share that is judged by n duels, three and a half standard errors.
func slack(p float64, n int) float64 { return 3.5 * math.Sqrt(p*(1-p)/float64(n)) }

// report gathers what cells give.
type report struct {
	like, unlike map[[2]int]span // coverage by rounds and shots
	wrong        map[[2]int]float64
	byShape      map[string]span
	byFigure     map[figure.Name]span
	alarms       map[judge.CautionKind]map[string]float64 // by shape, the most
	coverage     []finding
}

type finding struct {
	share float64
	what  string
}

func newReport() *report {
	return &report{
		map[[2]int]span{}, map[[2]int]span{}, map[[2]int]float64{}, map[string]span{}, map[figure.Name]span{},
		map[judge.CautionKind]map[string]float64{}, nil,
	}
}

func at[K comparable](m map[K]span, k K) span {
	if s, ok := m[k]; ok {
		return s
	}
	return none
}

// run runs the cells of a number of rounds and shots, over all shapes.
func (r *report) run(rounds, shots, duels int, unlike bool) {
	key := [2]int{rounds, shots}
	for i := range Shapes {
		base := &Shapes[i]
		c := Cell{
			Base: base, Own: base, Rounds: rounds, Shots: shots, Times: 1, Duels: duels, Seed: uint64(1000*rounds + shots + i),
		}
		n := c.Run()
		for f, known := range n.Known {
			if f == figure.Longest {
				continue // a figure of its number of shots, not of a distribution
			}
			x := share(n.Covered[f], known)
			r.like[key] = at(r.like, key).with(x)
			if rounds > 5 {
				r.byShape[base.Name] = at(r.byShape, base.Name).with(x)
				r.byFigure[f] = at(r.byFigure, f).with(x)
			}
			r.coverage = append(r.coverage, finding{
				x, fmt.Sprintf("%s, %s, %d rounds of %d shots", base.Name, f, rounds, shots),
			})
		}
		r.wrong[key] = max(r.wrong[key], share(n.AnyWrong, n.Duels))
		for _, kind := range []judge.CautionKind{judge.Drift, judge.Dependent, judge.FirstHeat, judge.Humps} {
			if r.alarms[kind] == nil {
				r.alarms[kind] = map[string]float64{}
			}
			r.alarms[kind][base.Name] = max(r.alarms[kind][base.Name], share(n.Alarms[kind], n.Duels))
		}
		if !unlike {
			continue
		}
		c.Own, c.Times = &Shapes[(i+1)%len(Shapes)], 1.3
		n = c.Run()
		for f, known := range n.Known {
			if f == figure.Longest {
				continue
			}
			x := share(n.Covered[f], known)
			r.unlike[key] = at(r.unlike, key).with(x)
			r.coverage = append(r.coverage, finding{
				x, fmt.Sprintf("%s against %s, %s, %d rounds of %d shots", base.Name, c.Own.Name, f, rounds, shots),
			})
		}
	}
}

// power is how often a contender that is a tenth faster is found to be faster, alone and with all figures together.
func power(rounds, duels int, interest float64) float64 {
	n := Cell{
		Base: &Shapes[0], Own: &Shapes[0], Rounds: rounds, Shots: 1000, Times: 1.1, Interest: interest, Duels: duels,
		Seed: uint64(rounds),
	}.Run()
	return share(n.Found[figure.P50], n.Duels)
}

// falseAlarms is the most over shapes in which a kind of caution has nothing to find.
func (r *report) falseAlarms(kind judge.CautionKind) (most float64) {
	for _, s := range Shapes {
		if s.Disturbed || kind == judge.Drift && s.Drifts || kind == judge.FirstHeat && s.Drifts ||
			kind == judge.Humps && s.Humped {
			continue
		}
		most = max(most, r.alarms[kind][s.Name])
	}
	return most
}

// A short version: the coverage, the false verdicts, the power and the false alarms are where docs/statistics.md says,
// as far as few duels can tell.
func TestVerdictsKeepTheirPromises(t *testing.T) {
	duels := 400
	if testing.Short() {
		duels = 120
	}
	r := newReport()
	for _, c := range []struct{ rounds, shots int }{{5, 20}, {6, 1}, {8, 100}, {10, 20}, {20, 1}} {
		r.run(c.rounds, c.shots, duels, c.rounds == 10)
	}
	for _, f := range r.coverage {
		if low := 0.93 - slack(0.05, duels); f.share < low {
			t.Errorf("%s: covered in %.1f %%", f.what, f.share*100)
		}
	}
	for key, x := range r.wrong {
		if x > 0.05+slack(0.05, duels) {
			t.Errorf("%d rounds of %d shots: a wrong word in %.1f %% of duels", key[0], key[1], x*100)
		}
	}
	for _, kind := range []judge.CautionKind{judge.Drift, judge.Dependent, judge.FirstHeat, judge.Humps} {
		if x := r.falseAlarms(kind); x > 0.02+slack(0.02, duels) {
			t.Errorf("%s is said for nothing in %.1f %% of duels", kind, x*100)
		}
	}
	for rounds, want := range map[int]float64{5: 0.50, 10: 0.88, 20: 0.99} {
		if x := power(rounds, duels, 0); x < want-slack(want, duels) {
			t.Errorf("a tenth is found in %.1f %% of duels of %d rounds; want %.0f", x*100, rounds, want*100)
		}
	}
}

// What there is to find is found.
func TestCautionsFindWhatIsThere(t *testing.T) {
	steady := func(*rand.Rand) float64 { return 1 }
	following := Shape{Name: "following", shots: each(normal), heat: steady, carried: 0.6}
	for _, tt := range []struct {
		kind   judge.CautionKind
		shape  *Shape
		rounds int
		least  float64
	}{
		{judge.Drift, &Shapes[5], 20, 0.9},
		{judge.Humps, &Shapes[2], 20, 0.9},
		{judge.Dependent, &following, 20, 0.25}, // some of them are told as a drift
		{judge.Dependent, &following, 40, 0.6},
	} {
		n := Cell{Base: tt.shape, Own: tt.shape, Rounds: tt.rounds, Shots: 100, Times: 1, Duels: 60, Seed: 4}.Run()
		if x := share(n.Alarms[tt.kind], n.Duels); x < tt.least {
			t.Errorf("%s is said in %.0f %% of duels of %d rounds that are %s", tt.kind, x*100, tt.rounds, tt.shape.Name)
		}
	}
}

// Latencies of a log in whole milliseconds, a third of their spread, are no humps.
func TestRoundingMakesNoHumps(t *testing.T) {
	rounded := Shape{Name: "rounded", shots: each(lognormal), grid: 0.0007}
	n := Cell{Base: &rounded, Own: &rounded, Rounds: 20, Shots: 100, Times: 1, Duels: 100, Seed: 5}.Run()
	if x := share(n.Alarms[judge.Humps], n.Duels); x > 0.02 {
		t.Errorf("two humps are said for nothing in %.0f %% of duels", x*100)
	}
}

// What a contender saves lies within the interval of it about as often as said, whatever it is counted in.
func TestStakesKeepTheirPromises(t *testing.T) {
	duels := 250
	if testing.Short() {
		duels = 60
	}
	for name, n := range stakesCovered(duels) {
		for what, covered := range map[string]int{"what it needs itself": n.own, "what it saves": n.saved} {
			if x := share(covered, duels); x < 0.94-slack(0.05, duels) {
				t.Errorf("%s: %s is covered in %.1f %% of duels", name, what, x*100)
			}
		}
	}
}

const (
	markFrom = "<!-- calibration: written by make calibrate -->"
	markTo   = "<!-- end of calibration -->"
)

// TestFull runs only when -full names a file. It is long since its cases are listed in it.
func TestFull(t *testing.T) {
	if *full == "" {
		return
	}
	rounds, shots := []int{5, 6, 8, 10, 20, 50}, []int{1, 20, 100, 1000, 10_000}
	r := newReport()
	for _, n := range rounds {
		for _, k := range shots {
			duels := 2000
			if n == 50 {
				duels = 1000
			}
			r.run(n, k, duels, true)
			fmt.Printf(
				"%d rounds of %d shots: like %s, unlike %s, wrong %.1f\n", n, k, r.like[[2]int{n, k}], r.unlike[[2]int{n, k}],
				100*r.wrong[[2]int{n, k}],
			)
		}
	}
	var out strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&out, format+"\n", args...) }
	table := func(title string, cell func([2]int) string) {
		line("\n%s\n", title)
		line("| rounds | 1 shot a heat | 20 | 100 | 1 000 | 10 000 |\n|---|---|---|---|---|---|")
		for _, n := range rounds {
			var cells []string
			for _, k := range shots {
				cells = append(cells, cell([2]int{n, k}))
			}
			line("| %d | %s |", n, strings.Join(cells, " | "))
		}
	}
	table(
		"**Covered**, in per cent of duels: the least and the most over shapes and figures, contenders alike.",
		func(k [2]int) string { return r.like[k].String() },
	)
	table(
		"**Covered**, contenders of unlike shapes, the one 1.3 times as fast.",
		func(k [2]int) string { return r.unlike[k].String() },
	)
	table(
		"**A wrong word** in any figure, all of them together, in per cent of duels of like contenders whose smallest "+
			"interesting difference is none: the most over shapes.",
		func(k [2]int) string { return fmt.Sprintf("%.1f", 100*r.wrong[k]) },
	)
	line("\nCoverage from six rounds on, by shape and by figure, contenders alike:\n\n| | covered in %% |\n|---|---|")
	for _, s := range Shapes {
		line("| %s | %s |", s.Name, r.byShape[s.Name])
	}
	for _, f := range figure.Judged() {
		if s, ok := r.byFigure[f]; ok {
			line("| %s | %s |", f, s)
		}
	}
	line(
		"\n**Found**: a contender that is a tenth faster, heats differing by 5 %% as wholes, p50 alone, in per cent of 2 " +
			"000 duels.\n\n| rounds | any difference | beyond the 2 %% of interest |\n|---|---|---|",
	)
	for _, n := range rounds {
		line("| %d | %.1f | %.1f |", n, 100*power(n, 2000, 0), 100*power(n, 2000, plan.DefaultInterest))
	}
	line(
		"\n**Cautions for nothing**, the most over all cells, in per cent of duels:\n\n| shape | drift | dependent " +
			"rounds | first heat | two humps |\n|---|---|---|---|---|",
	)
	for _, s := range Shapes {
		cell := func(kind judge.CautionKind, is bool) string {
			text := fmt.Sprintf("%.1f", 100*r.alarms[kind][s.Name])
			if is {
				text += " (it is so)"
			}
			return text
		}
		line("| %s | %s | %s | %s | %s |", s.Name, cell(judge.Drift, s.Drifts), cell(judge.Dependent, s.Drifts),
			cell(judge.FirstHeat, s.Disturbed), cell(judge.Humps, s.Humped))
	}
	line("\n**Savings**, covered in per cent of 2 000 duels of 10 rounds, heats differing by 20 %% as wholes:\n\n" +
		"| | what it needs itself | what it saves |\n|---|---|---|")
	covered := stakesCovered(2000)
	for _, name := range slices.Sorted(maps.Keys(covered)) {
		line("| %s | %.1f | %.1f |", name, 100*share(covered[name].own, 2000), 100*share(covered[name].saved, 2000))
	}
	slices.SortFunc(r.coverage, func(a, b finding) int { return cmp.Compare(a.share, b.share) })
	line("\nThe least covered of the %d figures of all cells: %s (%.1f %%); the most: %s (%.1f %%).",
		len(r.coverage), r.coverage[0].what, 100*r.coverage[0].share,
		r.coverage[len(r.coverage)-1].what, 100*r.coverage[len(r.coverage)-1].share)
	doc, err := os.ReadFile(*full)
	if err != nil {
		t.Fatal(err)
	}
	before, rest, ok := strings.Cut(string(doc), markFrom)
	_, after, ok2 := strings.Cut(rest, markTo)
	if !ok || !ok2 {
		t.Fatalf("%s has no marks for the tables:\n%s", *full, out.String())
	}
	if err := os.WriteFile(*full, []byte(before+markFrom+"\n"+out.String()+"\n"+markTo+after), 0o644); err != nil {
		t.Fatal(err)
	}
}
