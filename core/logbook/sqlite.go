package logbook

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"time"

	"modernc.org/sqlite" // the driver, without cgo
	sqlite3 "modernc.org/sqlite/lib"
)

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
	statements(`ALTER TABLE runs ADD COLUMN node TEXT NOT NULL DEFAULT ''; -- which machine the process is on
	CREATE TABLE stands (
		run  TEXT PRIMARY KEY REFERENCES runs (id) ON DELETE CASCADE,
		body TEXT NOT NULL          -- what time lines are made of
	) STRICT, WITHOUT ROWID;
	CREATE INDEX runs_name ON runs (name, started);`),
	statements(inOrder),
	statements(byFile),
}

// inOrder has an index give runs in the order in which they are listed: else all that are listed are sorted first, with
// their texts.
const inOrder = `DROP INDEX runs_started;
	DROP INDEX runs_name;
	CREATE INDEX runs_started ON runs (started, id);
	CREATE INDEX runs_name ON runs (name, started, id);`

// byFile has the runs of a plan found among those of all others.
const byFile = "CREATE INDEX runs_file ON runs (file, started, id)"

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
	lists, err := sql.Open("sqlite", dsn+"&_pragma=query_only(1)")
	if err != nil {
		db.Close()
		return nil, err
	}
	readers := min(runtime.GOMAXPROCS(0), maxReaders)
	lists.SetMaxOpenConns(readers)
	lists.SetMaxIdleConns(readers)
	b := &Book{db: db, lists: lists, path: path, engine: engine{lock: "UPDATE runs SET id = id WHERE 0",
		readers: readers}}
	if err = b.migrate(); err == nil {
		err = b.markCutOff()
	}
	if err != nil {
		b.Close()
		return nil, err
	}
	return b, nil
}

// maxReaders bounds the connections that read a long list.
const maxReaders = 4

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

// versionOf is the version of the file; the error says why it is none of ours, or not of ours yet.
func versionOf(c *sql.Conn) (version int, err error) {
	var things, columns int // in one statement: somebody may be making it
	if err := c.QueryRowContext(context.Background(), `SELECT (SELECT user_version FROM pragma_user_version),
		(SELECT count(*) FROM sqlite_schema),
		(SELECT count(*) FROM pragma_table_info('runs') WHERE name IN ('id', 'started', 'ending', 'planned', 'pid_born'))`).
		Scan(&version, &things, &columns); err != nil {
		var its *sqlite.Error
		if errors.As(err, &its) && its.Code() == sqlite3.SQLITE_NOTADB {
			return 0, errNotOurs
		}
		return 0, err
	}
	if version == 0 && things > 0 || version != 0 && columns < 5 {
		return 0, errNotOurs
	}
	if version > len(migrations) {
		return 0, fmt.Errorf(
			"it is of version %d, this program knows up to %d; use a newer program or name another file with --logbook",
			version,
			len(migrations),
		)
	}
	return version, nil
}

var errNotOurs = errors.New(
	"it holds something else than a logbook, and stays as it is; name another file with --logbook",
)

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
