package logbook

import (
	"database/sql"
	"errors"
	"fmt"
	"math"
	"time"

	"paceduel/core/result"
)

// Duel is a duel of which the book has runs: those of one name.
type Duel struct {
	Name   string
	Runs   int // that did not fail
	Newest time.Time
}

// Duels are the duels whose runs began last, at most limit of them, the newest first, and how many there are in all; 0
// is no limit. Runs that failed are left out.
func (b *Book) Duels(limit int) (out []Duel, all int, err error) {
	if limit <= 0 {
		limit = math.MaxInt
	}
	err = b.reading(func(w work) error {
		if err := w.QueryRow("SELECT count(DISTINCT name) FROM runs WHERE ending <> $1",
			result.Failed).Scan(&all); err != nil {
			return err
		}
		rows, err := w.Query(`SELECT name, count(*), max(started) FROM runs WHERE ending <> $1
			GROUP BY name ORDER BY max(started) DESC, name LIMIT $2`, result.Failed, limit)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var d Duel
			var newest int64
			if err := rows.Scan(&d.Name, &d.Runs, &newest); err != nil {
				return err
			}
			d.Newest = time.Unix(0, newest)
			out = append(out, d)
		}
		return rows.Err()
	})
	if err != nil {
		return nil, 0, fmt.Errorf("list duels in %s: %w", b.path, err)
	}
	return out, all, nil
}

// Past is what the book has of a plan's file.
type Past struct {
	Runs   int     // in all
	Newest []Entry // the latest of them, the newest first
}

// newestOfFile asks for the latest runs of a plan's file.
const newestOfFile = "SELECT " + columns + " FROM runs WHERE file = $1 ORDER BY started DESC, id DESC LIMIT $2"

// PastOf is what the book has of plans' files, named as entries have them, with at most so many runs of each.
func (b *Book) PastOf(files []string, most int) (map[string]Past, error) {
	out := map[string]Past{}
	err := b.reading(func(w work) error {
		for _, file := range files {
			var p Past
			if err := w.QueryRow("SELECT count(*) FROM runs WHERE file = $1", file).Scan(&p.Runs); err != nil {
				return err
			}
			rows, err := w.Query(newestOfFile, file, most)
			if err != nil {
				return err
			}
			if p.Newest, err = entries(rows); err != nil {
				return err
			}
			if p.Runs > 0 {
				out[file] = p
			}
		}
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("look for runs of plans in %s: %w", b.path, err)
	}
	return out, nil
}

// Entry is the run that an identifier names, as lists have it. The identifier may be cut short as long as it names one
// run only.
func (b *Book) Entry(id string) (e Entry, err error) {
	err = b.reading(func(w work) error {
		full, err := resolve(w, id)
		if err != nil {
			return err
		}
		rows, err := w.Query("SELECT "+columns+" FROM runs WHERE id = $1", full)
		if err != nil {
			return err
		}
		defer rows.Close()
		if !rows.Next() {
			return errors.Join(rows.Err(), ErrNoRun)
		}
		read, err := newEntryReader().read(rows)
		if err == nil {
			e = *read
		}
		return err
	})
	if err != nil {
		return e, fmt.Errorf("find run %s in %s: %w", id, b.path, err)
	}
	return e, nil
}

// Stood is a run of a duel with what time lines are made of; empty where that is not known.
type Stood struct {
	Entry
	Stand []byte
}

// newestOf asks for the latest runs of a duel.
const newestOf = "SELECT " + columns + `, coalesce(body, '') FROM runs LEFT JOIN stands ON run = id
	WHERE name = $1 AND ending <> $2 ORDER BY started DESC, id DESC LIMIT $3`

// RunsOf are the latest runs of a duel, at most limit of them, the newest first, and how many it has in all; 0 is no
// limit. Runs that failed are left out.
func (b *Book) RunsOf(duel string, limit int) (out []Stood, all int, err error) {
	if limit <= 0 {
		limit = math.MaxInt
	}
	err = b.reading(func(w work) error {
		if err := w.QueryRow("SELECT count(*) FROM runs WHERE name = $1 AND ending <> $2", duel, result.Failed).
			Scan(&all); err != nil {
			return err
		}
		rows, err := w.Query(newestOf, duel, result.Failed, limit)
		if err != nil {
			return err
		}
		defer rows.Close()
		var stand string
		for r := newEntryReader(&stand); rows.Next(); {
			e, err := r.read(rows)
			if err != nil {
				return err
			}
			out = append(out, Stood{*e, []byte(stand)})
		}
		return rows.Err()
	})
	if err != nil {
		return nil, 0, fmt.Errorf("list runs of %q in %s: %w", duel, b.path, err)
	}
	return out, all, nil
}

// Before is the run of the same duel that began last before a run, of those that measured something. The error is
// ErrNoRun where there is none.
func (b *Book) Before(r *result.Result) (*result.Result, error) {
	var id string
	err := b.reading(func(w work) error {
		return w.QueryRow(`SELECT id FROM runs WHERE name = $1 AND started < $2 AND ending <> $3 AND heats > 0 AND id <> $4
			ORDER BY started DESC, id DESC LIMIT 1`, r.Plan.Name, r.Started.UnixNano(), result.Failed, r.ID).Scan(&id)
	})
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNoRun
	}
	if err != nil {
		return nil, fmt.Errorf("find the run of %q before %s in %s: %w", r.Plan.Name, r.ID, b.path, err)
	}
	return b.Load(id)
}

// SetStand enters what time lines are made of, of a run that was kept without.
func (b *Book) SetStand(run string, stand []byte) error {
	err := b.together(func(tx work) error { return setStand(tx, run, stand) })
	if err != nil {
		return fmt.Errorf("keep how run %s stood in %s: %w", run, b.path, err)
	}
	return nil
}

func setStand(tx work, run string, stand []byte) error {
	if len(stand) == 0 {
		return nil
	}
	_, err := tx.Exec(`INSERT INTO stands (run, body) VALUES ($1, $2)
		ON CONFLICT (run) DO UPDATE SET body = excluded.body`, run, string(stand))
	return err
}
