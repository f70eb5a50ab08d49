package harbour

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"sync"
	"time"
)

// Board is what lies at the berths in one tide.
type Board struct {
	Tide   string  `json:"tide"`
	Height float64 `json:"height_m"`
	At     string  `json:"at"`
	Berths []Stay  `json:"berths"`
}

// Stay is one vessel at one berth.
type Stay struct {
	Quay    string  `json:"quay"`
	Number  int     `json:"number"`
	Depth   float64 `json:"depth_m"`
	Vessel  string  `json:"vessel"`
	Kind    string  `json:"kind"`
	Length  float64 `json:"length_m"`
	Draught float64 `json:"draught_m"`
	Pilot   string  `json:"pilot"`
	Licence string  `json:"licence"`
	Cargo   string  `json:"cargo"`
	Tonnes  int     `json:"tonnes"`
}

// errNoTide is the answer to an unknown tide.
var errNoTide = errors.New("no such tide")

// boards answer the same question with the same result, each in its own way.
type boards struct {
	tide, calls, vessel, berth, pilot, joined *sql.Stmt
	snapshot                                  map[string]*Board
	copies                                    copies
}

// copies are the boards that were asked for, all made anew at once when they have become old.
type copies struct {
	mu   sync.Mutex
	made time.Time
	of   map[string]*Board
}

// copyAge is how old copies may become.
const copyAge = 500 * time.Millisecond

// fromSnapshot is the way that answers from memory.
const fromSnapshot = "snapshot"

// newBoards prepares all ways of making a board; the snapshot, which takes memory, only where it is asked for.
func newBoards(ctx context.Context, db *sql.DB, snapshot bool) (*boards, error) {
	b := &boards{}
	for _, s := range []struct {
		into  **sql.Stmt
		query string
	}{
		{&b.tide, "SELECT id, height_m, at FROM tides WHERE name = ?"},
		{&b.calls, "SELECT vessel, berth, pilot, cargo, tonnes FROM calls WHERE tide = ? ORDER BY id"},
		{&b.vessel, "SELECT name, kind, length_m, draught_m FROM vessels WHERE id = ?"},
		{&b.berth, "SELECT quay, number, depth_m FROM berths WHERE id = ?"},
		{&b.pilot, "SELECT name, licence FROM pilots WHERE id = ?"},
		{&b.joined, `SELECT b.quay, b.number, b.depth_m, v.name, v.kind, v.length_m, v.draught_m, p.name, p.licence, c.cargo, c.tonnes
			FROM calls c JOIN vessels v ON v.id = c.vessel JOIN berths b ON b.id = c.berth JOIN pilots p ON p.id = c.pilot
			WHERE c.tide = ? ORDER BY c.id`},
	} {
		st, err := db.PrepareContext(ctx, s.query)
		if err != nil {
			return nil, fmt.Errorf("prepare %q: %w", s.query, err)
		}
		*s.into = st
	}
	if !snapshot {
		return b, nil
	}
	b.snapshot = make(map[string]*Board, tideCount)
	for i := range tideCount {
		board, err := b.oneQuery(ctx, TideName(i))
		if err != nil {
			return nil, err
		}
		b.snapshot[TideName(i)] = board
	}
	return b, nil
}

// ways maps the names that plans use to the implementations.
func (b *boards) ways() map[string]func(context.Context, string) (*Board, error) {
	return map[string]func(context.Context, string) (*Board, error){
		"per-vessel": b.queryPerVessel, "joined": b.oneQuery, fromSnapshot: b.fromMemory, "copied": b.fromCopies,
	}
}

func (b *boards) heading(ctx context.Context, tide string) (int, *Board, error) {
	_, done := stepIn(ctx, "select tide")
	defer done()
	board, id := &Board{Tide: tide}, 0
	err := b.tide.QueryRowContext(ctx, tide).Scan(&id, &board.Height, &board.At)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil, errNoTide
	}
	return id, board, err
}

// queryPerVessel lists the calls of the tide and then looks up each vessel, berth and pilot by its number.
func (b *boards) queryPerVessel(ctx context.Context, tide string) (*Board, error) {
	id, board, err := b.heading(ctx, tide)
	if err != nil {
		return nil, err
	}
	type call struct{ vessel, berth, pilot int }
	var calls []call
	_, listed := stepIn(ctx, "select calls")
	rows, err := b.calls.QueryContext(ctx, id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var c call
		var s Stay
		if err := rows.Scan(&c.vessel, &c.berth, &c.pilot, &s.Cargo, &s.Tonnes); err != nil {
			return nil, err
		}
		calls, board.Berths = append(calls, c), append(board.Berths, s)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	listed()
	for i, c := range calls {
		s := &board.Berths[i]
		err := cmp.Or(
			lookUp(ctx, "select vessel", b.vessel, c.vessel, &s.Vessel, &s.Kind, &s.Length, &s.Draught),
			lookUp(ctx, "select berth", b.berth, c.berth, &s.Quay, &s.Number, &s.Depth),
			lookUp(ctx, "select pilot", b.pilot, c.pilot, &s.Pilot, &s.Licence),
		)
		if err != nil {
			return nil, err
		}
	}
	return board, nil
}

// lookUp reads one row by its number, as a step of its own.
func lookUp(ctx context.Context, name string, by *sql.Stmt, id int, into ...any) error {
	_, done := stepIn(ctx, name)
	defer done()
	return by.QueryRowContext(ctx, id).Scan(into...)
}

// oneQuery asks the database once, with joins.
func (b *boards) oneQuery(ctx context.Context, tide string) (*Board, error) {
	id, board, err := b.heading(ctx, tide)
	if err != nil {
		return nil, err
	}
	_, done := stepIn(ctx, "select joined")
	defer done()
	rows, err := b.joined.QueryContext(ctx, id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var s Stay
		if err := rows.Scan(
			&s.Quay, &s.Number, &s.Depth, &s.Vessel, &s.Kind, &s.Length, &s.Draught, &s.Pilot, &s.Licence, &s.Cargo, &s.Tonnes,
		); err != nil {
			return nil, err
		}
		board.Berths = append(board.Berths, s)
	}
	return board, rows.Err()
}

// fromMemory answers from the snapshot taken when the service started.
func (b *boards) fromMemory(_ context.Context, tide string) (*Board, error) {
	board, ok := b.snapshot[tide]
	if !ok {
		return nil, errNoTide
	}
	return board, nil
}

// fromCopies answers from copies that are at most copyAge old. Whoever finds them older makes all of them anew; who
// asks meanwhile waits.
func (b *boards) fromCopies(ctx context.Context, tide string) (*Board, error) {
	c := &b.copies
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.of == nil || time.Since(c.made) > copyAge {
		fresh := make(map[string]*Board, len(c.of))
		for held := range c.of {
			board, err := b.oneQuery(ctx, held)
			if err != nil {
				return nil, err
			}
			fresh[held] = board
		}
		c.of, c.made = fresh, time.Now()
	}
	if board, ok := c.of[tide]; ok {
		return board, nil
	}
	board, err := b.oneQuery(ctx, tide)
	if err != nil {
		return nil, err
	}
	c.of[tide] = board
	return board, nil
}
