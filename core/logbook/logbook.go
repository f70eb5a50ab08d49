// Package logbook keeps the history of runs in an SQLite file.
//
// A run is entered when it starts and each heat is committed as it ends, so a run that is killed loses at most the heat
// under way; it is found later as cut off. The schema is versioned: older files are brought forward when opened, newer
// ones refused. Documents are kept compressed, and what lists need beside them. What runs mean is left to package
// judge; only its sentence is kept, for lists.
package logbook

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/prometheus/procfs"
	"golang.org/x/sync/errgroup"
	"modernc.org/sqlite" // the driver, without cgo
	sqlite3 "modernc.org/sqlite/lib"

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
			return "", errors.New(
				"no place for the logbook: neither XDG_DATA_HOME nor HOME is set; name one with --logbook FILE",
			)
		}
		dir = filepath.Join(home, ".local", "share")
	}
	return filepath.Join(dir, folder, "logbook.sqlite"), nil
}

// folder is ours alone in the user's data directory.
const folder = "paceduel"

// migrations bring a file from version i to i+1. Entries are never changed once released, only added.
var migrations = []func(*sql.Conn) error{
	statements(`CREATE TABLE runs (
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
	) STRICT, WITHOUT ROWID;`),
	packBodies,
	addRemarks,
}

// addRemarks makes room for what people say of a run, and for the machine that it was made on.
func addRemarks(c *sql.Conn) error {
	ctx := context.Background()
	if _, err := c.ExecContext(ctx, `ALTER TABLE runs ADD COLUMN called TEXT NOT NULL DEFAULT '';
	ALTER TABLE runs ADD COLUMN note TEXT NOT NULL DEFAULT '';
	ALTER TABLE runs ADD COLUMN tags TEXT NOT NULL DEFAULT '';    -- each between two spaces
	ALTER TABLE runs ADD COLUMN machine TEXT NOT NULL DEFAULT '';
	CREATE INDEX runs_started ON runs (started) -- imported ones are entered later than they began`); err != nil {
		return err
	}
	rows, err := c.QueryContext(ctx, "SELECT run, body FROM documents")
	if err != nil {
		return err
	}
	defer rows.Close()
	machines := map[string]string{}
	for rows.Next() {
		var run string
		var body []byte
		if err := rows.Scan(&run, &body); err != nil {
			return err
		}
		if r, _, err := decodeHead(body); err == nil { // one that cannot be read has no machine either
			machines[run] = machineOf(r)
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	rows.Close()
	for run, machine := range machines {
		if _, err := c.ExecContext(ctx, "UPDATE runs SET machine = ? WHERE id = ?", machine, run); err != nil {
			return err
		}
	}
	return nil
}

func statements(text string) func(*sql.Conn) error {
	return func(c *sql.Conn) error {
		_, err := c.ExecContext(context.Background(), text)
		return err
	}
}

// packBodies keeps documents compressed, in tables of their own, so that lists never pass through them, and counts
// heats where lists find them.
func packBodies(c *sql.Conn) error {
	ctx := context.Background()
	if _, err := c.ExecContext(ctx, `CREATE TABLE documents (
		run  TEXT PRIMARY KEY REFERENCES runs (id) ON DELETE CASCADE,
		body BLOB NOT NULL          -- the result document without heats: JSON, zstd
	) STRICT, WITHOUT ROWID;
	CREATE TABLE packed_heats (
		run  TEXT NOT NULL REFERENCES runs (id) ON DELETE CASCADE,
		seq  INTEGER NOT NULL,
		body BLOB NOT NULL,         -- one heat of the result document, see body.go
		PRIMARY KEY (run, seq)
	) STRICT;
	ALTER TABLE runs ADD COLUMN heats INTEGER NOT NULL DEFAULT 0;
	DROP INDEX runs_started; -- runs are listed from the end of the table, which is in the order in which they were entered`); err != nil {
		return err
	}
	move := func(from, into string, args func(*sql.Rows) (key []any, body string, err error)) error {
		rows, err := c.QueryContext(ctx, from)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			key, body, err := args(rows)
			if err != nil {
				return err
			}
			if _, err := c.ExecContext(ctx, into, append(key, pack([]byte(body)))...); err != nil {
				return err
			}
		}
		return rows.Err()
	}
	const intoDocuments = "INSERT INTO documents (run, body) VALUES (?, ?)"
	if err := move("SELECT id, head FROM runs", intoDocuments, func(r *sql.Rows) ([]any, string, error) {
		var id, body string
		err := r.Scan(&id, &body)
		return []any{id}, body, err
	}); err != nil {
		return err
	}
	const intoHeats = "INSERT INTO packed_heats (run, seq, body) VALUES (?, ?, ?)"
	if err := move("SELECT run, seq, body FROM heats", intoHeats, func(r *sql.Rows) ([]any, string, error) {
		var run, body string
		var seq int
		err := r.Scan(&run, &seq, &body)
		return []any{run, seq}, body, err
	}); err != nil {
		return err
	}
	_, err := c.ExecContext(ctx, `UPDATE runs SET heats = (SELECT count(*) FROM heats WHERE run = id);
		DROP TABLE heats;
		ALTER TABLE packed_heats RENAME TO heats;
		ALTER TABLE runs DROP COLUMN head;`)
	return err
}

// Open opens the logbook at path, creating it and its folder when there is none, and marks runs whose process is gone
// as cut off. A private one is kept from other users, its folder included, also when it was not before: it holds
// answers.
func Open(path string, private bool) (*Book, error) {
	path, err := filepath.Abs(path)
	if err != nil {
		return nil, fmt.Errorf("open logbook %s: %w", path, err)
	}
	b, err := open(path, private)
	if err != nil {
		return nil, fmt.Errorf("open logbook %s: %w", path, err)
	}
	return b, nil
}

func open(path string, private bool) (*Book, error) {
	mode := fs.FileMode(0o777) // less what the user's mask takes away
	if private {
		mode = 0o700
	}
	if err := os.MkdirAll(filepath.Dir(path), mode); err != nil {
		return nil, err
	}
	if info, err := os.Stat(path); err == nil && !info.Mode().IsRegular() {
		return nil, errors.New("it is not a file")
	}
	if private {
		if err := keepPrivate(path); err != nil {
			return nil, err
		}
	}
	dsn := "file:" + url.PathEscape(path) +
		"?_pragma=busy_timeout(10000)&_pragma=synchronous(NORMAL)&_pragma=foreign_keys(1)"
	db, err := sql.Open("sqlite", dsn)
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	b := &Book{db, path}
	if err = b.migrate(); err == nil {
		err = b.markCutOff()
	}
	if err != nil {
		db.Close()
		return nil, err
	}
	return b, nil
}

// keepPrivate keeps others from a logbook and what SQLite puts beside it, and from its folder where that is ours alone.
func keepPrivate(path string) error {
	dir := filepath.Dir(path)
	if filepath.Base(dir) == folder {
		if info, err := os.Stat(dir); err == nil && info.Mode().Perm()&0o077 != 0 {
			if err := os.Chmod(dir, info.Mode().Perm()&0o700); err != nil {
				return fmt.Errorf("keep its folder from others: %w", err)
			}
		}
	}
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if errors.Is(err, fs.ErrPermission) {
		return nil // it can be read at most, and is not ours to mend
	}
	if err != nil {
		return err
	}
	f.Close()
	for _, suffix := range []string{"", "-wal", "-shm", "-journal"} {
		info, err := os.Stat(path + suffix)
		if err == nil && info.Mode().Perm()&0o077 != 0 {
			if err := os.Chmod(path+suffix, 0o600); err != nil {
				return fmt.Errorf("keep it from others: %w", err)
			}
		}
	}
	return nil
}

// Path is the file, absolute.
func (b *Book) Path() string { return b.path }

// Close closes the file.
func (b *Book) Close() error { return b.db.Close() }

// migrate brings the file to our version, in one transaction that is immediate: of several programs that open it at the
// same time one does the work, and the others find it done.
func (b *Book) migrate() error {
	ctx := context.Background()
	c, err := b.db.Conn(ctx)
	if err != nil {
		return err
	}
	defer c.Close()
	version, err := versionOf(c)
	if err != nil || version == len(migrations) {
		return err
	}
	// Writers do not keep readers waiting. Two that set it at the same time may be told that the file is busy whatever
	// their patience.
	if err := patiently(func() error {
		_, err := c.ExecContext(
			ctx, "PRAGMA journal_mode = WAL",
		)
		return err
	}); err != nil {
		return err
	}
	if err := patiently(func() error { _, err := c.ExecContext(ctx, "BEGIN IMMEDIATE"); return err }); err != nil {
		return err
	}
	if err := migrateTo(c); err != nil {
		c.ExecContext(ctx, "ROLLBACK") // the error is told, whatever becomes of this
		return err
	}
	if _, err := c.ExecContext(ctx, "COMMIT"); err != nil {
		return err
	}
	if version > 0 {
		c.ExecContext(ctx, "VACUUM") // a file that cannot be made smaller is as good
	}
	return nil
}

// migrateTo is called in a transaction of its own.
func migrateTo(c *sql.Conn) error {
	version, err := versionOf(c)
	if err != nil {
		return err
	}
	for ; version < len(migrations); version++ {
		if err := migrations[version](c); err != nil {
			return fmt.Errorf("bring it to version %d: %w", version+1, err)
		}
	}
	_, err = c.ExecContext(context.Background(), fmt.Sprintf("PRAGMA user_version = %d", len(migrations)))
	return err
}

func versionOf(c *sql.Conn) (version int, err error) {
	if err := c.QueryRowContext(context.Background(), "PRAGMA user_version").Scan(&version); err != nil {
		return 0, err
	}
	if version > len(migrations) {
		return 0, fmt.Errorf(
			"it is of version %d, this program knows up to %d; use a newer program or name another file with --logbook", version,
			len(migrations),
		)
	}
	return version, nil
}

// patience is how long to go on asking for a file that is busy.
const patience = 10 * time.Second

func patiently(do func() error) error {
	for deadline := time.Now().Add(patience); ; time.Sleep(5 * time.Millisecond) {
		var busy *sqlite.Error
		err := do()
		if !errors.As(err, &busy) || busy.Code()&0xff != sqlite3.SQLITE_BUSY && busy.Code()&0xff != sqlite3.SQLITE_LOCKED ||
			time.Now().After(deadline) {
			return err
		}
	}
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

// together has do change the file in one transaction.
func (b *Book) together(do func(*sql.Tx) error) error {
	tx, err := b.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback() // does nothing after a commit
	if err := do(tx); err != nil {
		return err
	}
	return tx.Commit()
}

// Begin enters a run that starts. head has no heats.
func (b *Book) Begin(head *result.Result) error {
	file := head.Plan.File
	if file != "" {
		if abs, err := filepath.Abs(file); err == nil {
			file = abs
		}
	}
	pid := os.Getpid()
	err := b.together(func(tx *sql.Tx) error { return insert(tx, head, file, pid, birth(pid)) })
	if err != nil {
		return fmt.Errorf("enter run %s in %s: %w", head.ID, b.path, err)
	}
	return nil
}

// insert enters a run of a plan's file without its heats, which a process is running; 0: none is.
func insert(tx *sql.Tx, head *result.Result, file string, pid int, born uint64) error {
	text, err := json.Marshal(head)
	if err != nil {
		return err
	}
	if _, err := tx.Exec(`INSERT INTO runs (id, started, name, file, ending, planned, pid, pid_born, machine)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`, head.ID, head.Started.UnixNano(), head.Plan.Name, file, head.Ending,
		head.Planned(), pid, born, machineOf(head)); err != nil {
		return err
	}
	_, err = tx.Exec("INSERT INTO documents (run, body) VALUES (?, ?)", head.ID, pack(text))
	return err
}

// Reopen enters that a run which the book has goes on, and tells how many of its heats the book has. The error is
// ErrNoRun where the book does not have it.
func (b *Book) Reopen(head *result.Result) (heats int, err error) {
	text, err := json.Marshal(head)
	if err != nil {
		return 0, fmt.Errorf("go on with run %s: %w", head.ID, err)
	}
	pid := os.Getpid()
	err = b.together(func(tx *sql.Tx) error {
		err := tx.QueryRow("SELECT heats FROM runs WHERE id = ?", head.ID).Scan(&heats)
		if errors.Is(err, sql.ErrNoRows) {
			return ErrNoRun
		}
		if err != nil {
			return err
		}
		if _, err := tx.Exec("UPDATE runs SET ending = ?, planned = ?, pid = ?, pid_born = ? WHERE id = ?", head.Ending,
			head.Planned(), pid, birth(pid), head.ID); err != nil {
			return err
		}
		_, err = tx.Exec("UPDATE documents SET body = ? WHERE run = ?", pack(text), head.ID)
		return err
	})
	if err != nil {
		return 0, fmt.Errorf("go on with run %s in %s: %w", head.ID, b.path, err)
	}
	return heats, nil
}

// AddHeat commits the seq-th heat of a run, counting from 0.
func (b *Book) AddHeat(run string, seq int, h *result.Heat) error {
	body, err := packHeat(h)
	if err != nil {
		return fmt.Errorf("keep heat %d of run %s: %w", seq+1, run, err)
	}
	err = b.together(func(tx *sql.Tx) error {
		if _, err := tx.Exec("INSERT INTO heats (run, seq, body) VALUES (?, ?, ?)", run, seq, body); err != nil {
			return err
		}
		_, err := tx.Exec("UPDATE runs SET heats = heats + 1 WHERE id = ?", run)
		return err
	})
	if err != nil {
		return fmt.Errorf("keep heat %d of run %s in %s: %w", seq+1, run, b.path, err)
	}
	return nil
}

// Summary is what lists show of a run's verdict.
type Summary struct {
	Sentence string
	Lead     float64 // the leading ratio; NaN when there is none
}

func (s Summary) lead() sql.NullFloat64 {
	return sql.NullFloat64{Float64: s.Lead, Valid: !math.IsNaN(s.Lead)}
}

// End closes a run: its final head and its verdict in short.
func (b *Book) End(r *result.Result, s Summary) error {
	head := *r
	head.Heats = nil
	text, err := json.Marshal(&head)
	if err != nil {
		return fmt.Errorf("close run %s: %w", r.ID, err)
	}
	err = b.together(func(tx *sql.Tx) error {
		if _, err := tx.Exec(
			"UPDATE runs SET ending = ?, sentence = ?, lead = ?, planned = ? WHERE id = ?", r.Ending, s.Sentence, s.lead(),
			r.Planned(), r.ID,
		); err != nil {
			return err
		}
		_, err := tx.Exec("UPDATE documents SET body = ? WHERE run = ?", pack(text), r.ID)
		return err
	})
	if err != nil {
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
	Machine string
	Summary
	Remarks
}

// Title is what people call the run, or else its duel's name.
func (e *Entry) Title() string { return cmp.Or(e.Called, e.Name) }

// Totals are what the logbook holds.
type Totals struct{ Runs, Done, Failed int }

// Totals counts the runs.
func (b *Book) Totals() (t Totals, err error) {
	err = b.db.QueryRow(
		"SELECT count(*), count(*) FILTER (WHERE ending = ?), count(*) FILTER (WHERE ending = ?) FROM runs", result.Done,
		result.Failed,
	).Scan(&t.Runs, &t.Done, &t.Failed)
	if err != nil {
		return t, fmt.Errorf("count runs in %s: %w", b.path, err)
	}
	return t, nil
}

// List returns the runs that began last, at most limit of them, the newest first.
func (b *Book) List(limit int, of Filter) ([]Entry, error) {
	from, to := int64(math.MinInt64), int64(math.MaxInt64)
	if !of.Since.IsZero() {
		from = of.Since.UnixNano()
	}
	if !of.Until.IsZero() {
		to = of.Until.UnixNano()
	}
	// What people wrote is compared by us, since SQLite knows no other letters than those of ASCII.
	rows, err := b.db.Query(`SELECT id, started, name, file, ending, planned, sentence, lead, heats, machine,
			called, note, tags
		FROM runs WHERE (?1 = 'all' OR (ending = ?2) = (?1 = 'failed')) AND (?3 = '' OR instr(tags, ' ' || ?3 || ' ') > 0)
			AND started >= ?4 AND started < ?5 ORDER BY started DESC, rowid DESC`,
		string(cmp.Or(of.Attempts, All)), result.Failed, of.Tag, from, to)
	if err != nil {
		return nil, fmt.Errorf("list runs in %s: %w", b.path, err)
	}
	defer rows.Close()
	var out []Entry
	for rows.Next() {
		var e Entry
		var started int64
		var lead sql.NullFloat64
		var tags string
		if err := rows.Scan(
			&e.ID, &started, &e.Name, &e.File, &e.Ending, &e.Planned, &e.Sentence, &lead, &e.Heats, &e.Machine, &e.Called,
			&e.Note, &tags,
		); err != nil {
			return nil, fmt.Errorf("list runs in %s: %w", b.path, err)
		}
		e.Started, e.Lead, e.Tags = time.Unix(0, started), math.NaN(), strings.Fields(tags)
		if lead.Valid {
			e.Lead = lead.Float64
		}
		if !of.Takes(&e) {
			continue
		}
		if out = append(out, e); len(out) == limit {
			break
		}
	}
	return out, rows.Err()
}

// Filter says which runs are listed. The zero Filter is all of them.
type Filter struct {
	Text     string // in names, in the plan's file with its folder, in the verdict, in what people say; in whichever case
	Tag      string
	Machine  string    // part of what the machine is called, in whichever case
	Since    time.Time // begun then or later
	Until    time.Time // begun before
	Attempts Attempts
}

// Attempts are runs by whether anything came of them.
type Attempts string

// The attempts. A run that failed was not completed for a reason of its own; one that was stopped is not failed.
const (
	All     Attempts = "all"
	Kept    Attempts = "kept"
	Failing Attempts = "failed"
)

// Takes reports whether a run is among those that the filter lists.
func (f Filter) Takes(e *Entry) bool {
	holds := func(all, part string) bool { return strings.Contains(strings.ToLower(all), strings.ToLower(part)) }
	switch {
	case f.Text != "" &&
		!holds(strings.Join(append([]string{e.Name, e.Called, e.File, e.Sentence, e.Note, e.ID}, e.Tags...), "\n"), f.Text),
		f.Tag != "" && !slices.Contains(e.Tags, f.Tag),
		f.Machine != "" && !holds(e.Machine, f.Machine),
		!f.Since.IsZero() && e.Started.Before(f.Since), !f.Until.IsZero() && !e.Started.Before(f.Until):
		return false
	case f.Attempts == "" || f.Attempts == All:
		return true
	}
	return (e.Ending == result.Failed) == (f.Attempts == Failing)
}

// machineOf is what the machine is, that a run was made on, in a line.
func machineOf(r *result.Result) string {
	h := &r.Host
	return strings.TrimPrefix(fmt.Sprintf("%s, %d cores, %s", h.CPU, h.Cores, h.OS), ", ")
}

// ErrNoRun is the error for an id that names no run.
var ErrNoRun = errors.New("no such run")

// Load returns the whole result of a run; id may be cut short as long as it names one run only.
func (b *Book) Load(id string) (*result.Result, error) {
	if id == "" {
		return nil, fmt.Errorf("load a run without an id: %w; paceduel log lists them", ErrNoRun)
	}
	var full string
	var head []byte
	var ending result.Ending
	rows, err := b.db.Query(
		"SELECT id, ending, body FROM runs JOIN documents ON run = id WHERE id = ?1 OR substr(id, 1, length(?1)) = ?1 "+
			"ORDER BY id = ?1 DESC LIMIT 2",
		id,
	)
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
	r, version, err := decodeHead(head)
	if err != nil {
		return nil, fmt.Errorf("load run %s: %w", full, err)
	}
	r.Ending = ending
	if err := b.loadHeats(r, version); err != nil {
		return nil, err
	}
	r.Clean()
	return r, nil
}

// decodeHead reads a run's document without its heats, and of which version it was when it was kept.
func decodeHead(body []byte) (r *result.Result, version int, err error) {
	text, err := unpack(body)
	if err != nil {
		return nil, 0, err
	}
	if version, err = result.VersionOf(text); err != nil {
		return nil, 0, err
	}
	r, err = result.Decode(text)
	return r, version, err
}

func (b *Book) loadHeats(r *result.Result, version int) error {
	rows, err := b.db.Query("SELECT body FROM heats WHERE run = ? ORDER BY seq", r.ID)
	if err != nil {
		return fmt.Errorf("load run %s: %w", r.ID, err)
	}
	defer rows.Close()
	var bodies [][]byte
	for rows.Next() {
		var body []byte
		if err := rows.Scan(&body); err != nil {
			return fmt.Errorf("load run %s: %w", r.ID, err)
		}
		bodies = append(bodies, body)
	}
	if err := rows.Err(); err != nil || len(bodies) == 0 {
		return err
	}
	heats := make([]result.Heat, len(bodies))
	var work errgroup.Group
	work.SetLimit(runtime.GOMAXPROCS(0))
	for i, body := range bodies {
		work.Go(func() error {
			if err := unpackHeat(version, body, &heats[i]); err != nil {
				return fmt.Errorf("load heat %d of run %s: %w", i+1, r.ID, err)
			}
			return nil
		})
	}
	if err := work.Wait(); err != nil {
		return err
	}
	r.Attach(version, heats)
	return nil
}
