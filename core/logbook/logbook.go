// Package logbook keeps the history of runs in an SQLite file, or, shared by a team, on a PostgreSQL server.
//
// A run is entered when it starts and each heat is committed as it ends, so a run that is killed loses at most the heat
// under way; it is found later as cut off. The schema is versioned: older files are brought forward when opened, newer
// ones refused. Documents are kept compressed, and what lists need beside them. What runs mean is left to package
// judge; only its sentence is kept, for lists.
package logbook

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"github.com/prometheus/procfs"
	"golang.org/x/sync/errgroup"

	"paceduel/core/result"
)

// Book is an open logbook. It is safe for concurrent use, by several processes too.
type Book struct {
	db     *sql.DB
	lists  *sql.DB // reads long lists, by several connections
	path   string  // of the file, or the server's address without its password
	engine engine
}

// engine is what a kind of database does in its own way. Everything else is SQL that both understand.
type engine struct {
	lock    string        // a statement that keeps other writers out until the end of its transaction
	readers int           // how many connections a long list is read by
	limit   time.Duration // for what is changed at once, so that a server that went away holds up no run; 0: none
}

// work carries out statements, in a transaction or by themselves, until its limit.
type work struct {
	ctx context.Context
	on  interface {
		ExecContext(context.Context, string, ...any) (sql.Result, error)
		QueryContext(context.Context, string, ...any) (*sql.Rows, error)
		QueryRowContext(context.Context, string, ...any) *sql.Row
	}
}

func (w work) Exec(statement string, args ...any) (sql.Result, error) {
	return w.on.ExecContext(w.ctx, statement, args...)
}

func (w work) Query(statement string, args ...any) (*sql.Rows, error) {
	return w.on.QueryContext(w.ctx, statement, args...)
}

func (w work) QueryRow(statement string, args ...any) *sql.Row {
	return w.on.QueryRowContext(w.ctx, statement, args...)
}

// readsFor is how many times as long as a change reading may take: a run with all its heats is large.
const readsFor = 10

// within ends after so many times the limit.
func (b *Book) within(times time.Duration) (context.Context, context.CancelFunc) {
	if b.engine.limit == 0 {
		return context.Background(), func() {}
	}
	return context.WithTimeout(context.Background(), times*b.engine.limit)
}

// reading has do read.
func (b *Book) reading(do func(work) error) error {
	ctx, done := b.within(readsFor)
	defer done()
	return do(work{ctx, b.db})
}

// DefaultPath is where the logbook is kept unless said otherwise: in the user's data directory as the XDG base
// directory specification has it. lookup reads the environment.
func DefaultPath(lookup func(string) (string, bool)) (string, error) {
	dir, _ := lookup("XDG_DATA_HOME")
	if !filepath.IsAbs(dir) {
		home, _ := lookup("HOME")
		if home == "" {
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

// Open opens the logbook at path, creating it and its folder when there is none, or the one on a PostgreSQL server at
// an address as IsAddress has it; and marks runs whose process is gone as cut off. A private file is kept from other
// users, its folder included, also when it was not before: it holds answers.
func Open(path string, private bool) (*Book, error) {
	if IsAddress(path) {
		return openServer(path)
	}
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

// Path is the file, absolute, or the address of the server without its password.
func (b *Book) Path() string { return b.path }

// Close closes the file, or the connections to the server.
func (b *Book) Close() error {
	if b.lists == b.db {
		return b.db.Close()
	}
	return errors.Join(b.lists.Close(), b.db.Close())
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

// node is which machine, and which of its worlds of processes, a number of a process is of: its name, what its kernel
// calls the time since it was started, and the namespace.
func node() string {
	name, err := os.Hostname()
	if err != nil {
		name = "unknown"
	}
	boot, _ := os.ReadFile("/proc/sys/kernel/random/boot_id")
	space, _ := os.Readlink("/proc/self/ns/pid")
	return strings.Join([]string{name, strings.TrimSpace(string(boot)), space}, " ")
}

// markCutOff marks runs whose process is gone. Of those of another machine nothing is known, until it is asked, unless
// it has been started anew since.
func (b *Book) markCutOff() error {
	here := node()
	name, _, _ := strings.Cut(here, " ")
	var gone []string
	err := b.reading(func(w work) error {
		rows, err := w.Query("SELECT id, pid, pid_born, node FROM runs WHERE ending = $1", result.Running)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var id, its string
			var pid int
			var born uint64
			if err := rows.Scan(&id, &pid, &born, &its); err != nil {
				return err
			}
			switch {
			case its == here || its == "": // before nodes were kept, a book was of one machine
				if birth(pid) == born {
					continue
				}
			case !strings.HasPrefix(its, name+" ") || sameBoot(its, here):
				continue
			}
			gone = append(gone, id)
		}
		return rows.Err()
	})
	if err != nil || len(gone) == 0 {
		return err
	}
	return b.together(func(tx work) error {
		for _, id := range gone {
			if _, err := tx.Exec("UPDATE runs SET ending = $1 WHERE id = $2 AND ending = $3", result.CutOff, id,
				result.Running); err != nil {
				return err
			}
		}
		return nil
	})
}

// sameBoot reports whether two nodes have been up since the same moment.
func sameBoot(a, b string) bool {
	one, other := strings.Fields(a), strings.Fields(b)
	return len(one) > 1 && len(other) > 1 && one[1] == other[1]
}

// together has do change the book in one transaction. Where do reads before it changes anything, it is given to
// writing: SQLite refuses a change by whoever has read what somebody else changed since.
func (b *Book) together(do func(work) error) error {
	ctx, done := b.within(1)
	defer done()
	tx, err := b.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback() // does nothing after a commit
	if err := do(work{ctx, tx}); err != nil {
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
	err := b.together(func(tx work) error { return insert(tx, head, file, pid, birth(pid)) })
	if err != nil {
		return fmt.Errorf("enter run %s in %s: %w", head.ID, b.path, err)
	}
	return nil
}

// insert enters a run of a plan's file without its heats, which a process is running; 0: none is.
func insert(tx work, head *result.Result, file string, pid int, born uint64) error {
	text, err := json.Marshal(head)
	if err != nil {
		return err
	}
	if _, err := tx.Exec(`INSERT INTO runs (id, started, name, file, ending, planned, pid, pid_born, machine, node)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)`, head.ID, head.Started.UnixNano(), head.Plan.Name, file,
		head.Ending, head.Planned(), pid, born, machineOf(head), node()); err != nil {
		return err
	}
	_, err = tx.Exec("INSERT INTO documents (run, body) VALUES ($1, $2)", head.ID, pack(text))
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
	err = b.writing(func(tx work) error {
		err := tx.QueryRow("SELECT heats FROM runs WHERE id = $1", head.ID).Scan(&heats)
		if errors.Is(err, sql.ErrNoRows) {
			return ErrNoRun
		}
		if err != nil {
			return err
		}
		if _, err := tx.Exec("UPDATE runs SET ending = $1, planned = $2, pid = $3, pid_born = $4, node = $5 WHERE id = $6",
			head.Ending, head.Planned(), pid, birth(pid), node(), head.ID); err != nil {
			return err
		}
		_, err = tx.Exec("UPDATE documents SET body = $1 WHERE run = $2", pack(text), head.ID)
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
	err = b.together(func(tx work) error {
		if _, err := tx.Exec("INSERT INTO heats (run, seq, body) VALUES ($1, $2, $3)", run, seq, body); err != nil {
			return err
		}
		_, err := tx.Exec("UPDATE runs SET heats = heats + 1 WHERE id = $1", run)
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
	Stand    []byte  // what time lines are made of, as package history has it; empty: nothing
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
	err = b.together(func(tx work) error {
		if _, err := tx.Exec(
			"UPDATE runs SET ending = $1, sentence = $2, lead = $3, planned = $4 WHERE id = $5", r.Ending, s.Sentence,
			s.lead(), r.Planned(), r.ID,
		); err != nil {
			return err
		}
		if err := setStand(tx, r.ID, s.Stand); err != nil {
			return err
		}
		_, err := tx.Exec("UPDATE documents SET body = $1 WHERE run = $2", pack(text), r.ID)
		return err
	})
	if err != nil {
		return fmt.Errorf("close run %s in %s: %w", r.ID, b.path, err)
	}
	return nil
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
	var full string
	var head []byte
	var ending result.Ending
	var bodies [][]byte
	err := b.reading(func(w work) (err error) {
		if full, err = resolve(w, id); err != nil {
			return err
		}
		if err := w.QueryRow("SELECT ending, body FROM runs JOIN documents ON run = id WHERE id = $1", full).
			Scan(&ending, &head); err != nil {
			return err
		}
		bodies, err = heatsOf(w, full)
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("load run %s from %s: %w", id, b.path, err)
	}
	r, version, err := decodeHead(head)
	if err != nil {
		return nil, fmt.Errorf("load run %s: %w", full, err)
	}
	r.Ending = ending
	if err := attach(r, version, bodies); err != nil {
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

// heatsOf are the heats of a run as they are kept.
func heatsOf(w work, run string) (bodies [][]byte, err error) {
	rows, err := w.Query("SELECT body FROM heats WHERE run = $1 ORDER BY seq", run)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var body []byte
		if err := rows.Scan(&body); err != nil {
			return nil, err
		}
		bodies = append(bodies, body)
	}
	return bodies, rows.Err()
}

// attach puts heats, as they are kept, to their result.
func attach(r *result.Result, version int, bodies [][]byte) error {
	if len(bodies) == 0 {
		return nil
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
