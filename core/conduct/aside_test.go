package conduct_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"paceduel/core/conduct"
	"paceduel/core/logbook"
	"paceduel/core/rounds"
	"paceduel/internal/servers"
)

// A server that goes away in mid-run costs nothing that was measured: the run ends as it would have, is kept aside, and
// is handed in whole when there is a logbook again.
func TestAServerThatGoesAwayCostsNothing(t *testing.T) {
	s := servers.Postgres()
	if s.Missing != "" {
		t.Skip(s.Missing)
	}
	ended := false
	defer func() {
		if !ended {
			s.End()
		}
	}()
	address := fmt.Sprintf("postgres://harbour:%s@127.0.0.1:%s/postgres?sslmode=disable", servers.Password, s.Port)
	book, err := logbook.Open(address, false)
	if err != nil {
		t.Fatal(err)
	}
	defer book.Close()
	own := spec(t, book)
	own.Aside = conduct.Aside{Dir: filepath.Join(t.TempDir(), "aside"), Book: address}
	heats, told := 0, false
	o, err := conduct.Duel(t.Context(), own, func(e rounds.Event) {
		switch e := e.(type) {
		case rounds.HeatEnded:
			if heats++; heats == 3 {
				ended = true
				s.End()
			}
		case rounds.NotKept:
			told = told || e.Err != nil
		}
	})
	if err != nil || heats != 12 || o.Verdict.Rounds != 6 || o.BookErr == nil || !told {
		t.Fatalf("%d heats, trouble told: %v; %v, %v", heats, told, err, o.BookErr)
	}
	info, err := os.Stat(o.Aside)
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Fatalf("kept in %q: %v, %v", o.Aside, info, err)
	}
	if text, _ := os.ReadFile(o.Aside); strings.Contains(string(text)+o.Aside, servers.Password) {
		t.Error("the password of the server is in what is kept")
	}
	again, err := logbook.Open(filepath.Join(t.TempDir(), "l.sqlite"), false)
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	elsewhere := conduct.Aside{Dir: own.Aside.Dir, Book: "another"}
	if n, err := elsewhere.HandIn(again); n != 0 || err != nil {
		t.Errorf("what is of one logbook was handed in to another: %d, %v", n, err)
	}
	if n, err := own.Aside.HandIn(again); n != 1 || err != nil {
		t.Errorf("%d were handed in, %v", n, err)
	}
	got, err := again.Load(o.Result.ID)
	if err != nil || len(got.Heats) != 12 {
		t.Errorf("%v", err)
	}
	list, _ := again.List(1, logbook.Filter{})
	if list[0].Sentence != o.Verdict.Sentence {
		t.Errorf("listed as %+v", list[0])
	}
	if _, err := os.Stat(o.Aside); !os.IsNotExist(err) {
		t.Error("what was handed in is still kept aside")
	}
}

// A file that is no run stays where it is, and is told.
func TestWhatCannotBeHandedInStays(t *testing.T) {
	a := conduct.Aside{Dir: t.TempDir(), Book: "b"}
	book, err := logbook.Open(filepath.Join(t.TempDir(), "l.sqlite"), false)
	if err != nil {
		t.Fatal(err)
	}
	defer book.Close()
	own := spec(t, nil)
	own.Aside = a
	o, err := conduct.Duel(t.Context(), own, func(rounds.Event) {})
	if err != nil || o.Aside == "" {
		t.Fatalf("%v, kept in %q", err, o.Aside)
	}
	if err := os.WriteFile(o.Aside, []byte("{"), 0o600); err != nil {
		t.Fatal(err)
	}
	if n, err := a.HandIn(book); n != 0 || err == nil || !strings.Contains(err.Error(), o.Aside) {
		t.Errorf("%d, %v", n, err)
	}
	if _, err := os.Stat(o.Aside); err != nil {
		t.Error(err)
	}
}
