package harbour

import (
	"compress/gzip"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"strings"
)

// Register lists the vessels of the port.
type Register struct {
	Vessels []Vessel `json:"vessels"`
}

// Vessel is one of them. The slim form leaves out what a list does not show.
type Vessel struct {
	ID      int     `json:"id"`
	Name    string  `json:"name"`
	Kind    string  `json:"kind"`
	Length  float64 `json:"length_m,omitempty"`
	Draught float64 `json:"draught_m,omitempty"`
	History []Visit `json:"history,omitempty"` // its last calls, the latest first
}

// Visit is one call of a vessel.
type Visit struct {
	Tide   string `json:"tide"`
	At     string `json:"at"`
	Quay   string `json:"quay"`
	Number int    `json:"number"`
	Cargo  string `json:"cargo"`
	Tonnes int    `json:"tonnes"`
	Pilot  string `json:"pilot"`
}

const (
	registerPage = 200 // vessels that are shown
	historyCalls = 6
)

// register reads so many vessels of the register after one of them, with histories in its full form.
func register(ctx context.Context, db *sql.DB, full bool, after, of int) (*Register, error) {
	rows, err := db.QueryContext(
		ctx, "SELECT id, name, kind, length_m, draught_m FROM vessels WHERE id > ? AND id <= ? ORDER BY id LIMIT ?", after,
		registerPage, of,
	)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := &Register{}
	for rows.Next() {
		var v Vessel
		if err := rows.Scan(&v.ID, &v.Name, &v.Kind, &v.Length, &v.Draught); err != nil {
			return nil, err
		}
		if !full {
			v.Length, v.Draught = 0, 0
		}
		out.Vessels = append(out.Vessels, v)
	}
	if err := rows.Err(); err != nil || !full {
		return out, err
	}
	return out, histories(ctx, db, out.Vessels)
}

func histories(ctx context.Context, db *sql.DB, vessels []Vessel) error {
	st, err := db.PrepareContext(ctx, `SELECT t.name, t.at, b.quay, b.number, c.cargo, c.tonnes, p.name
		FROM calls c JOIN tides t ON t.id = c.tide JOIN berths b ON b.id = c.berth JOIN pilots p ON p.id = c.pilot
		WHERE c.vessel = ? ORDER BY c.id DESC LIMIT ?`)
	if err != nil {
		return err
	}
	defer st.Close()
	for i := range vessels {
		rows, err := st.QueryContext(ctx, vessels[i].ID, historyCalls)
		if err != nil {
			return err
		}
		for rows.Next() {
			var v Visit
			if err := rows.Scan(&v.Tide, &v.At, &v.Quay, &v.Number, &v.Cargo, &v.Tonnes, &v.Pilot); err != nil {
				rows.Close()
				return err
			}
			vessels[i].History = append(vessels[i].History, v)
		}
		if err := rows.Err(); err != nil {
			return err
		}
	}
	return nil
}

// vessels answers the register in the form that the query names, compressed for those who take it: all of it, or a page
// of so many (of) from behind a vessel (after), with a link to the next.
func (s *Service) vessels(w http.ResponseWriter, r *http.Request) {
	if _, err := s.open(); err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	form := r.URL.Query().Get("form")
	if form != "full" && form != "slim" {
		http.Error(w, fmt.Sprintf("no form called %q; there are full and slim", form), http.StatusBadRequest)
		return
	}
	after, of := 0, registerPage
	for name, into := range map[string]*int{"after": &after, "of": &of} {
		text := r.URL.Query().Get(name)
		if n, err := strconv.Atoi(text); err == nil && n >= 0 {
			*into = n
		} else if text != "" {
			http.Error(w, fmt.Sprintf("%s is no number: %q", name, text), http.StatusBadRequest)
			return
		}
	}
	reg, err := register(r.Context(), s.db, form == "full", after, of)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	if n := len(reg.Vessels); n > 0 && reg.Vessels[n-1].ID < registerPage {
		w.Header().Set("Link", fmt.Sprintf("</vessels?form=%s&of=%d&after=%d>; rel=next", form, of, reg.Vessels[n-1].ID))
	}
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Server", "Skerrow Harbour 1847")
	if form == "full" {
		w.Header().Set("X-Register-History", fmt.Sprintf("%d calls of each vessel", historyCalls))
	}
	if !strings.Contains(r.Header.Get("Accept-Encoding"), "gzip") {
		json.NewEncoder(w).Encode(reg)
		return
	}
	w.Header().Set("Content-Encoding", "gzip")
	z := gzip.NewWriter(w)
	json.NewEncoder(z).Encode(reg)
	z.Close()
}
