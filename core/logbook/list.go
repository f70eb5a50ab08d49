package logbook

import (
	"cmp"
	"database/sql"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"paceduel/core/result"
)

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
	err = b.reading(func(w work) error {
		return w.QueryRow(
			"SELECT count(*), count(*) FILTER (WHERE ending = $1), count(*) FILTER (WHERE ending = $2) FROM runs",
			result.Done,
			result.Failed,
		).Scan(&t.Runs, &t.Done, &t.Failed)
	})
	if err != nil {
		return t, fmt.Errorf("count runs in %s: %w", b.path, err)
	}
	return t, nil
}

// columns are those of runs that entries are made of.
const columns = "id, started, name, file, ending, planned, sentence, lead, heats, machine, called, note, tags"

// entryReader reads entries from rows that begin with columns. It has rows put what they hold where it is wanted, in
// the types that drivers give: others are converted by way of reflection, and new places for each row are as dear.
type entryReader struct {
	entry                   Entry
	started, planned, heats int64
	ending, tags            string
	lead                    any
	into                    []any
}

// newEntryReader returns a reader of entries and of what stands behind them.
func newEntryReader(more ...any) *entryReader {
	r := &entryReader{}
	e := &r.entry
	r.into = append([]any{
		&e.ID, &r.started, &e.Name, &e.File, &r.ending, &r.planned, &e.Sentence, &r.lead, &r.heats, &e.Machine, &e.Called,
		&e.Note, &r.tags,
	}, more...)
	return r
}

// read returns the entry of a row.
func (r *entryReader) read(rows *sql.Rows) (*Entry, error) {
	if err := rows.Scan(r.into...); err != nil {
		return nil, err
	}
	e := &r.entry
	e.Started, e.Ending, e.Planned, e.Heats = time.Unix(0, r.started), result.Ending(r.ending), int(r.planned),
		int(r.heats)
	e.Tags = strings.Fields(r.tags)
	switch lead := r.lead.(type) {
	case nil:
		e.Lead = math.NaN()
	case float64:
		e.Lead = lead
	default:
		return nil, fmt.Errorf("run %s has a leading ratio that is no number: %v", e.ID, lead)
	}
	return e, nil
}

// entries are those of all rows, which it closes.
func entries(rows *sql.Rows) (out []Entry, err error) {
	defer rows.Close()
	for r := newEntryReader(); rows.Next(); {
		e, err := r.read(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, *e)
	}
	return out, rows.Err()
}

// within are the runs of some attempts that began from one moment to before another.
const within = " FROM runs WHERE ($1 = 'all' OR (ending = $2) = ($1 = 'failed')) AND started >= $3 AND started < $4"

// newest asks for those of them that began last.
const newest = "SELECT " + columns + within + " ORDER BY started DESC, id DESC LIMIT $5"

// longList is how many runs are read by several connections at once, rather than by one: most of the time goes into
// handing over one column after the other.
const longList = 1000

// List returns the runs that began last, at most limit of them, the newest first; 0 is no limit.
func (b *Book) List(limit int, of Filter) (out []Entry, err error) {
	if limit <= 0 {
		limit = math.MaxInt
	}
	err = b.reading(func(w work) error {
		spans, err := b.spans(w, limit, of)
		if err != nil {
			return err
		}
		if len(spans) == 1 {
			out, err = spans[0].list(w, limit, of)
			return err
		}
		parts := make([][]Entry, len(spans))
		var reading errgroup.Group
		for i, s := range spans {
			reading.Go(func() (err error) {
				parts[i], err = s.list(work{w.ctx, b.lists}, limit, of)
				return err
			})
		}
		err = reading.Wait()
		out = slices.Concat(parts...)
		out = out[:min(limit, len(out))]
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("list runs in %s: %w", b.path, err)
	}
	return out, nil
}

// Find returns the newest runs that a filter takes, at most limit of them, and how many it takes in all.
func (b *Book) Find(limit int, of Filter) (newest []Entry, all int, err error) {
	if !of.isForDatabase() {
		list, err := b.List(0, of)
		return list[:min(limit, len(list))], len(list), err
	}
	newest, err = b.List(limit, of)
	if err != nil || len(newest) < limit {
		return newest, len(newest), err
	}
	err = b.reading(func(w work) error {
		all, err = of.span().count(w, of)
		return err
	})
	if err != nil {
		return nil, 0, fmt.Errorf("count runs in %s: %w", b.path, err)
	}
	return newest, all, nil
}

// spans are the parts in which a list is read, the newest first: several where many runs have to be looked at.
func (b *Book) spans(w work, limit int, of Filter) ([]span, error) {
	whole := of.span()
	if of.isForDatabase() && limit <= longList {
		return []span{whole}, nil
	}
	count, err := whole.count(w, Filter{})
	if err != nil {
		return nil, err
	}
	if count <= longList || of.isForDatabase() && limit < count {
		return []span{whole}, nil
	}
	return whole.split(w, count, b.engine.readers)
}

// span is from one moment to before another, in Unix nanoseconds.
type span struct {
	from, to int64
	runs     int // that began in it; 0: not counted
}

// list returns the newest runs of the span.
func (s span) list(w work, limit int, of Filter) (out []Entry, err error) {
	most := limit
	if !of.isForDatabase() {
		most = math.MaxInt
	}
	out = make([]Entry, 0, min(limit, s.runs))
	rows, err := w.Query(newest, of.attempts(), string(result.Failed), s.from, s.to, most)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	// What people wrote is compared by us: SQLite knows no other letters than those of ASCII.
	for r := newEntryReader(); len(out) < limit && rows.Next(); {
		e, err := r.read(rows)
		if err != nil {
			return nil, err
		}
		if of.Takes(e) {
			out = append(out, *e)
		}
	}
	return out, rows.Err()
}

// count is how many runs began in the span, of the attempts that a filter takes.
func (s span) count(w work, of Filter) (n int, err error) {
	err = w.QueryRow("SELECT count(*)"+within, of.attempts(), string(result.Failed), s.from, s.to).Scan(&n)
	return n, err
}

// split divides a span into parts in which about as many runs began, the newest first. count is how many began in all.
func (s span) split(w work, count, parts int) (out []span, err error) {
	for i := 1; i < parts; i++ {
		var border int64
		err := w.QueryRow("SELECT started FROM runs WHERE started >= $1 AND started < $2 ORDER BY started DESC "+
			"LIMIT 1 OFFSET $3", s.from, s.to, count/parts-1).Scan(&border)
		if errors.Is(err, sql.ErrNoRows) { // many began at one moment: those are in one part
			break
		}
		if err != nil {
			return nil, err
		}
		out = append(out, span{border, s.to, count / parts})
		s.to = border
	}
	s.runs = max(0, count-len(out)*(count/parts))
	return append(out, s), nil
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

// attempts are those that are asked for.
func (f Filter) attempts() string { return string(cmp.Or(f.Attempts, All)) }

// span is when the runs began.
func (f Filter) span() span {
	s := span{from: math.MinInt64, to: math.MaxInt64}
	if !f.Since.IsZero() {
		s.from = f.Since.UnixNano()
	}
	if !f.Until.IsZero() {
		s.to = f.Until.UnixNano()
	}
	return s
}

// isForDatabase reports whether the database alone says which runs those are.
func (f Filter) isForDatabase() bool {
	return Filter{Attempts: f.Attempts, Since: f.Since, Until: f.Until} == f
}

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
