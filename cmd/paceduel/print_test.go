package main

import (
	"bytes"
	"strings"
	"testing"
	"unicode/utf8"

	"paceduel/core/judge"
	"paceduel/core/logbook"
	"paceduel/core/result"
	"paceduel/internal/sample"
)

func TestWrapping(t *testing.T) {
	tests := []struct{ name, text, want string }{
		{"short", "ebb and flood", "  ebb and flood"},
		{"at spaces", "the board of the coming fortnight", "  the board of the\n  coming fortnight"},
		{"an item", "- the board of the coming fortnight", "  - the board of the\n    coming fortnight"},
		{"a word that is too long", "see http://127.0.0.1:8080/berths now", "  see\n  http://127.0.0.1:8080/berths\n  now"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			if got := wrap(tt.text, "  ", 20); got != tt.want {
				t.Errorf("wrapped as\n%s\nwant\n%s", got, tt.want)
			}
		})
	}
}

// What is printed to a terminal fits it, and what is left out for that is the least.
func TestAVerdictFitsTheTerminal(t *testing.T) {
	r := sample.Make(sample.Duel{Rounds: 6, Shots: 500, Clients: 4, Seed: 3, Entrants: []sample.Entrant{
		{Name: "per-vessel", Latency: sample.Times(0.010, 0.2)}, {Name: "joined", Latency: sample.Times(0.009, 0.4)},
	}})
	r.Plan.Question = "Does one joined query beat a query per vessel when the board is busy, and would anybody at the " +
		"quay notice it?"
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	printed := func(width int) string {
		var out bytes.Buffer
		printer{&out, width}.verdict(r, v)
		return out.String()
	}
	for _, width := range []int{72, 80, 100, 140} {
		for line := range strings.Lines(printed(width)) {
			if n := utf8.RuneCountInString(strings.TrimRight(line, " \n")); n > width {
				t.Errorf("at %d columns a line has %d: %s", width, n, line)
			}
		}
	}
	if narrow := printed(72); strings.Contains(narrow, "difference") || !strings.Contains(narrow, "between") ||
		strings.Contains(narrow, "(alone:") {
		t.Errorf("a narrow terminal has\n%s", narrow)
	}
	if whole := printed(0); !strings.Contains(whole, "difference") ||
		!strings.Contains(whole, "still open (alone: faster)") {
		t.Errorf("without a terminal there is\n%s", whole)
	}
}

func TestTheLogFitsTheTerminal(t *testing.T) {
	entries := []logbook.Entry{
		{ID: "1125-1702qwe", Name: "Berth board", Ending: result.Done, Summary: logbook.Summary{
			Sentence: "snapshot is 19x faster than per-vessel at p50 (15 to 23) and 16x at p90 (11 to 23).",
		}},
		{
			ID: "1125-1650rff", Name: "A duel with a name that fits no column", Ending: result.Interrupted, Heats: 3,
			Planned: 20, Summary: logbook.Summary{Sentence: "Nothing is settled."},
		},
	}
	printed := func(width int) string {
		var out bytes.Buffer
		printer{&out, width}.log(entries)
		return out.String()
	}
	for line := range strings.Lines(printed(80)) {
		if n := utf8.RuneCountInString(strings.TrimRight(line, "\n")); n > 80 {
			t.Errorf("a line has %d characters: %s", n, line)
		}
	}
	for _, want := range []string{"A duel with a name that fit…", "snapshot is 19x faster"} {
		if !strings.Contains(printed(110), want) {
			t.Errorf("there is no %q in\n%s", want, printed(110))
		}
	}
	for _, want := range []string{
		"fits no column  interrupted after 3 of 20 heats. Nothing is settled.", "16x at p90 (11 to 23).\n",
	} {
		if !strings.Contains(printed(0), want) {
			t.Errorf("without a terminal there is no %q in\n%s", want, printed(0))
		}
	}
}

func TestNobodyComparedIsNotTheSameWork(t *testing.T) {
	check := func(contender string, same bool) result.Check {
		return result.Check{Contender: contender, Rule: "the same bytes", Same: same}
	}
	tests := []struct {
		name   string
		checks []result.Check
		want   string
	}{
		{"nobody", nil, ""},
		{"the baseline alone", []result.Check{check("a", true)}, ""},
		{"alike", []result.Check{check("b", true)}, "  the same work\n"},
		{
			"unlike", []result.Check{check("b", false)},
			"  differences, shown only, since the plan sets no rules under same:\n  b: not the same bytes\n",
		},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			var out bytes.Buffer
			printer{out: &out}.weighing(&result.Result{
				Plan: result.Plan{Baseline: "a"}, Weighing: &result.Weighing{Checks: tt.checks},
			})
			if out.String() != tt.want {
				t.Errorf("it says %q; want %q", out.String(), tt.want)
			}
		})
	}
}
