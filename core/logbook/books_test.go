package logbook

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"paceduel/core/result"
	"paceduel/internal/servers"
)

var postgres = sync.OnceValue(servers.Postgres)

// named is whether the server was started, which is asked for by tests alone.
var named bool

// databases counts them.
var databases atomic.Int64

func TestMain(m *testing.M) {
	code := m.Run()
	if named {
		postgres().End()
	}
	os.Exit(code)
}

// serverAddress is a fresh database of a real server.
func serverAddress(t *testing.T) string {
	t.Helper()
	named = true
	s := postgres()
	if s.Missing != "" {
		t.Skip(s.Missing)
	}
	at := func(name string) string {
		return fmt.Sprintf("postgres://harbour:%s@127.0.0.1:%s/%s?sslmode=disable", servers.Password, s.Port, name)
	}
	b := opened(t, at("postgres"))
	name := fmt.Sprintf("book_%d", databases.Add(1))
	if _, err := b.db.Exec("CREATE DATABASE " + name); err != nil {
		t.Fatal(err)
	}
	return at(name)
}

// books are all kinds of logbooks: each has to do the same.
func books(t *testing.T, test func(t *testing.T, name string)) {
	t.Run("SQLite", func(t *testing.T) { test(t, filepath.Join(t.TempDir(), "l.sqlite")) })
	t.Run("PostgreSQL", func(t *testing.T) { test(t, serverAddress(t)) })
}

func TestEveryBookKeepsRuns(t *testing.T) {
	books(t, func(t *testing.T, name string) {
		b := opened(t, name)
		r := made("0309-0640abc")
		enter(t, b, r, len(r.Heats))
		if err := b.End(r, Summary{Sentence: "b is slower", Lead: 0.5, Stand: []byte(`{"plan":"x"}`)}); err != nil {
			t.Fatal(err)
		}
		enter(t, b, made("0309-0641abd"), 2)
		other := opened(t, name) // another program
		if got, err := other.Load("0309-0640"); err != nil || !reflect.DeepEqual(got, r) {
			t.Errorf("Load changed the run (%v)", err)
		}
		if _, err := other.Load("nobody"); !errors.Is(err, ErrNoRun) {
			t.Errorf("a run that is not there: %v", err)
		}
		if _, err := other.Load("0309"); err == nil || !strings.Contains(err.Error(), "more than one run") {
			t.Errorf("an id that begins two runs: %v", err)
		}
		totals, err := other.Totals()
		if err != nil || totals != (Totals{Runs: 2, Done: 1}) {
			t.Errorf("%+v, %v", totals, err)
		}
		duels, all, err := other.Duels(10)
		if err != nil || all != 1 || len(duels) != 1 || duels[0].Runs != 2 || duels[0].Name != r.Plan.Name {
			t.Errorf("duels %+v, %v", duels, err)
		}
		stood, all, err := other.RunsOf(r.Plan.Name, 10)
		if err != nil || all != 2 || len(stood) != 2 || stood[1].Lead != 0.5 || string(stood[1].Stand) != `{"plan":"x"}` ||
			len(stood[0].Stand) != 0 {
			t.Errorf("%+v, %v", stood, err)
		}
		if err := other.SetStand("0309-0641abd", []byte("{}")); err != nil {
			t.Error(err)
		}
		if stood, all, err = b.RunsOf(r.Plan.Name, 1); err != nil || all != 2 || len(stood) != 1 ||
			string(stood[0].Stand) != "{}" {
			t.Errorf("%+v, %v", stood, err)
		}
	})
}

func TestEveryBookKeepsRemarks(t *testing.T) {
	books(t, func(t *testing.T, name string) {
		b := opened(t, name)
		r := made("0309-0640abc")
		if err := b.Import(r, Summary{Sentence: "b is slower"}); err != nil {
			t.Fatal(err)
		}
		if err := b.Import(r, Summary{}); !errors.Is(err, ErrKnown) {
			t.Errorf("a second time it is %v", err)
		}
		_, now, err := b.Remark("0309", func(r *Remarks) {
			r.Note = "Öre\nbefore"
			r.Retag([]string{"release", "quiet"}, nil)
		})
		if err != nil || now.Note != "Öre before" || !slices.Equal(now.Tags, []string{"quiet", "release"}) {
			t.Errorf("%+v, %v", now, err)
		}
		for _, f := range []Filter{{Text: "ÖRE"}, {Tag: "quiet"}, {Machine: "harbour"}, {Attempts: Kept}} {
			if list, err := b.List(0, f); err != nil || len(list) != 1 {
				t.Errorf("%+v: %d, %v", f, len(list), err)
			}
		}
		if list, err := b.List(5, Filter{Attempts: Failing}); err != nil || len(list) != 0 {
			t.Errorf("%d failed, %v", len(list), err)
		}
		if err := b.Delete("0309-0640abc"); err != nil {
			t.Fatal(err)
		}
		var left int
		err = b.db.QueryRow("SELECT (SELECT count(*) FROM heats) + (SELECT count(*) FROM documents)").Scan(&left)
		if err != nil || left != 0 {
			t.Errorf("%d rows are left, %v", left, err)
		}
	})
}

// A run that was kept aside takes the place of what the book has of it, and what people said stays; one that went on
// elsewhere is left as it is.
func TestARunIsHandedInWhole(t *testing.T) {
	books(t, func(t *testing.T, name string) {
		b := opened(t, name)
		r := made("0309-0640abc")
		enter(t, b, r, 2)
		b.Remark(r.ID, func(m *Remarks) { m.Note, m.Called = "server went away", "odd" })
		if err := b.HandIn(r, Summary{Sentence: "b is slower", Stand: []byte("{}")}); err != nil {
			t.Fatal(err)
		}
		list, err := b.List(1, Filter{})
		if err != nil || list[0].Heats != len(r.Heats) || list[0].Note != "server went away" || list[0].Called != "odd" ||
			list[0].Ending != result.Done || list[0].Sentence != "b is slower" {
			t.Errorf("%+v, %v", list, err)
		}
		short := *r
		short.Heats = r.Heats[:1]
		if err := b.HandIn(&short, Summary{}); err != nil {
			t.Error(err)
		}
		if got, err := b.Load(r.ID); err != nil || len(got.Heats) != len(r.Heats) {
			t.Errorf("%v", err)
		}
	})
}

// A team writes at once: nothing is lost.
func TestManyWritersLoseNothing(t *testing.T) {
	books(t, func(t *testing.T, name string) {
		const writers, heats = 6, 6
		first := opened(t, name)
		shared := made("shared")
		enter(t, first, shared, 0)
		var all sync.WaitGroup
		for i := range writers {
			all.Go(func() {
				b, err := Open(name, false)
				if err != nil {
					t.Error(err)
					return
				}
				defer b.Close()
				r := made(fmt.Sprintf("run-%d", i))
				head := *r
				head.Heats, head.Ending = nil, result.Running
				err = b.Begin(&head)
				for j := range heats {
					err = errors.Join(err, b.AddHeat(r.ID, j, &r.Heats[j]))
					n, again := b.Reopen(&head)
					if err = errors.Join(err, again); n != j+1 {
						t.Errorf("of %d heats the book has %d", j+1, n)
					}
				}
				err = errors.Join(err, b.End(r, Summary{Stand: []byte("{}")}))
				_, _, remark := b.Remark("shared", func(m *Remarks) { m.Retag([]string{fmt.Sprintf("tag%d", i)}, nil) })
				if err = errors.Join(err, remark); err != nil {
					t.Error(err)
				}
			})
		}
		all.Wait()
		list, err := first.List(0, Filter{})
		if err != nil || len(list) != writers+1 {
			t.Fatalf("%d runs, %v", len(list), err)
		}
		for _, e := range list {
			if e.ID == "shared" && len(e.Tags) != writers {
				t.Errorf("of %d tags %q are left", writers, e.Tags)
			}
			if e.ID != "shared" && (e.Heats != heats || e.Ending != result.Done) {
				t.Errorf("%+v", e)
			}
		}
	})
}

// Several programs that open a new logbook at the same time make it once.
func TestManyMakeOneBook(t *testing.T) {
	books(t, func(t *testing.T, name string) {
		var all sync.WaitGroup
		for range 8 {
			all.Go(func() {
				b, err := Open(name, false)
				if err != nil {
					t.Error(err)
					return
				}
				b.Close()
			})
		}
		all.Wait()
	})
}

func TestServersOfANewerVersionAreRefused(t *testing.T) {
	name := serverAddress(t)
	b := opened(t, name)
	if _, err := b.db.Exec("UPDATE version SET number = 99"); err != nil {
		t.Fatal(err)
	}
	_, err := Open(name, false)
	want := fmt.Sprintf("it is of version 99, this program knows up to %d", len(serverMigrations))
	if err == nil || !strings.Contains(err.Error(), want) {
		t.Errorf("%v", err)
	}
}

// Nobody reads a password in what is said of a server, whatever goes wrong with it.
func TestPasswordsOfServersAreNotShown(t *testing.T) {
	s := "quay-7-sekret"
	for _, name := range []string{
		"postgres://harbour:" + s + "@127.0.0.1:1/none", "postgres://harbour:" + s + "@127.0.0.1:port/none",
		"postgres://harbour@127.0.0.1:1/none?password=" + s, "postgres://harbour:" + s + "@127.0.0.1:1/x?sslmode=odd",
		"postgres://harbour:" + s + "@127.0.0.1:1/none?search_path=%zz",
	} {
		_, err := Open(name, false)
		if err == nil || strings.Contains(err.Error(), s) || !strings.Contains(err.Error(), "open logbook") {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// The run before a run is the latest one of its duel that measured something, however many lie between.
func TestTheRunBefore(t *testing.T) {
	books(t, func(t *testing.T, name string) {
		b := opened(t, name)
		for i, one := range []struct {
			id     string
			heats  int
			ending result.Ending
		}{{"first", 2, result.Done}, {"empty", 0, result.Done}, {"failed", 2, result.Failed}, {"last", 2, result.Done}} {
			r := made(one.id)
			r.Started, r.Heats, r.Ending = r.Started.Add(time.Duration(i)*time.Hour), r.Heats[:one.heats], one.ending
			if err := b.Import(r, Summary{}); err != nil {
				t.Fatal(err)
			}
		}
		last, err := b.Load("last")
		if err != nil {
			t.Fatal(err)
		}
		then, err := b.Before(last)
		if err != nil || then.ID != "first" || len(then.Heats) != 2 {
			t.Errorf("%v, %v", then, err)
		}
		if _, err := b.Before(then); !errors.Is(err, ErrNoRun) {
			t.Errorf("before the first: %v", err)
		}
	})
}
