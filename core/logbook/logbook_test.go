package logbook

import (
	"bytes"
	"database/sql"
	"errors"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"paceduel/core/result"
	"paceduel/internal/sample"
)

func opened(t *testing.T, path string) *Book {
	t.Helper()
	b, err := Open(path, false)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { b.Close() })
	return b
}

func made(id string) *result.Result {
	r := sample.Make(sample.Duel{
		Entrants: []sample.Entrant{
			{Name: "a", Latency: sample.Times(0.01, 0.1)}, {Name: "b", Latency: sample.Times(0.02, 0.1)},
		},
		Rounds: 3, Shots: 5, Seed: 1,
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
	b := opened(t, path)
	r := made("0309-0640abc")
	enter(t, b, r, len(r.Heats))
	if err := b.End(r, Summary{Sentence: "b is slower", Lead: 0.5}); err != nil {
		t.Fatal(err)
	}
	b.Close()
	b = opened(t, path)
	got, err := b.Load("0309-0640abc")
	if err != nil || !reflect.DeepEqual(got, r) {
		t.Errorf("Load changed the run (%v)", err)
	}
	if _, err := b.Load("0309"); err != nil {
		t.Errorf("a shortened id says %v", err)
	}
	list, err := b.List(10, Filter{})
	if err != nil || len(list) != 1 {
		t.Fatalf("List = %v, %v", list, err)
	}
	e := list[0]
	if e.Sentence != "b is slower" || e.Lead != 0.5 || e.Heats != 6 || e.Planned != 6 || e.Ending != result.Done ||
		!e.Started.Equal(sample.Start) || !filepath.IsAbs(e.File) {
		t.Errorf("entry = %+v", e)
	}
	if _, err := os.Stat(path); err != nil {
		t.Errorf("the file is not where it was named: %v", err)
	}
}

func TestIdsMustNameOneRun(t *testing.T) {
	b := opened(t, filepath.Join(t.TempDir(), "l.sqlite"))
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
	b := opened(t, path)
	enter(t, b, made("mine"), 2)
	enter(t, b, made("gone"), 3)
	// Another process had this number once; it was born at another time.
	if _, err := b.db.Exec("UPDATE runs SET pid_born = pid_born + 1 WHERE id = 'gone'"); err != nil {
		t.Fatal(err)
	}
	b.Close()
	b = opened(t, path)
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
	b := opened(t, filepath.Join(t.TempDir(), "l.sqlite"))
	for i, id := range []string{"one", "two", "three"} {
		r := made(id)
		r.Started = r.Started.AddDate(0, 0, i)
		enter(t, b, r, 0)
	}
	list, err := b.List(2, Filter{})
	if err != nil || len(list) != 2 || list[0].ID != "three" || list[1].ID != "two" || !math.IsNaN(list[0].Lead) {
		t.Errorf("List = %+v, %v", list, err)
	}
}

func TestANewerFileIsRefused(t *testing.T) {
	path := filepath.Join(t.TempDir(), "l.sqlite")
	b := opened(t, path)
	if _, err := b.db.Exec("PRAGMA user_version = 99"); err != nil {
		t.Fatal(err)
	}
	b.Close()
	want := fmt.Sprintf("it is of version 99, this program knows up to %d", len(migrations))
	if _, err := Open(path, false); err == nil || !strings.Contains(err.Error(), want) {
		t.Errorf("Open says %v", err)
	}
}

func TestWhatIsNoLogbookIsRefused(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "l.sqlite")
	if err := os.WriteFile(path, []byte(strings.Repeat("this is no database ", 100)), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(path, false); err == nil || !strings.Contains(err.Error(), path) {
		t.Errorf("Open says %v; want the file named", err)
	}
	if _, err := Open(dir, false); err == nil {
		t.Error("a folder is opened as a logbook")
	}
}

// A file of another program that is a database, too, stays as it is, to the byte.
func TestDatabasesOfOthersStay(t *testing.T) {
	for name, statements := range map[string]string{
		"no version":   "CREATE TABLE tides (at INTEGER, metres REAL); INSERT INTO tides VALUES (4, 2.5)",
		"its own":      "CREATE TABLE tides (at INTEGER); PRAGMA user_version = 3",
		"runs, too":    "CREATE TABLE runs (id TEXT, ship TEXT); PRAGMA user_version = 1",
		"later than I": "CREATE TABLE runs (id TEXT); PRAGMA user_version = 900",
	} {
		path := filepath.Join(t.TempDir(), "harbour.db")
		db, err := sql.Open("sqlite", path)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := db.Exec(statements); err != nil {
			t.Fatal(err)
		}
		db.Close()
		before, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := Open(path, false); !errors.Is(err, errNotOurs) {
			t.Errorf("%s: Open says %v", name, err)
		}
		if after, err := os.ReadFile(path); err != nil || !bytes.Equal(after, before) {
			t.Errorf("%s: the file has changed, %v", name, err)
		}
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

// What the list takes from the book is what the filter takes, whichever of the two looks.
func TestRunsAreListedByDuelFolderAndEnding(t *testing.T) {
	b := opened(t, filepath.Join(t.TempDir(), "l.sqlite"))
	for i, of := range []struct {
		name, file string
		ending     result.Ending
	}{
		{"Tides", "/srv/harbour/tides.duel.yaml", result.Done}, {"Berths", "/srv/harbour/berths.duel.yaml", result.Failed},
		{"Berths", "/home/clerk/berths.duel.yaml", result.Interrupted}, {"100% sure", "/srv/x_y/odd.duel.yaml",
			result.Done},
	} {
		r := &result.Result{ID: fmt.Sprintf("0309-064%dabc", i), Started: time.Unix(int64(i), 0), Ending: of.ending}
		r.Plan.Name, r.Plan.File = of.name, of.file
		if err := b.Begin(r); err != nil {
			t.Fatal(err)
		}
		if err := b.End(r, Summary{}); err != nil {
			t.Fatal(err)
		}
	}
	all, err := b.List(10, Filter{})
	if err != nil || len(all) != 4 {
		t.Fatalf("all: %+v, %v", all, err)
	}
	for _, tt := range []struct {
		of   Filter
		want int
	}{
		{Filter{Attempts: All}, 4}, {Filter{Attempts: Kept}, 3}, {Filter{Attempts: Failing}, 1}, {Filter{Text: "berths"},
			2},
		{Filter{Text: "HARBOUR"}, 2}, {Filter{Text: "harbour", Attempts: Failing}, 1}, {Filter{Text: "%"}, 1},
		{Filter{Text: "x_y"}, 1}, {Filter{Text: "none"}, 0},
	} {
		list, err := b.List(10, tt.of)
		if err != nil || len(list) != tt.want {
			t.Errorf("%+v: %d runs, %v; want %d", tt.of, len(list), err, tt.want)
		}
		taken := 0
		for i := range all {
			if tt.of.Takes(&all[i]) {
				taken++
			}
		}
		if taken != tt.want {
			t.Errorf("%+v takes %d runs; want %d", tt.of, taken, tt.want)
		}
	}
}

// A logbook of an earlier version is brought forward with all that it holds.
func TestEarlierVersionsAreBroughtForward(t *testing.T) {
	old, err := os.ReadFile("testdata/version1.sqlite")
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "l.sqlite")
	if err := os.WriteFile(path, old, 0o600); err != nil {
		t.Fatal(err)
	}
	b := opened(t, path)
	list, err := b.List(10, Filter{})
	if err != nil || len(list) != 1 || list[0].Heats != 6 || list[0].Planned != 6 || list[0].Name != "Skerrow tides" ||
		list[0].Ending != result.Done || list[0].Sentence == "" {
		t.Fatalf("List = %+v, %v", list, err)
	}
	r, err := b.Load(list[0].ID)
	if err != nil || len(r.Heats) != 6 || r.Plan.Baseline != "ebb" || r.Heats[0].OK != 3 {
		t.Errorf("Load = %+v, %v", r, err)
	}
	if h, err := r.Heats[5].Histogram(); err != nil || h.TotalCount() != 3 {
		t.Errorf("the last heat does not hang together: %v", err)
	}
	enter(t, b, made("new"), 2)
}

// Programs that open a new logbook at the same moment all find it, and each keeps its run.
func TestALogbookThatManyOpenAtOnce(t *testing.T) {
	for range 5 {
		path := filepath.Join(t.TempDir(), "l.sqlite")
		const many = 12
		var ready, done sync.WaitGroup
		ready.Add(many)
		for i := range many {
			done.Go(func() {
				ready.Done()
				ready.Wait()
				b, err := Open(path, true)
				if err != nil {
					t.Error(err)
					return
				}
				defer b.Close()
				r := made(fmt.Sprintf("0309-%02d", i))
				head := *r
				head.Heats, head.Ending = nil, result.Running
				if err := b.Begin(&head); err != nil {
					t.Error(err)
				}
				for seq := range r.Heats {
					if err := b.AddHeat(r.ID, seq, &r.Heats[seq]); err != nil {
						t.Error(err)
					}
				}
				if err := b.End(r, Summary{}); err != nil {
					t.Error(err)
				}
			})
		}
		done.Wait()
		b := opened(t, path)
		if totals, err := b.Totals(); err != nil || totals != (Totals{Runs: many, Done: many}) {
			t.Errorf("of %d runs %+v are kept, %v", many, totals, err)
		}
	}
}

// What we keep by ourselves is for its user alone, also where it was not before; what the user names is as they have
// it.
func TestAPrivateLogbook(t *testing.T) {
	modes := func(dir string) (out []string) {
		for _, name := range []string{".", "logbook.sqlite", "logbook.sqlite-wal", "logbook.sqlite-shm"} {
			info, err := os.Stat(filepath.Join(dir, name))
			if err != nil {
				t.Fatal(err)
			}
			out = append(out, fmt.Sprintf("%o", info.Mode().Perm()))
		}
		return out
	}
	for name, prepare := range map[string]func(dir string){
		"a new one": func(string) {},
		"an old one": func(dir string) {
			b := opened(t, filepath.Join(dir, "logbook.sqlite"))
			enter(t, b, made("old"), 1)
			b.Close()
			os.Chmod(dir, 0o755)
			os.Chmod(filepath.Join(dir, "logbook.sqlite"), 0o644)
		},
	} {
		dir := filepath.Join(t.TempDir(), "data", "paceduel")
		prepare(dir)
		b, err := Open(filepath.Join(dir, "logbook.sqlite"), true)
		if err != nil {
			t.Fatal(err)
		}
		enter(t, b, made("new"), 1)
		if got, want := modes(dir), []string{"700", "600", "600", "600"}; !slices.Equal(got, want) {
			t.Errorf("%s: folder and files have the modes %q; want %q", name, got, want)
		}
		b.Close()
	}
	defer syscall.Umask(syscall.Umask(0o027))
	dir := filepath.Join(t.TempDir(), "shared")
	b := opened(t, filepath.Join(dir, "logbook.sqlite"))
	enter(t, b, made("ours"), 1)
	if got, want := modes(dir), []string{"750", "640", "640", "640"}; !slices.Equal(got, want) {
		t.Errorf("one that the user named has the modes %q; want %q", got, want)
	}
}

// A logbook of ten thousand runs is opened, and its newest runs, its duels and the runs of one duel are listed, without
// passing through what runs hold.
// Lists come in the order of an index: what is listed need not be sorted first, with all its texts.
func TestListsNeedNoSorting(t *testing.T) {
	b := opened(t, filepath.Join(t.TempDir(), "l.sqlite"))
	for query, args := range map[string][]any{
		newest:   {"all", result.Failed, 0, 1, 50},
		newestOf: {"Board", result.Failed, 50},

		newestOfFile: {"/harbour/board.duel.yaml", 50},
	} {
		rows, err := b.db.Query("EXPLAIN QUERY PLAN "+query, args...)
		if err != nil {
			t.Fatal(err)
		}
		defer rows.Close()
		steps := 0
		for ; rows.Next(); steps++ {
			var id, parent, unused int
			var step string
			if err := rows.Scan(&id, &parent, &unused, &step); err != nil {
				t.Fatal(err)
			}
			if strings.Contains(step, "ORDER BY") {
				t.Errorf("%s\n%s", query, step)
			}
		}
		if err := rows.Err(); err != nil || steps == 0 {
			t.Errorf("%d steps, %v", steps, err)
		}
	}
}

// fill enters runs of a hundred duels, which began when began says.
func fill(t testing.TB, b *Book, runs int, began func(i int) int64) {
	t.Helper()
	if err := b.together(func(tx work) error {
		for i := range runs {
			id := fmt.Sprintf("%05d", i)
			tags, ending := "", result.Done
			if i%7 == 0 {
				tags = tagsText([]string{"slack-tide"})
			}
			if i%11 == 0 {
				ending = result.Failed
			}
			if _, err := tx.Exec(`INSERT INTO runs
				(id, started, name, file, ending, planned, sentence, lead, pid, pid_born, heats, machine, tags, node)
				VALUES ($1, $2, $3, $4, $5, 120, $6, 2.5, 1, 1, 120, $7, $8, '')`, id, began(i), fmt.Sprintf("Duel %d", i%100),
				fmt.Sprintf("/home/pilot/harbour/plans/duel-%d.duel.yaml", i%100), ending,
				strings.Repeat("joined is faster ", 10), "a CPU of the harbour at 2.50 GHz, 8 cores, Linux 6.12",
				tags); err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
}

func BenchmarkTenThousandRuns(b *testing.B) {
	path := filepath.Join(b.TempDir(), "l.sqlite")
	book, err := Open(path, true)
	if err != nil {
		b.Fatal(err)
	}
	defer book.Close()
	fill(b, book, 10_000, func(i int) int64 { return int64(i) })
	if _, err := book.db.Exec("INSERT INTO documents (run, body) SELECT id, $1 FROM runs", pack(make([]byte,
		20<<10))); err != nil {
		b.Fatal(err)
	}
	if _, err := book.db.Exec("INSERT INTO stands (run, body) SELECT id, $1 FROM runs", strings.Repeat("x",
		1200)); err != nil {
		b.Fatal(err)
	}
	b.Run("open and list the newest", func(b *testing.B) {
		for b.Loop() {
			other, err := Open(path, true)
			if err != nil {
				b.Fatal(err)
			}
			if list, err := other.List(50, Filter{}); err != nil || len(list) != 50 {
				b.Fatal(len(list), err)
			}
			other.Close()
		}
	})
	b.Run("list all", func(b *testing.B) {
		for b.Loop() {
			if list, err := book.List(20_000, Filter{}); err != nil || len(list) != 10_000 {
				b.Fatal(len(list), err)
			}
		}
	})
	b.Run("thirty duels over time", func(b *testing.B) {
		for b.Loop() {
			duels, _, err := book.Duels(30)
			if err != nil || len(duels) != 30 {
				b.Fatal(len(duels), err)
			}
			for _, d := range duels {
				if runs, _, err := book.RunsOf(d.Name, 40); err != nil || len(runs) != 40 {
					b.Fatal(len(runs), err)
				}
			}
		}
	})
}
