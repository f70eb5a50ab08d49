package logbook

import (
	"errors"
	"fmt"
	"math"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"paceduel/core/result"
)

func list(t *testing.T, b *Book, of Filter) (ids string) {
	t.Helper()
	all, err := b.List(-1, of)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range all {
		if !of.Takes(&e) {
			t.Errorf("%+v lists %s, and does not take it", of, e.ID)
		}
		ids += e.ID + " "
	}
	return strings.TrimSpace(ids)
}

// What people say of a run stays with it, and runs are found by it.
func TestRemarks(t *testing.T) {
	path := filepath.Join(t.TempDir(), "log.sqlite")
	b := opened(t, path)
	day := time.Date(2026, 11, 25, 9, 0, 0, 0, time.Local)
	for i, id := range []string{"1125-0900aaa", "1126-0900bbb", "1127-0900ccc"} {
		r := made(id)
		r.Started, r.Host.CPU = day.AddDate(0, 0, i), []string{"Gull 4", "Tern 8", "Tern 8"}[i]
		enter(t, b, r, 1)
		if err := b.End(r, Summary{Sentence: "b is slower", Lead: 0.5}); err != nil {
			t.Fatal(err)
		}
	}
	full, now, err := b.Remark("1126", func(r *Remarks) {
		r.Called, r.Note = "Öre before\tthe index", "on a quiet\n evening\n"
		r.Retag([]string{"release", "draft", "release"}, nil)
	})
	if err != nil || full != "1126-0900bbb" || !slices.Equal(now.Tags, []string{"draft", "release"}) {
		t.Fatalf("%s %+v, %v", full, now, err)
	}
	_, now, err = b.Remark("1126", func(r *Remarks) { r.Retag([]string{"nightly"}, []string{"draft", "none"}) })
	if err != nil || !slices.Equal(now.Tags, []string{"nightly", "release"}) || now.Note != "on a quiet evening" {
		t.Errorf("%+v, %v", now, err)
	}
	b.Close()
	b = opened(t, path)
	for want, of := range map[string]Filter{
		"1127-0900ccc 1126-0900bbb 1125-0900aaa": {},
		"1126-0900bbb":                           {Text: "öre BEFORE"},
		"1126-0900bbb ":                          {Text: "quiet"},
		" 1126-0900bbb":                          {Tag: "release"},
		"":                                       {Tag: "rele"}, "1127-0900ccc 1126-0900bbb": {Machine: "tern"},
		"1127-0900ccc": {Machine: "tern", Since: day.AddDate(0, 0, 2)}, "1125-0900aaa": {Until: day.AddDate(0, 0, 1)},
		" 1127-0900ccc 1126-0900bbb 1125-0900aaa": {Text: "slower"},
	} {
		if got := list(t, b, of); got != strings.TrimSpace(want) {
			t.Errorf("%+v: %s; want %s", of, got, want)
		}
	}
	all, err := b.List(2, Filter{Text: "b is"})
	if err != nil || len(all) != 2 || all[1].Title() != "Öre before the index" || all[0].Title() != all[0].Name {
		t.Errorf("%+v, %v", all, err)
	}
	for what, change := range map[string]func(*Remarks){
		`"a b" is no tag`: func(r *Remarks) { r.Tags = []string{"a b"} },
		`"" is no tag`:    func(r *Remarks) { r.Tags = []string{""} },
		"21 tags": func(r *Remarks) {
			for i := range 21 {
				r.Tags = append(r.Tags, fmt.Sprint(i))
			}
		},
		"a name of 121 characters":  func(r *Remarks) { r.Called = strings.Repeat("ö", 121) },
		"a note of 4001 characters": func(r *Remarks) { r.Note = strings.Repeat("ö", 4001) },
	} {
		if _, _, err := b.Remark("1125", change); err == nil || !strings.Contains(err.Error(), what) {
			t.Errorf("%v; want %s", err, what)
		}
	}
	for id, want := range map[string]string{"": "no identifier", "11": "more than one run", "12": "no such run"} {
		if _, _, err := b.Remark(id, func(*Remarks) {}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v; want %s", id, err, want)
		}
	}
}

// Of several who tag a run at the same time, none undoes what another did.
func TestRemarksAtTheSameTime(t *testing.T) {
	path := filepath.Join(t.TempDir(), "log.sqlite")
	enter(t, opened(t, path), made("1125-0900aaa"), 1)
	var wg sync.WaitGroup
	for writer := range 3 {
		b := opened(t, path)
		wg.Go(func() {
			for i := range 6 {
				tag := []string{fmt.Sprintf("w%d.%d", writer, i)}
				if _, _, err := b.Remark("1125", func(r *Remarks) { r.Retag(tag, nil) }); err != nil {
					t.Error(err)
				}
			}
		})
	}
	wg.Wait()
	if _, now, err := opened(t, path).Remark("1125", func(*Remarks) {}); err != nil || len(now.Tags) != 18 {
		t.Errorf("%v, %v", now.Tags, err)
	}
}

func TestARunIsDeletedWhole(t *testing.T) {
	b := opened(t, filepath.Join(t.TempDir(), "log.sqlite"))
	gone, stays := made("1125-0900aaa"), made("1126-0900bbb")
	enter(t, b, gone, 3)
	enter(t, b, stays, 2)
	if err := b.Delete("1125"); err == nil || !strings.Contains(err.Error(), "under way") {
		t.Errorf("while it is under way: %v", err)
	}
	if err := b.End(gone, Summary{}); err != nil {
		t.Fatal(err)
	}
	if err := b.Delete("1125"); err != nil {
		t.Fatal(err)
	}
	if _, err := b.Load(gone.ID); !errors.Is(err, ErrNoRun) {
		t.Errorf("%v", err)
	}
	var heats, documents int
	err := b.db.QueryRow("SELECT (SELECT count(*) FROM heats), (SELECT count(*) FROM documents)").Scan(&heats, &documents)
	if err != nil || heats != 2 || documents != 1 {
		t.Errorf("%d heats and %d documents are left, %v", heats, documents, err)
	}
}

func TestARunIsImportedAsItIs(t *testing.T) {
	b := opened(t, filepath.Join(t.TempDir(), "log.sqlite"))
	r := made("1125-0900aaa")
	if err := b.Import(r, Summary{Sentence: "b is slower", Lead: 0.5}); err != nil {
		t.Fatal(err)
	}
	got, err := b.Load(r.ID)
	if err != nil || !reflect.DeepEqual(got, r) {
		t.Errorf("Load changed the run (%v)", err)
	}
	all, err := b.List(1, Filter{})
	if err != nil || all[0].Heats != len(r.Heats) || all[0].Sentence != "b is slower" || all[0].Lead != 0.5 ||
		all[0].Ending != result.Done {
		t.Errorf("%+v, %v", all, err)
	}
	if err := b.Import(made(""), Summary{}); err == nil || !strings.Contains(err.Error(), "no identifier") {
		t.Errorf("without an identifier: %v", err)
	}
	older := made("1124-0900zzz")
	older.Started = r.Started.AddDate(0, 0, -1)
	if err := b.Import(older, Summary{}); err != nil {
		t.Fatal(err)
	}
	if newest, err := b.List(1, Filter{}); err != nil || newest[0].ID != r.ID {
		t.Errorf("the newest is %+v, %v", newest, err)
	}
	if err := b.Import(r, Summary{}); !errors.Is(err, ErrKnown) {
		t.Errorf("once more: %v", err)
	}
	other := made(r.ID)
	other.Started = other.Started.Add(time.Hour)
	if err := b.Import(other, Summary{}); err == nil || !strings.Contains(err.Error(), "another run") {
		t.Errorf("another one: %v", err)
	}
	running := made("1125-0901bbb")
	running.Ending = result.Running
	if err := b.Import(running, Summary{Lead: math.NaN()}); err != nil {
		t.Fatal(err)
	}
	if got, err := b.Load(running.ID); err != nil || got.Ending != result.CutOff {
		t.Errorf("%v, %v", got, err)
	}
}

// A book without remarks is brought forward, with the machines of its runs.
func TestABookFromBeforeRemarks(t *testing.T) {
	path := filepath.Join(t.TempDir(), "log.sqlite")
	b := opened(t, path)
	r := made("1125-0900aaa")
	r.Host.CPU = "Gull 4"
	enter(t, b, r, 2)
	for _, change := range []string{
		"DROP INDEX runs_started", "DROP INDEX runs_file", "ALTER TABLE runs DROP COLUMN called",
		"ALTER TABLE runs DROP COLUMN note",
		"ALTER TABLE runs DROP COLUMN tags",
		"ALTER TABLE runs DROP COLUMN machine", "DROP INDEX runs_name", "ALTER TABLE runs DROP COLUMN node",
		"DROP TABLE stands", "PRAGMA user_version = 2",
	} {
		if _, err := b.db.Exec(change); err != nil {
			t.Fatal(err)
		}
	}
	b.Close()
	b = opened(t, path)
	all, err := b.List(1, Filter{Machine: "gull"})
	if err != nil || len(all) != 1 || all[0].Heats != 2 || all[0].Title() != r.Plan.Name {
		t.Errorf("%+v, %v", all, err)
	}
}
