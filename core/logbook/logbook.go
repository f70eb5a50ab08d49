// Package logbook keeps the history of runs in an SQLite file.
//
// A run is entered when it starts and each heat is committed as it ends, so a run that is killed loses at most the heat
// under way; it is found later as cut off. The schema is versioned: older files are brought forward when opened, newer
// ones refused. What runs mean is left to package judge; only its sentence is kept, for lists.
package logbook

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"github.com/prometheus/procfs"
	_ "modernc.org/sqlite" // the driver, without cgo

	"paceduel/core/result"
)

// Book is an open logbook. It is safe for concurrent use, by several processes too.
type Book struct {
	db   *sql.DB
	path string
}

// DefaultPath is where the logbook is kept unless said otherwise: in the user's data directory as the XDG base
// directory specification has it. lookup reads the environment.
func DefaultPath(lookup func(string) (string, bool)) (string, error) {
	dir, _ := lookup("XDG_DATA_HOME")
	if !filepath.IsAbs(dir) {
		home, ok := lookup("HOME")
		if !ok {
			return "", errors.New("no place for the logbook: neither XDG_DATA_HOME nor HOME is set; name one with --logbook FILE")
		}
		dir = filepath.Join(home, ".local", "share")
	}
	return filepath.Join(dir, "paceduel", "logbook.sqlite"), nil
}

// migrations bring a file from version i to i+1. Entries are never changed once released, only added.
var migrations = []string{
	`CREATE TABLE runs (
		id        TEXT PRIMARY KEY,
		started   INTEGER NOT NULL, -- Unix nanoseconds
		name      TEXT NOT NULL,
		file      TEXT NOT NULL,    -- absolute path of the plan, or empty
		ending    TEXT NOT NULL,
		planned   INTEGER NOT NULL, -- heats
		sentence  TEXT NOT NULL DEFAULT '',
		lead      REAL,             -- the leading ratio, NULL when there is none
		pid       INTEGER NOT NULL, -- who is running it
		pid_born  INTEGER NOT NULL, -- when that process started, in clock ticks since boot
		head      TEXT NOT NULL     -- the result document without heats
	) STRICT;
	CREATE INDEX runs_started ON runs (started);
	CREATE TABLE heats (
		run  TEXT NOT NULL REFERENCES runs (id) ON DELETE CASCADE,
		seq  INTEGER NOT NULL,
		body TEXT NOT NULL,         -- one heat of the result document
		PRIMARY KEY (run, seq)
	) STRICT, WITHOUT ROWID;`,
}

// Open opens the logbook at path, creating it and its folder when there is none, and marks runs whose process is gone
// as cut off.
func Open(path string) (*Book, error) {
	path, err := filepath.Abs(path)
	if err != nil {
		return nil, fmt.Errorf("open logbook %s: %w", path, err)
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return nil, fmt.Errorf("open logbook %s: %w", path, err)
	}
	dsn := "file:" + url.PathEscape(path) + "?_pragma=busy_timeout(3000)&_pragma=journal_mode(WAL)&_pragma=synchronous(NORMAL)&_pragma=foreign_keys(1)"
	db, err := sql.Open("sqlite", dsn)
	if err != nil {
		return nil, fmt.Errorf("open logbook %s: %w", path, err)
	}
	db.SetMaxOpenConns(1)
	b := &Book{db, path}
	if err := b.migrate(); err != nil {
		db.Close()
		return nil, fmt.Errorf("open logbook %s: %w", path, err)
	}
	if err := b.markCutOff(); err != nil {
		db.Close()
		return nil, fmt.Errorf("open logbook %s: %w", path, err)
	}
	return b, nil
}

// Path is the file, absolute.
func (b *Book) Path() string { return b.path }

// Close closes the file.
func (b *Book) Close() error { return b.db.Close() }

func (b *Book) migrate() error {
	var version int
	if err := b.db.QueryRow("PRAGMA user_version").Scan(&version); err != nil {
		return err
	}
	if version > len(migrations) {
		return fmt.Errorf("it is of version %d, this program knows up to %d; use a newer program or name another file with --logbook", version, len(migrations))
	}
	for ; version < len(migrations); version++ {
		tx, err := b.db.Begin()
		if err != nil {
			return err
		}
		defer tx.Rollback() // does nothing after a commit
		if _, err := tx.Exec(migrations[version]); err != nil {
			return fmt.Errorf("bring it to version %d: %w", version+1, err)
		}
		if _, err := tx.Exec(fmt.Sprintf("PRAGMA user_version = %d", version+1)); err != nil {
			return err
		}
		if err := tx.Commit(); err != nil {
			return err
		}
	}
	return nil
}

// birth is when a process started, in clock ticks since boot; 0 when there is none of that number.
func birth(pid int) uint64 {
	p, err := procfs.NewProc(pid)
	if err != nil {
		return 0
	}
	stat, err := p.Stat()
	if err != nil || stat.State == "Z" {
		return 0
	}
	return stat.Starttime
}

func (b *Book) markCutOff() error {
	rows, err := b.db.Query("SELECT id, pid, pid_born FROM runs WHERE ending = ?", result.Running)
	if err != nil {
		return err
	}
	defer rows.Close()
	var gone []string
	for rows.Next() {
		var id string
		var pid int
		var born uint64
		if err := rows.Scan(&id, &pid, &born); err != nil {
			return err
		}
		if birth(pid) != born {
			gone = append(gone, id)
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	rows.Close()
	for _, id := range gone {
		if _, err := b.db.Exec("UPDATE runs SET ending = ? WHERE id = ?", result.CutOff, id); err != nil {
			return err
		}
	}
	return nil
}

// Begin enters a run that starts. head has no heats.
func (b *Book) Begin(head *result.Result) error {
	text, err := json.Marshal(head)
	if err != nil {
		return fmt.Errorf("enter run %s: %w", head.ID, err)
	}
	file := head.Plan.File
	if file != "" {
		if abs, err := filepath.Abs(file); err == nil {
			file = abs
		}
	}
	pid := os.Getpid()
	_, err = b.db.Exec(`INSERT INTO runs (id, started, name, file, ending, planned, pid, pid_born, head) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		head.ID, head.Started.UnixNano(), head.Plan.Name, file, head.Ending, head.Planned(), pid, birth(pid), string(text))
	if err != nil {
		return fmt.Errorf("enter run %s in %s: %w", head.ID, b.path, err)
	}
	return nil
}

// AddHeat commits the seq-th heat of a run, counting from 0.
func (b *Book) AddHeat(run string, seq int, h *result.Heat) error {
	text, err := json.Marshal(h)
	if err != nil {
		return fmt.Errorf("keep heat %d of run %s: %w", seq+1, run, err)
	}
	if _, err := b.db.Exec("INSERT INTO heats (run, seq, body) VALUES (?, ?, ?)", run, seq, string(text)); err != nil {
		return fmt.Errorf("keep heat %d of run %s in %s: %w", seq+1, run, b.path, err)
	}
	return nil
}

// Summary is what lists show of a run's verdict.
type Summary struct {
	Sentence string
	Lead     float64 // the leading ratio; NaN when there is none
}

// End closes a run: its final head and its verdict in short.
func (b *Book) End(r *result.Result, s Summary) error {
	head := *r
	head.Heats = nil
	text, err := json.Marshal(&head)
	if err != nil {
		return fmt.Errorf("close run %s: %w", r.ID, err)
	}
	lead := sql.NullFloat64{Float64: s.Lead, Valid: !math.IsNaN(s.Lead)}
	if _, err := b.db.Exec("UPDATE runs SET ending = ?, sentence = ?, lead = ?, head = ? WHERE id = ?", r.Ending, s.Sentence, lead, string(text), r.ID); err != nil {
		return fmt.Errorf("close run %s in %s: %w", r.ID, b.path, err)
	}
	return nil
}

// Entry is a run in a list.
type Entry struct {
	ID      string
	Started time.Time
	Name    string
	File    string // of the plan, absolute; empty when there was none
	Ending  result.Ending
	Planned int // heats
	Heats   int // kept
	Summary
}

// List returns the runs, the newest first, at most limit of them.
func (b *Book) List(limit int) ([]Entry, error) {
	rows, err := b.db.Query(`SELECT id, started, name, file, ending, planned, sentence, lead, (SELECT count(*) FROM heats WHERE run = id)
		FROM runs ORDER BY started DESC, id DESC LIMIT ?`, limit)
	if err != nil {
		return nil, fmt.Errorf("list runs in %s: %w", b.path, err)
	}
	defer rows.Close()
	var out []Entry
	for rows.Next() {
		var e Entry
		var started int64
		var lead sql.NullFloat64
		if err := rows.Scan(&e.ID, &started, &e.Name, &e.File, &e.Ending, &e.Planned, &e.Sentence, &lead, &e.Heats); err != nil {
			return nil, fmt.Errorf("list runs in %s: %w", b.path, err)
		}
		e.Started, e.Lead = time.Unix(0, started), math.NaN()
		if lead.Valid {
			e.Lead = lead.Float64
		}
		out = append(out, e)
	}
	return out, rows.Err()
}

// ErrNoRun is the error for an id that names no run.
var ErrNoRun = errors.New("no such run")

// Load returns the whole result of a run; id may be cut short as long as it names one run only.
func (b *Book) Load(id string) (*result.Result, error) {
	if id == "" {
		return nil, fmt.Errorf("load a run without an id: %w; paceduel log lists them", ErrNoRun)
	}
	var full, head string
	var ending result.Ending
	rows, err := b.db.Query("SELECT id, ending, head FROM runs WHERE id = ?1 OR substr(id, 1, length(?1)) = ?1 ORDER BY id = ?1 DESC LIMIT 2", id)
	if err != nil {
		return nil, fmt.Errorf("load run %s: %w", id, err)
	}
	defer rows.Close()
	for n := 0; rows.Next(); n++ {
		if n == 1 {
			if full == id {
				break
			}
			return nil, fmt.Errorf("load run %s: more than one run begins like this; give more of its id", id)
		}
		if err := rows.Scan(&full, &ending, &head); err != nil {
			return nil, fmt.Errorf("load run %s: %w", id, err)
		}
	}
	if full == "" {
		return nil, fmt.Errorf("load run %q: %w; paceduel log lists them", id, ErrNoRun)
	}
	rows.Close()
	var r result.Result
	if err := json.Unmarshal([]byte(head), &r); err != nil {
		return nil, fmt.Errorf("load run %s: %w", full, err)
	}
	r.Ending = ending
	return &r, b.loadHeats(&r)
}

func (b *Book) loadHeats(r *result.Result) error {
	rows, err := b.db.Query("SELECT body FROM heats WHERE run = ? ORDER BY seq", r.ID)
	if err != nil {
		return fmt.Errorf("load run %s: %w", r.ID, err)
	}
	defer rows.Close()
	for rows.Next() {
		var body string
		if err := rows.Scan(&body); err != nil {
			return fmt.Errorf("load run %s: %w", r.ID, err)
		}
		var h result.Heat
		if err := json.Unmarshal([]byte(body), &h); err != nil {
			return fmt.Errorf("load heat %d of run %s: %w", len(r.Heats)+1, r.ID, err)
		}
		r.Heats = append(r.Heats, h)
	}
	return rows.Err()
}
