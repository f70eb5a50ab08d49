package conduct_test

import (
	"path/filepath"
	"strings"
	"testing"

	"paceduel/core/conduct"
	"paceduel/core/contender"
	"paceduel/core/logbook"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/core/result"
	"paceduel/core/rounds"
	"paceduel/internal/sample"
)

func spec(t *testing.T, book *logbook.Book) conduct.Spec {
	t.Helper()
	src := "duel: Tides\nbaseline: slow\ncontenders:\n  slow: { stub: { takes: 2ms } }\n  fast: { stub: { takes: 100us " +
		"} }\npace: { repeat: 3 }\nrounds: 6\n"
	p, err := read.Plan("t.duel.yaml", []byte(src), read.Options{Kinds: []plan.Kind{sample.Stub().Kind}})
	if err != nil {
		t.Fatal(err)
	}
	return conduct.Spec{Plan: p, Kinds: []contender.Kind{sample.Stub()}, Program: "test", Seed: 3, Book: book}
}

func TestADuelIsRunKeptAndJudged(t *testing.T) {
	book, err := logbook.Open(filepath.Join(t.TempDir(), "l.sqlite"), false)
	if err != nil {
		t.Fatal(err)
	}
	defer book.Close()
	heats := 0
	o, err := conduct.Duel(t.Context(), spec(t, book), func(e rounds.Event) {
		if _, ok := e.(rounds.HeatEnded); ok {
			heats++
			// The heat is in the logbook by the time anyone hears of it.
			list, err := book.List(1, logbook.Filter{})
			if err != nil || list[0].Heats != heats || list[0].Ending != result.Running {
				t.Errorf("after heat %d the logbook has %+v, %v", heats, list, err)
			}
		}
	})
	if err != nil || o.BookErr != nil || heats != 12 || o.Verdict.Rounds != 6 {
		t.Fatalf("outcome %+v, %v", o, err)
	}
	kept, err := book.Load(o.Result.ID)
	if err != nil || len(kept.Heats) != 12 || kept.Ending != result.Done {
		t.Errorf("kept %+v, %v", kept, err)
	}
	list, err := book.List(1, logbook.Filter{})
	if err != nil || list[0].Sentence != o.Verdict.Sentence || list[0].Lead != o.Verdict.Lead() {
		t.Errorf("listed as %+v, %v", list[0], err)
	}
}

func TestALogbookThatFailsDoesNotStopTheRun(t *testing.T) {
	book, err := logbook.Open(filepath.Join(t.TempDir(), "l.sqlite"), false)
	if err != nil {
		t.Fatal(err)
	}
	said := 0
	o, err := conduct.Duel(t.Context(), spec(t, book), func(e rounds.Event) {
		switch e.(type) {
		case rounds.HeatEnded:
			book.Close() // from here on nothing can be written
		case rounds.NotKept:
			said++
		}
	})
	if err != nil || len(o.Result.Heats) != 12 || o.Verdict.Rounds != 6 {
		t.Errorf("the run ended with %v and %d heats", err, len(o.Result.Heats))
	}
	if said != 1 || o.BookErr == nil ||
		!strings.Contains(o.BookErr.Error(), "the run goes on, but the logbook does not keep it") {
		t.Errorf("said %d times: %v", said, o.BookErr)
	}
}
