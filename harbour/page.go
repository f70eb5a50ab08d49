package harbour

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"sync"
)

// The page of a vessel is made of three look-ups: the vessel with all that it ever carried, the berth that it lies at
// and who else does, and the tide that it came with and what that brought to the port. Each reads a good part of the
// calls, and none needs anything of another but the numbers of berth and tide. They can be asked for one by one, or as
// a page that the service makes, in one way or another.

// vesselPart is a vessel on its page.
type vesselPart struct {
	ID     int     `json:"id"`
	Name   string  `json:"name"`
	Kind   string  `json:"kind"`
	Length float64 `json:"length_m"`
	Calls  int     `json:"calls"`
	Tonnes int     `json:"tonnes"`
	Rank   int     `json:"rank"` // among all vessels, by that
	Cargo  []load  `json:"cargo"`
	Berth  int     `json:"berth"` // of its latest call
	Tide   int     `json:"tide"`  // likewise
}

type load struct {
	Cargo  string `json:"cargo"`
	Tonnes int    `json:"tonnes"`
}

// berthPart is a berth on the page.
type berthPart struct {
	Quay   string  `json:"quay"`
	Number int     `json:"number"`
	Depth  float64 `json:"depth_m"`
	Tonnes int     `json:"tonnes"`
	Rank   int     `json:"rank"`
	Calls  int     `json:"calls"`
	Deeper int     `json:"too_deep"` // calls of vessels that need more water than it has
}

// tidePart is a tide on the page.
type tidePart struct {
	Name   string  `json:"name"`
	Height float64 `json:"height_m"`
	Tonnes int     `json:"tonnes"`
	Rank   int     `json:"rank"` // among all tides, by that
}

// page is all three.
type page struct {
	Vessel *vesselPart `json:"vessel"`
	Berth  *berthPart  `json:"berth"`
	Tide   *tidePart   `json:"tide"`
}

var errNoVessel = errors.New("no such vessel")

// lookUpVessel reads a vessel and what it carried.
func lookUpVessel(ctx context.Context, db *sql.DB, id int) (*vesselPart, error) {
	ctx, done := stepIn(ctx, "look up vessel")
	defer done()
	v := &vesselPart{ID: id}
	err := queried(ctx, db, "select vessel", "SELECT name, kind, length_m FROM vessels WHERE id = ?", []any{id},
		&v.Name, &v.Kind, &v.Length)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, errNoVessel
	}
	if err != nil {
		return nil, err
	}
	if err := queried(ctx, db, "select latest call",
		"SELECT berth, tide FROM calls WHERE vessel = ? ORDER BY id DESC LIMIT 1", []any{id}, &v.Berth, &v.Tide); err != nil {
		return nil, err
	}
	if err := v.carried(ctx, db); err != nil {
		return nil, err
	}
	return v, queried(ctx, db, "select its rank", ranked("vessel"), []any{id}, &v.Tonnes, &v.Rank)
}

// carried reads what a vessel carried.
func (v *vesselPart) carried(ctx context.Context, db *sql.DB) error {
	_, done := stepIn(ctx, "select cargo")
	defer done()
	rows, err := db.QueryContext(ctx, `SELECT cargo, sum(tonnes), count(*) FROM calls WHERE vessel = ? GROUP BY cargo
		ORDER BY sum(tonnes) DESC, cargo`, v.ID)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var l load
		var n int
		if err := rows.Scan(&l.Cargo, &l.Tonnes, &n); err != nil {
			return err
		}
		v.Cargo, v.Calls = append(v.Cargo, l), v.Calls+n
	}
	return rows.Err()
}

// ranked asks what one brought to the port and which place that takes among all: everything that ever came is added up.
func ranked(by string) string {
	return fmt.Sprintf(`WITH sums AS (SELECT %[1]s AS who, sum(tonnes) AS t FROM calls GROUP BY %[1]s)
		SELECT own.t, (SELECT count(*) + 1 FROM sums WHERE t > own.t) FROM sums AS own WHERE own.who = ?`, by)
}

// lookUpBerth reads a berth and who lay there.
func lookUpBerth(ctx context.Context, db *sql.DB, id int) (*berthPart, error) {
	ctx, done := stepIn(ctx, "look up berth")
	defer done()
	b := &berthPart{}
	err := queried(ctx, db, "select berth", "SELECT quay, number, depth_m FROM berths WHERE id = ?", []any{id},
		&b.Quay, &b.Number, &b.Depth)
	if err != nil {
		return nil, err
	}
	err = queried(ctx, db, "select who lay there", `SELECT count(*), coalesce(sum(v.draught_m > ?), 0)
		FROM calls c JOIN vessels v ON v.id = c.vessel WHERE c.berth = ?`, []any{b.Depth, id}, &b.Calls, &b.Deeper)
	if err != nil {
		return nil, err
	}
	return b, queried(ctx, db, "select its rank", ranked("berth"), []any{id}, &b.Tonnes, &b.Rank)
}

// lookUpTide reads a tide and what it brought.
func lookUpTide(ctx context.Context, db *sql.DB, id int) (*tidePart, error) {
	ctx, done := stepIn(ctx, "look up tide")
	defer done()
	t := &tidePart{}
	err := queried(ctx, db, "select tide", "SELECT name, height_m FROM tides WHERE id = ?", []any{id}, &t.Name, &t.Height)
	if err != nil {
		return nil, err
	}
	return t, queried(ctx, db, "select its rank", ranked("tide"), []any{id}, &t.Tonnes, &t.Rank)
}

// queried reads one row, as a step of its own.
func queried(ctx context.Context, db *sql.DB, name, query string, of []any, into ...any) error {
	_, done := stepIn(ctx, name)
	defer done()
	return db.QueryRowContext(ctx, query, of...).Scan(into...)
}

// pageInTurn looks one up after another.
func pageInTurn(ctx context.Context, db *sql.DB, id int) (*page, error) {
	v, err := lookUpVessel(ctx, db, id)
	if err != nil {
		return nil, err
	}
	p := &page{Vessel: v}
	if p.Berth, err = lookUpBerth(ctx, db, v.Berth); err != nil {
		return nil, err
	}
	p.Tide, err = lookUpTide(ctx, db, v.Tide)
	return p, err
}

// pageAtOnce reads which berth and tide it is about, and then looks up all three at once.
func pageAtOnce(ctx context.Context, db *sql.DB, id int) (*page, error) {
	var berth, tide int
	err := queried(ctx, db, "select latest call",
		"SELECT berth, tide FROM calls WHERE vessel = ? ORDER BY id DESC LIMIT 1",
		[]any{id}, &berth, &tide)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, errNoVessel
	}
	if err != nil {
		return nil, err
	}
	p := &page{}
	var work sync.WaitGroup
	var faults [3]error
	work.Go(func() { p.Vessel, faults[0] = lookUpVessel(ctx, db, id) })
	work.Go(func() { p.Berth, faults[1] = lookUpBerth(ctx, db, berth) })
	work.Go(func() { p.Tide, faults[2] = lookUpTide(ctx, db, tide) })
	work.Wait()
	return p, errors.Join(faults[:]...)
}

// pages answers the page of a vessel, made in the way that X-Page names, or with a part of it that part alone: the
// berth and the tide by their own numbers, or by the vessel's.
func (s *Service) pages(w http.ResponseWriter, r *http.Request) {
	if _, err := s.open(); err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	id, err := strconv.Atoi(r.URL.Query().Get("id"))
	if err != nil {
		http.Error(w, fmt.Sprintf("id is no number: %q", r.URL.Query().Get("id")), http.StatusBadRequest)
		return
	}
	ctx, done := s.tracer.request(r)
	defer done()
	var out any
	switch part := r.PathValue("part"); part {
	case "":
		make := pageInTurn
		if way := r.Header.Get("X-Page"); way == "at-once" {
			make = pageAtOnce
		} else if way != "" && way != "in-turn" {
			http.Error(w, fmt.Sprintf("no way called %q; there are in-turn and at-once", way), http.StatusBadRequest)
			return
		}
		out, err = make(ctx, s.db, id)
	case "vessel":
		out, err = lookUpVessel(ctx, s.db, id)
	case "berth":
		out, err = lookUpBerth(ctx, s.db, id)
	case "tide":
		out, err = lookUpTide(ctx, s.db, id)
	default:
		http.Error(w, fmt.Sprintf("no part called %q; there are vessel, berth and tide", part), http.StatusNotFound)
		return
	}
	switch {
	case errors.Is(err, errNoVessel), errors.Is(err, sql.ErrNoRows):
		http.Error(w, "nothing has this number", http.StatusNotFound)
	case err != nil:
		http.Error(w, err.Error(), http.StatusInternalServerError)
	default:
		w.Header().Set("Content-Type", "application/json")
		json.NewEncoder(w).Encode(out)
	}
}
