package chart_test

import (
	"fmt"
	"strings"
	"testing"

	"paceduel/core/chart"
	"paceduel/core/judge"
	"paceduel/core/result"
	"paceduel/internal/sample"
)

func TestWhatAnswersConsistOf(t *testing.T) {
	r := sample.Make(sample.Duel{Rounds: 6, Shots: 25, Seed: 3, Entrants: []sample.Entrant{
		{Name: "full", Latency: sample.Times(0.1, 0.1), Bytes: 9_000}, {Name: "packed", Latency: sample.Times(0.1, 0.1),
			Bytes: 1_000},
		{Name: "slim", Latency: sample.Times(0.1, 0.1), Bytes: 900},
	}})
	r.Entrants[0].Touch.Parts = []result.Part{{Path: "history", Bytes: 8_000}, {Path: "name", Bytes: 1_000}}
	r.Entrants[1].Touch.Parts, r.Entrants[1].Touch.Decoded, r.Entrants[1].Touch.Encoding = r.Entrants[0].Touch.Parts,
		9_000, "gzip"
	r.Entrants[2].Touch.Parts = []result.Part{{Path: "name", Bytes: 900}}
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	p := chart.NewPayload(r, v)
	want := "full ships 10x the bytes of slim (8.79 KiB, 900 B); what it has most on top is history, 7.81 KiB."
	if p.Sentence != want {
		t.Errorf("%s; want %s", p.Sentence, want)
	}
	if l := p.Lanes[1]; l.Decoded != "8.79 KiB" || l.ShippedTo >= l.DecodedTo || l.DecodedTo != p.Lanes[0].ShippedTo {
		t.Errorf("%+v beside %+v", l, p.Lanes[0])
	}
	if c := p.Rows[0]; c.Label != "history" || c.Cells[0].To <= p.Rows[1].Cells[0].To ||
		c.Cells[2] != (chart.PayloadCell{Text: "–"}) {
		t.Errorf("%+v", p.Rows)
	}
	// Of very many members the lightest are added up.
	for i := range 40 {
		r.Entrants[2].Touch.Parts = append(r.Entrants[2].Touch.Parts, result.Part{Path: fmt.Sprint("m", i), Bytes: 10})
	}
	many := chart.NewPayload(r, v)
	if last := many.Rows[len(many.Rows)-1]; len(many.Rows) != 14 || !strings.HasSuffix(last.Label, "more members") ||
		last.Cells[2].Text != "290 B" {
		t.Errorf("%d rows, the last %+v", len(many.Rows), last)
	}
	r.Entrants[0].Touch, r.Entrants[1].Touch, r.Entrants[2].Touch = nil, nil, nil
	if none := chart.NewPayload(r, v); none.Any() || !strings.HasPrefix(none.Sentence, "No contender answered anything") {
		t.Errorf("%+v", none)
	}
}
