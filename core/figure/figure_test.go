package figure_test

import (
	"fmt"
	"math"
	"os"
	"strings"
	"testing"

	"paceduel/core/figure"
	"paceduel/core/units"
)

// fixed is a source in which every reading is another number.
type fixed struct{}

func (fixed) LatencyQuantile(q float64) float64           { return q }
func (fixed) MeanLatency() float64                        { return 2 }
func (fixed) ShotRate() float64                           { return 3 }
func (fixed) Length() float64                             { return 4 }
func (fixed) PerShot(amount string) float64               { return 5 + float64(len(amount)) }
func (fixed) PerSecond(amount string) float64             { return 20 + float64(len(amount)) }
func (fixed) Most(amount string) float64                  { return 40 + float64(len(amount)) }
func (fixed) Started(part figure.StartPart) float64       { return 60 + float64(part) }
func (fixed) PartOfLatency(of figure.Name) float64        { return 80 + float64(len(of)) }
func (fixed) StreamQuantile(of string, q float64) float64 { return 200 + q }
func (fixed) StreamMean(of string) float64                { return 300 }
func (fixed) FirstShot() float64                          { return 100 }
func (fixed) Woken() float64                              { return 101 }
func (fixed) Held() float64                               { return 102 }
func (fixed) FailedShare() float64                        { return 103 }
func (fixed) Waiting(part figure.WaitPart) float64        { return 110 + float64(part) }

// Every row says all that others look up in it.
func TestRowsAreComplete(t *testing.T) {
	names, read := map[figure.Name]bool{}, map[float64]figure.Name{}
	for _, f := range figure.All() {
		if names[f.Name] {
			t.Errorf("%s stands there twice", f.Name)
		}
		names[f.Name] = true
		for what, text := range map[string]string{"doc": f.Doc, "label": f.Label, "unit": string(f.Unit), "axis": f.Axis,
			"better": f.Words[0], "worse": f.Words[1]} {
			if text == "" {
				t.Errorf("%s has no %s", f.Name, what)
			}
		}
		if f.At != "" && !strings.HasPrefix(f.At, " ") {
			t.Errorf("%s is named %q in a sentence", f.Name, f.At)
		}
		if f.At == "" && f.Words[0] == "faster" {
			t.Errorf("%s is called faster without saying in what", f.Name)
		}
		if f.Use == 0 && !f.IsLoad {
			t.Errorf("%s may stand nowhere", f.Name)
		}
		if !f.Unjudged && f.Use&(figure.InRungs|figure.InClaims|figure.InDecides|figure.InUntil) == 0 {
			t.Errorf("%s is judged and cannot be named", f.Name)
		}
		x := f.Name.Read(fixed{})
		if ofCrashes := f.Need&figure.Crashes != 0; math.IsNaN(x) != ofCrashes {
			t.Errorf("%s is read from nothing, or from what no heat tells", f.Name)
		}
		if before, ok := read[x]; ok && !f.IsLoad {
			t.Errorf("%s and %s are read from the same", before, f.Name)
		}
		read[x] = f.Name
		if f.Name.Label() != f.Label || f.Name.Unit() != f.Unit || f.Name.MoreIsBetter() != f.More || !f.Name.Known() {
			t.Errorf("%s is not found by its name", f.Name)
		}
		if q, ok := f.Name.Quantile(); ok != (f.Quantile > 0) || q != f.Quantile {
			t.Errorf("%s is percentile %g", f.Name, q)
		}
	}
}

// What may stand in one place of a plan may stand in all others, but for what cannot be judged.
func TestListsOfWordsAreEqual(t *testing.T) {
	rungs := fmt.Sprint(figure.For(figure.InRungs))
	if rungs != fmt.Sprint(figure.Judged()) {
		t.Errorf("rungs %s; judged %v", rungs, figure.Judged())
	}
	const claimed = " error rate lost records torn records doubled records serves again processors]"
	for use, more := range map[figure.Use]string{
		figure.InDecides: " holds]", figure.InUntil: "]", figure.InClaims: claimed,
	} {
		if got := fmt.Sprint(figure.For(use)); got != strings.TrimSuffix(rungs, "]")+more {
			t.Errorf("place %d takes %s; rungs %s", use, got, rungs)
		}
	}
	for i, name := range figure.Judged() {
		if name.Place() != i {
			t.Errorf("%s is shown in place %d; want %d", name, name.Place(), i)
		}
	}
	if p := figure.Part("wait").Place(); p != len(figure.Judged()) {
		t.Errorf("parts stand in place %d", p)
	}
}

func TestFamiliesAreReadBackFromTheirNames(t *testing.T) {
	for _, tt := range []struct {
		name                        figure.Name
		label, spoken, better, show string
		more                        bool
		read                        float64
	}{
		{figure.Part("wait"), "wait", "part wait", "faster", "2.00 s", false, 89},
		{figure.Told("render", ""), "render (told)", "render", "faster", "2.00 s", false, 91},
		{figure.Told("render", units.Second), "render (told)", "render", "faster", "2.00 s", false, 91},
		{figure.Told("heap", units.Byte), "heap (told)", "heap", "less", "2 B", false, 93},
		{figure.Told("pages", "pages"), "pages (told)", "pages", "fewer pages", "2 pages", false, 98},
		{figure.ToldMore("pages", "pages"), "pages (told)", "pages", "more pages", "2 pages", true, 99},
		{figure.Amount("system calls", "calls"), "system calls", "system calls", "fewer calls", "2 calls", false, 17},
		{figure.RateOf("moved", units.Byte), "moved/s", "moved/s", "more moved a second", "2 B/s", true, 25},
	} {
		n := tt.name
		if n.Label() != tt.label || n.Spoken() != tt.spoken || n.Comparative(true) != tt.better || n.Show(2) != tt.show {
			t.Errorf("%s: %q, %q, %q, %q", n, n.Label(), n.Spoken(), n.Comparative(true), n.Show(2))
		}
		if n.MoreIsBetter() != tt.more || n.Read(fixed{}) != tt.read || n.Known() {
			t.Errorf("%s: more %v, read %g", n, n.MoreIsBetter(), n.Read(fixed{}))
		}
	}
	if _, ok := figure.Told("wait", "").OfPart(); ok || !figure.Told("wait", "").IsTold() || figure.Part("wait").IsTold() {
		t.Error("what is told is taken for a part that we see")
	}
	if !math.IsNaN(figure.Name("tide").Read(fixed{})) {
		t.Error("a figure that nobody knows is read")
	}
}

// The manual lists the figures as the table has them.
func TestTheManualListsTheFigures(t *testing.T) {
	text, err := os.ReadFile("../../docs/plan.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range figure.All() {
		if f.Use == 0 {
			continue
		}
		var places []string
		for _, p := range []struct {
			use  figure.Use
			name string
		}{{
			figure.InRungs, "rungs",
		}, {figure.InDecides, "decides"}, {figure.InUntil, "until"}, {figure.InClaims, "claims"}, {figure.InLimit, "climb"}} {
			if f.Use&p.use != 0 {
				places = append(places, p.name)
			}
		}
		where := strings.Join(places, ", ")
		if where == "rungs, decides, until, claims" {
			where = "anywhere"
		} else if where == "rungs, decides, until, claims, climb" {
			where = "anywhere, and in a climb's `at`"
		}
		if line := fmt.Sprintf("| `%s` | %s | %s |\n", f.Name, f.Doc, where); !strings.Contains(string(text), line) {
			t.Errorf("docs/plan.md lacks the line %s", line)
		}
	}
}

// What is timed below a nanosecond is a time, and a label that says what is counted is not followed by it again.
func TestOperations(t *testing.T) {
	op := figure.Told("operation", units.Nanosecond)
	if op.Label() != "operation" || op.Unit() != units.Nanosecond || op.Row().Words[0] != figure.P50.Row().Words[0] {
		t.Errorf("%+v", op.Row())
	}
	rate := figure.RateOf("operations", "operations")
	if rate.Unit() != units.PerSecond || rate.Label() != "operations/s" ||
		rate.Row().Words[1] != "fewer operations a second" {
		t.Errorf("%+v", rate.Row())
	}
	if rate := figure.RateOf("data", units.Byte); rate.Unit() != units.BytesPerSecond ||
		rate.Row().Words[1] != "less data a second" {
		t.Errorf("%+v", rate.Row())
	}
}

// Figures that are told of what a shot has many of are spoken of like those of shots.
func TestFiguresOfManyInAShot(t *testing.T) {
	for name, want := range map[figure.Name][2]string{
		figure.Told("operation", units.Nanosecond):                   {"faster", " in operation"},
		figure.Told("p99 of operation", units.Nanosecond):            {"faster", " at p99 of operation"},
		figure.Told("CPU of operation", units.Nanosecond):            {"less CPU", ""},
		figure.ToldMore("operations/s of a thread", units.PerSecond): {"more operations/s of a thread", ""},
		figure.Told("passing of time", units.Second):                 {"faster", " in passing of time"},
		figure.RateOf("operations", "operations"):                    {"more operations a second", ""},
	} {
		if got := [2]string{name.Comparative(true), name.At()}; got != want {
			t.Errorf("%s: %q; want %q", name, got, want)
		}
	}
	if figure.Told("passing of time", units.Second).IsPercentile() || figure.P99.IsPercentile() ||
		!figure.Told("p99.9 of operation", units.Nanosecond).IsPercentile() {
		t.Error("what is a percentile of something is not told apart")
	}
}
