package logbook

import (
	"errors"
	"math"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"paceduel/core/result"
	"paceduel/internal/sample"
)

func open(t *testing.T, path string) *Book {
	t.Helper()
	b, err := Open(path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { b.Close() })
	return b
}

func made(id string) *result.Result {
	r := sample.Make(sample.Duel{
		Entrants: []sample.Entrant{{Name: "a", Latency: sample.Times(0.01, 0.1)}, {Name: "b", Latency: sample.Times(0.02, 0.1)}},
		Rounds:   3, Shots: 5, Seed: 1,
	})
	r.ID = id
	return r
}

// enter writes a run as far as the given number of heats.
func enter(t *testing.T, b *Book, r *result.Result, heats int) {
	t.Helper()
	head := *r
	head.Heats, head.Ending = nil, result.Running
	if err := b.Begin(&head); err != nil {
		t.Fatal(err)
	}
	for i := range heats {
		if err := b.AddHeat(r.ID, i, &r.Heats[i]); err != nil {
			t.Fatal(err)
		}
	}
}

func TestARunIsKeptWhole(t *testing.T) {
	path := filepath.Join(t.TempDir(), "deep", "log book?#%.sqlite")
	b := open(t, path)
	r := made("0309-0640abc")
	enter(t, b, r, len(r.Heats))
	if err := b.End(r, Summary{Sentence: "b is slower", Lead: 0.5}); err != nil {
		t.Fatal(err)
	}
	b.Close()
	b = open(t, path)
	got, err := b.Load("0309-0640abc")
	if err != nil || !reflect.DeepEqual(got, r) {
		t.Errorf("Load changed the run (%v)", err)
	}
	if _, err := b.Load("0309"); err != nil {
		t.Errorf("a shortened id says %v", err)
	}
	list, err := b.List(10)
	if err != nil || len(list) != 1 {
		t.Fatalf("List = %v, %v", list, err)
	}
	e := list[0]
	if e.Sentence != "b is slower" || e.Lead != 0.5 || e.Heats != 6 || e.Planned != 6 || e.Ending != result.Done || !e.Started.Equal(sample.Start) || !filepath.IsAbs(e.File) {
		t.Errorf("entry = %+v", e)
	}
	if _, err := os.Stat(path); err != nil {
		t.Errorf("the file is not where it was named: %v", err)
	}
}

func TestIdsMustNameOneRun(t *testing.T) {
	b := open(t, filepath.Join(t.TempDir(), "l.sqlite"))
	for _, id := range []string{"0309-aa", "0309-ab", "0309"} {
		enter(t, b, made(id), 1)
	}
	if _, err := b.Load("0309-"); err == nil || !strings.Contains(err.Error(), "more than one run begins like this") {
		t.Errorf("an ambiguous id says %v", err)
	}
	if r, err := b.Load("0309"); err != nil || r.ID != "0309" {
		t.Errorf("a whole id that begins others gives %v, %v", r, err)
	}
	for _, id := range []string{"", "%", "zz"} {
		if _, err := b.Load(id); !errors.Is(err, ErrNoRun) {
			t.Errorf("Load(%q) says %v; want ErrNoRun", id, err)
		}
	}
}

func TestARunWhoseProcessIsGoneIsCutOff(t *testing.T) {
	path := filepath.Join(t.TempDir(), "l.sqlite")
	b := open(t, path)
	enter(t, b, made("mine"), 2)
	enter(t, b, made("gone"), 3)
	// Another process had this number once; it was born at another time.
	if _, err := b.db.Exec("UPDATE runs SET pid_born = pid_born + 1 WHERE id = 'gone'"); err != nil {
		t.Fatal(err)
	}
	b.Close()
	b = open(t, path)
	for id, want := range map[string]result.Ending{"mine": result.Running, "gone": result.CutOff} {
		r, err := b.Load(id)
		if err != nil || r.Ending != want {
			t.Errorf("%s ended %q, %v; want %q", id, r.Ending, err, want)
		}
	}
	if r, _ := b.Load("gone"); len(r.Heats) != 3 {
		t.Errorf("%d heats are left of the run that was cut off; want 3", len(r.Heats))
	}
}

func TestListIsNewestFirstAndBounded(t *testing.T) {
	b := open(t, filepath.Join(t.TempDir(), "l.sqlite"))
	for i, id := range []string{"one", "two", "three"} {
		r := made(id)
		r.Started = r.Started.AddDate(0, 0, i)
		enter(t, b, r, 0)
	}
	list, err := b.List(2)
	if err != nil || len(list) != 2 || list[0].ID != "three" || list[1].ID != "two" || !math.IsNaN(list[0].Lead) {
		t.Errorf("List = %+v, %v", list, err)
	}
}

func TestANewerFileIsRefused(t *testing.T) {
	path := filepath.Join(t.TempDir(), "l.sqlite")
	b := open(t, path)
	if _, err := b.db.Exec("PRAGMA user_version = 99"); err != nil {
		t.Fatal(err)
	}
	b.Close()
	if _, err := Open(path); err == nil || !strings.Contains(err.Error(), "it is of version 99, this program knows up to 1") {
		t.Errorf("Open says %v", err)
	}
}

func TestWhatIsNoLogbookIsRefused(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "l.sqlite")
	if err := os.WriteFile(path, []byte(strings.Repeat("this is no database ", 100)), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(path); err == nil || !strings.Contains(err.Error(), path) {
		t.Errorf("Open says %v; want the file named", err)
	}
	if _, err := Open(dir); err == nil {
		t.Error("a folder is opened as a logbook")
	}
}

func TestDefaultPath(t *testing.T) {
	tests := []struct {
		env  map[string]string
		want string
	}{
		{map[string]string{"XDG_DATA_HOME": "/data", "HOME": "/home/x"}, "/data/paceduel/logbook.sqlite"},
		{map[string]string{"XDG_DATA_HOME": "relative", "HOME": "/home/x"}, "/home/x/.local/share/paceduel/logbook.sqlite"},
		{map[string]string{}, ""},
	}
	for _, tt := range tests {
		got, err := DefaultPath(func(n string) (string, bool) { v, ok := tt.env[n]; return v, ok })
		if got != tt.want || (err == nil) != (tt.want != "") {
			t.Errorf("DefaultPath(%v) = %q, %v; want %q", tt.env, got, err, tt.want)
		}
	}
}
