package weighin_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/footing"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/shots"
	"paceduel/core/weighin"
	"paceduel/internal/sample"
)

func answer(name, body string) weighin.Answer {
	return weighin.Answer{Name: name, Outcome: "200 OK", Type: "application/json", Body: []byte(body), Whole: true}
}

// told writes checks down: "rule" when it holds, "rule: where baseline|contender; …" when not.
func told(w *result.Weighing) string {
	var out []string
	for _, c := range w.Checks {
		line := c.Rule
		if !c.Same {
			var places []string
			for _, d := range c.Differences {
				places = append(places, fmt.Sprintf("%s %s|%s", d.Where, d.Baseline, d.Contender))
			}
			line += ": " + strings.Join(places, "; ")
		}
		out = append(out, line)
	}
	return strings.Join(out, "\n")
}

// It is long since its cases are listed in it.
func TestRulesForTheSameWork(t *testing.T) {
	const board = `{"tide":"001","at":"08:10","rows":[{"id":1,"m":2.5},{"id":2,"m":3}]}`
	tests := []struct {
		name  string
		rules plan.Same
		a, b  string
		want  string
	}{
		{"exact and so", plan.Same{Body: "exact"}, "a\nb\n", "a\nb\n", "outcome\nthe same bytes"},
		{
			"exact and not", plan.Same{Body: "exact"}, "a\nb\nc\n", "a\nX\nc\nd\n",
			"outcome\nthe same bytes: line 2 b|X; line 4 missing|d",
		},
		{
			"a line more", plan.Same{Body: "exact"}, "a\nb\nc\nd\n", "a\nx\nb\nc\nD\n",
			"outcome\nthe same bytes: line 2 missing|x; lines 4 and 5 d|D",
		},
		{
			"the end of a line", plan.Same{Body: "exact"}, "a\nb\n", "a\nb",
			"outcome\nthe same bytes: line 2 its end of line|no end of line",
		},
		{
			"bytes that are no text", plan.Same{Body: "exact"}, "\xff\x01\x02", "\xff\x01\x03\x04",
			"outcome\nthe same bytes: byte 2 of 3 and 4 02|03 04",
		},
		{"cut short", plan.Same{Body: "exact"}, "\xff\x01", "\xff", "outcome\nthe same bytes: byte 1 of 2 and 1 01|the end"},
		{
			"json in another order", plan.Same{Body: "json"}, board,
			`{"rows":[{"m":2.50,"id":1},{"id":2,"m":3.0}],"at":"08:10","tide":"001"}`, "outcome\nthe same JSON",
		},
		{"json with other values", plan.Same{Body: "json"}, board, `{"tide":"002","at":"08:10","rows":[{"id":1,"m":2.5,"x":null}]}`,
			`outcome` + "\n" + `the same JSON: /rows/0/x missing|null; /rows/1 {"id":2,"m":3}|missing; /tide "001"|"002"`},
		{
			"members left out", plan.Same{Body: "json", Ignore: []string{"/at", "/rows/*/m"}}, board,
			strings.NewReplacer("08:10", "09:00", "2.5", "7").Replace(board), "outcome\nthe same JSON but for /at, /rows/*/m",
		},
		{"a member that may be missing", plan.Same{
			Body: "json", Ignore: []string{"/at"},
		}, board, strings.Replace(board, `"at":"08:10",`, "", 1), "outcome\nthe same JSON but for /at"},
		{"lists in any order", plan.Same{
			Body: "json", Unordered: true,
		}, `[[1,9],[2]]`, `[[2],[9,1]]`, "outcome\nthe same JSON"},
		{"lists with other things", plan.Same{
			Body: "json", Unordered: true,
		}, `[1,2,2,3]`, `[2,1,4,3]`, "outcome\nthe same JSON: /0 2|4"},
		{"lists in any order, but for a member", plan.Same{
			Body: "json", Unordered: true, Ignore: []string{"/*/at"}, Tolerance: 0.01,
		}, `[{"id":1,"at":5},{"id":2.001,"at":6}]`, `[{"id":2,"at":7},{"id":1,"at":8}]`,
			"outcome\nthe same JSON but for /*/at"},
		{"lists of things in any order", plan.Same{
			Body: "json", Unordered: true,
		}, `[{"id":1},{"id":2},"x"]`, `["x",{"id":2},{"id":1}]`, "outcome\nthe same JSON"},
		{"numbers within the tolerance", plan.Same{
			Body: "json", Tolerance: 0.01,
		}, `[100,-1,0]`, `[100.9,-1.005,0]`, "outcome\nthe same JSON"},
		{"numbers beyond it", plan.Same{
			Body: "json", Tolerance: 0.01,
		}, `[100]`, `[102]`, "outcome\nthe same JSON: /0 100|102"},
		{
			"numbers too long for a float", plan.Same{Body: "json"}, `[9007199254740993]`, `[9007199254740992]`,
			"outcome\nthe same JSON: /0 9007199254740993|9007199254740992",
		},
		{"types differ", plan.Same{Body: "json"}, `{"a":1,"b":[]}`, `{"a":"1","b":{}}`, `outcome` + "\n" +
			`the same JSON: /a 1|"1"; /b []|{}`},
		{"pointers are escaped", plan.Same{Body: "json"}, `{"a/b":1}`, `{"a/b":2}`, "outcome\nthe same JSON: /a~1b 1|2"},
		{
			"no JSON at all", plan.Same{Body: "json"}, `[]`, `oops`,
			"outcome\nthe same JSON: answer JSON|no JSON: invalid character 'o' looking for beginning of value",
		},
		{"as many lines", plan.Same{Body: "lines"}, "a\nb", "c\nd\n", "outcome\nas many lines"},
		{"other lines", plan.Same{Body: "lines"}, "a\nb", "", "outcome\nas many lines: lines 2|0"},
		{"rows in any order", plan.Same{Body: "rows"}, "a\nb\nb\n", "b\r\na\r\nb", "outcome\nthe same rows in any order"},
		{
			"rows missing and too many", plan.Same{Body: "rows"}, "a\nb\nb\n", "b\nc\n",
			"outcome\nthe same rows in any order: row a|missing; row b|missing; row missing|c",
		},
		{
			"values at pointers", plan.Same{At: []string{"/tide", "/rows/1/id"}}, board,
			strings.Replace(board, `"id":2`, `"id":3`, 1),
			"outcome\nthe same value at /tide\nthe same value at /rows/1/id: /rows/1/id 2|3",
		},
		{"a pointer to nothing on both sides", plan.Same{
			At: []string{"/none"},
		}, board, board, "outcome\nthe same value at /none: /none missing|missing"},
		{"counts", plan.Same{Count: `"id":`}, board, `{"id":1}`, `outcome` + "\n" + `as many matches of "id":: matches 2|1`},
		{
			"what must match, the baseline too", plan.Same{Match: `^\{`}, "[1]", "{}",
			"matches ^\\{: answer a match of ^\\{|[1]\noutcome\nmatches ^\\{",
		},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			w := weighin.Compare(&tt.rules, []weighin.Answer{answer("slow", tt.a), answer("fast", tt.b)})
			if got := told(w); got != tt.want || !w.Ruled {
				t.Errorf("Compare says\n%s\nwant\n%s", got, tt.want)
			}
		})
	}
}

func TestWithoutRulesDifferencesAreOnlyTold(t *testing.T) {
	other := answer("fast", "b")
	other.Type = "text/plain"
	w := weighin.Compare(nil, []weighin.Answer{answer("slow", "a"), other})
	if got, want := told(w),
		"outcome\ncontent type: content type application/json|text/plain\nthe same bytes: line 1 a|b"; got != want {
		t.Errorf("Compare says\n%s\nwant\n%s", got, want)
	}
	if err := weighin.Judge(w); err != nil || len(w.Unequal()) != 1 {
		t.Errorf("without rules it is refused: %v", err)
	}
}

func TestOutcomesAlwaysCount(t *testing.T) {
	other := answer("fast", "a")
	other.Outcome = "204 No Content"
	w := weighin.Compare(&plan.Same{}, []weighin.Answer{answer("slow", "a"), other})
	err := weighin.Judge(w)
	if !weighin.IsUnequal(err) || !weighin.IsFailed(err) || !strings.Contains(
		err.Error(), "fast does not do the same work as the baseline: not outcome: outcome is 204 No Content, not 200 OK",
	) {
		t.Errorf("Judge says %v", err)
	}
	w.Accepted = true
	if err := weighin.Judge(w); err != nil {
		t.Errorf("accepted, and yet %v", err)
	}
	if weighin.Judge(nil) != nil {
		t.Error("nothing compared is refused")
	}
}

func TestOnlyTheFirstDifferencesAreListed(t *testing.T) {
	w := weighin.Compare(&plan.Same{Body: "exact"}, []weighin.Answer{
		answer("a", strings.Repeat("x\n", 500)), answer("b", strings.Repeat("y\n", 500)),
	})
	if n := len(w.Checks[1].Differences); n != 20 {
		t.Errorf("%d differences are listed; want the first 20", n)
	}
}

func TestEveryoneIsAskedAndHeldToTheBaseline(t *testing.T) {
	p := &plan.Plan{Baseline: "b", Same: &plan.Same{Body: "exact"}}
	ask := func(
		accept bool, tell func(string, *result.Touch, []byte), drivers ...contender.Driver,
	) (*result.Weighing, error) {
		p.Contenders = nil
		var entries []contender.Entry
		for i, d := range drivers {
			c := plan.Contender{Name: string(rune('a' + i))}
			p.Contenders = append(p.Contenders, c)
			entries = append(entries, contender.Entry{Shape: &sample.Shape, Contender: c, Driver: d})
		}
		f, err := footing.Open(p, clock.Start())
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		w, _, err := weighin.Run(t.Context(), p, entries, f, accept, nil, tell)
		return w, err
	}
	var heard []string
	w, err := ask(false, func(
		name string, _ *result.Touch, _ []byte,
	) {
		heard = append(heard, name)
	}, saying{"tide"}, saying{"ebb"}, saying{"ebb"})
	if !weighin.IsUnequal(err) || strings.Join(w.Unequal(), " ") != "a" || strings.Join(heard, " ") != "a b c" {
		t.Errorf("unequal %v after asking %v, %v; want a alone", w.Unequal(), heard, err)
	}
	w, err = ask(true, nil, saying{"tide"}, saying{"ebb"})
	if err != nil || !w.Accepted {
		t.Errorf("accepted %v, %v", w.Accepted, err)
	}
	w, err = ask(true, nil, fixed{shots.Status}, saying{"ebb"})
	if len(w.Checks) != 0 || !weighin.IsFailed(err) || weighin.IsUnequal(err) {
		t.Errorf("a failure is compared: %v, %v", w, err)
	}
	w, err = ask(true, nil, fixed{shots.Status}, saying{"ebb"}, saying{"tide"})
	if strings.Join(w.Unequal(), " ") != "c" || weighin.IsUnequal(err) {
		t.Errorf("those that passed beside a failure: unequal %v, %v", w.Unequal(), err)
	}
}

// What the rules look at is what the plan's filter makes of an answer; what is shown and kept is the answer.
func TestAnswersGoThroughTheFilter(t *testing.T) {
	tests := []struct {
		name, through string
		a, b          string
		says          string // of the first breach; empty: the same work
	}{
		{"alike behind it", "tr a-z A-Z", "ebb", "EBB", ""},
		{"unlike behind it, too", "tr a-z A-Z", "ebb", "flood", "not the same bytes: line 1 is FLOOD, not EBB"},
		{"each its own way", `case $PACEDUEL_CONTENDER in b) rev ;; *) cat ;; esac`, "ebb\n", "bbe\n", ""},
		{
			"one that fails", "grep -v oyster", "ebb", "oyster",
			"not read through grep -v oyster: the filter is exit code 1, not its answer",
		},
		{
			"one that says why", "echo the sluice is shut >&2; exit 3", "ebb", "ebb",
			"not read through echo the sluice is shut >&2; exit 3: " +
				"the filter is exit code 3: the sluice is shut, not its answer",
		},
		{
			"one of several lines", "tr a-z A-Z |\n  grep -v OYSTER\n", "ebb", "oyster",
			"not read through tr a-z A-Z |   grep -v OYSTER: the filter is exit code 1, not its answer",
		},
		{"nothing, of which it makes something", "wc -c", "", "", ""},
		{"one that does not read", "echo tide", strings.Repeat("x", 1<<20), strings.Repeat("y", 1<<20), ""},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			p := &plan.Plan{Baseline: "a", Contenders: []plan.Contender{
				{Name: "a"}, {Name: "b"},
			}, Same: &plan.Same{Body: "exact", Through: tt.through}}
			f, err := footing.Open(p, clock.Start())
			if err != nil {
				t.Fatal(err)
			}
			defer f.Close()
			told := map[string]string{}
			entries := []contender.Entry{{
				Shape: &sample.Shape, Contender: p.Contenders[0], Driver: saying{tt.a},
			}, {Shape: &sample.Shape, Contender: p.Contenders[1], Driver: saying{tt.b}}}
			w, _, err := weighin.Run(
				t.Context(), p, entries, f, false, nil,
				func(name string, _ *result.Touch, body []byte) { told[name] = string(body) },
			)
			if weighin.IsUnequal(err) != (tt.says != "") || w.First() != tt.says {
				t.Errorf("the weigh-in says %q, %v; want %q", w.First(), err, tt.says)
			}
			if told["a"] != tt.a || told["b"] != tt.b {
				t.Errorf("what is told is not what was answered")
			}
		})
	}
}

// A filter that never ends does not hold up an interrupt.
func TestAnInterruptEndsTheFilter(t *testing.T) {
	p := &plan.Plan{Baseline: "a", Contenders: []plan.Contender{{Name: "a"}}, Same: &plan.Same{
		Body: "exact", Through: "cat >/dev/null; touch \"$REACHED\"; sleep 600",
	}}
	reached := filepath.Join(t.TempDir(), "reached")
	t.Setenv("REACHED", reached)
	f, err := footing.Open(p, clock.Start())
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	go func() {
		for ctx.Err() == nil { // until the filter is under way
			if _, err := os.Stat(reached); err == nil {
				cancel()
				return
			}
			time.Sleep(time.Millisecond)
		}
	}()
	_, _, err = weighin.Run(ctx, p, []contender.Entry{
		{Shape: &sample.Shape, Contender: p.Contenders[0], Driver: saying{"ebb"}},
	}, f, false, nil, nil)
	if !errors.Is(err, context.Canceled) {
		t.Errorf("the weigh-in ends with %v", err)
	}
}

// A slow program is not run twice for its memory: without a warm-up the first touch has to learn it, with one it need
// not.
func TestTheFirstTouchLearnsMemoryWhereNoWarmUpDoes(t *testing.T) {
	tests := []struct {
		name   string
		warmup plan.Warmup
		want   int64
	}{
		{"none", plan.Warmup{}, 7 << 20},
		{"one run", plan.Warmup{Shots: 1}, 0},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			p := &plan.Plan{
				Baseline: "a", Contenders: []plan.Contender{{Name: "a"}}, Pace: plan.Pace{Repeat: 1, Warmup: &tt.warmup},
			}
			f, err := footing.Open(p, clock.Start())
			if err != nil {
				t.Fatal(err)
			}
			defer f.Close()
			touch, _ := weighin.Touch(t.Context(), p, contender.Entry{
				Shape: &sample.Shape, Contender: p.Contenders[0], Driver: holding{},
			}, f, plan.AsFound)
			if touch.Peak != tt.want {
				t.Errorf("the touch held %d bytes; want %d", touch.Peak, tt.want)
			}
		})
	}
}

// A body of 64 MiB that is the same but for its end: the differing line has to be found behind all the others.
func BenchmarkCompareLarge(b *testing.B) {
	left := bytes.Repeat([]byte("0001;Brave Petrel;salt cod\n"), 64<<20/27)
	right := append(bytes.Clone(left[:len(left)-2]), "!\n"...)
	answers := []weighin.Answer{{Name: "a", Body: left, Whole: true}, {Name: "b", Body: right, Whole: true}}
	for b.Loop() {
		if w := weighin.Compare(&plan.Same{Body: "exact"}, answers); len(w.Checks[1].Differences) != 1 {
			b.Fatal(w.Checks)
		}
	}
}

// An outcome that the plan expects of a contender is no breach; others are.
func TestOutcomesThatThePlanExpects(t *testing.T) {
	for _, tt := range []struct {
		base, own weighin.Answer
		same      bool
	}{
		{weighin.Answer{Outcome: "exit code 4", Own: true}, weighin.Answer{Outcome: "exit code 1", Own: true}, true},
		{weighin.Answer{Outcome: "exit code 0"}, weighin.Answer{Outcome: "exit code 1", Own: true}, true},
		{weighin.Answer{Outcome: "200 OK"}, weighin.Answer{Outcome: "206 Partial Content"}, false},
	} {
		for _, rules := range []*plan.Same{nil, {Body: "exact"}} {
			w := weighin.Compare(rules, []weighin.Answer{tt.base, tt.own})
			if got := !slices.ContainsFunc(w.Checks, func(c result.Check) bool { return !c.Same }); got != tt.same {
				t.Errorf("%s against %s: same %v; want %v: %+v", tt.own.Outcome, tt.base.Outcome, got, tt.same, w.Checks)
			}
		}
	}
}
