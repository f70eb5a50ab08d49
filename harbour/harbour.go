// Package harbour is Skerrow Harbour, the invented port that everything in the demo is about: an HTTP service with
// several implementations of one endpoint, and a manifest packer with two.
//
// What differs between them comes from real work (queries, parsing, copying), never from waiting. All data is made from
// a seed, so two harbours are the same to the byte. Plans for it are embedded and written out by Lay.
package harbour

import (
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"time"

	_ "modernc.org/sqlite" // the driver, without cgo
)

// The size of the port.
const (
	vesselCount = 3000
	berthCount  = 96
	pilotCount  = 40
	tideCount   = 365 * 2
	callsMin    = 24 // vessels at berth in one tide
	callsMax    = 60
)

const seed = 1847

var (
	firstNames = []string{
		"Brave", "Northern", "Silver", "Quiet", "Tern", "Old", "Lady", "Harbour", "Winter", "Amber", "Skerry", "Far",
		"Morning", "Grey", "Swift", "Iron",
	}
	lastNames = []string{
		"Petrel", "Anchor", "Lantern", "Gannet", "Ebb", "Heron", "Current", "Fathom", "Halyard", "Beacon", "Sandpiper",
		"Mooring", "Compass", "Eider", "Spindrift", "Thistle",
	}
	kinds = []string{"tanker", "trawler", "ferry", "coaster", "barge", "reefer", "tug", "survey"}
	quays = []string{"North Quay", "Mole", "Fish Dock", "Basin", "Outer Arm", "Timber Wharf"}
	goods = []string{
		"salt cod", "timber", "cement", "barley", "wool", "machine parts", "peat", "glass", "whey powder", "rope", "paint",
		"herring", "oats", "copper wire", "slate", "seed potatoes",
	}
)

func vesselName(i int) string {
	return fmt.Sprintf(
		"%s %s %d", firstNames[i%len(firstNames)], lastNames[i/len(firstNames)%len(lastNames)],
		1+i/(len(firstNames)*len(lastNames)),
	)
}

// TideName is the i-th tide as requests name it: the day of the year and high or low water.
func TideName(i int) string { return fmt.Sprintf("%03d-%s", 1+i/2, [2]string{"high", "low"}[i%2]) }

const schema = `
CREATE TABLE vessels (id INTEGER PRIMARY KEY, name TEXT, kind TEXT, length_m REAL, draught_m REAL);
CREATE TABLE berths  (id INTEGER PRIMARY KEY, quay TEXT, number INTEGER, depth_m REAL);
CREATE TABLE pilots  (id INTEGER PRIMARY KEY, name TEXT, licence TEXT);
CREATE TABLE tides   (id INTEGER PRIMARY KEY, name TEXT UNIQUE, height_m REAL, at TEXT);
CREATE TABLE calls   (id INTEGER PRIMARY KEY, tide INTEGER, vessel INTEGER, berth INTEGER, pilot INTEGER, cargo TEXT, tonnes INTEGER);
CREATE INDEX calls_tide ON calls (tide);
CREATE INDEX calls_vessel ON calls (vessel);`

// fill writes the port into an empty database.
func fill(ctx context.Context, db *sql.DB) error {
	rng := rand.New(rand.NewPCG(seed, 1))
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback() // does nothing after a commit
	if _, err := tx.ExecContext(ctx, schema); err != nil {
		return err
	}
	insert := func(query string, n int, values func(i int) []any) error {
		st, err := tx.PrepareContext(ctx, query)
		if err != nil {
			return err
		}
		defer st.Close()
		for i := range n {
			if _, err := st.ExecContext(ctx, values(i)...); err != nil {
				return err
			}
		}
		return nil
	}
	tenth := func(low, high int) float64 { return float64(low*10+rng.IntN((high-low)*10)) / 10 }
	steps := []error{
		insert("INSERT INTO vessels VALUES (?,?,?,?,?)", vesselCount, func(i int) []any {
			return []any{i + 1, vesselName(i), kinds[rng.IntN(len(kinds))], tenth(12, 240), tenth(2, 14)}
		}),
		insert("INSERT INTO berths VALUES (?,?,?,?)", berthCount, func(i int) []any {
			return []any{i + 1, quays[i%len(quays)], 1 + i/len(quays), tenth(3, 16)}
		}),
		insert("INSERT INTO pilots VALUES (?,?,?)", pilotCount, func(i int) []any {
			return []any{
				i + 1, lastNames[i%len(lastNames)] + " " + firstNames[(i*7)%len(firstNames)], fmt.Sprintf("SK-%04d", 1000+i*37),
			}
		}),
		insert("INSERT INTO tides VALUES (?,?,?,?)", tideCount, func(i int) []any {
			at := time.Date(2031, 1, 1, 4, 10, 0, 0, time.UTC).Add(time.Duration(i) * 12 * time.Hour)
			return []any{i + 1, TideName(i), tenth(0, 5), at.Format(time.RFC3339)}
		}),
	}
	for _, err := range steps {
		if err != nil {
			return err
		}
	}
	if err := fillCalls(rng, insert); err != nil {
		return err
	}
	return tx.Commit()
}

func fillCalls(rng *rand.Rand, insert func(string, int, func(int) []any) error) error {
	var rows [][]any
	for tide := range tideCount {
		berths := rng.Perm(berthCount)
		for k := range callsMin + rng.IntN(callsMax-callsMin) {
			rows = append(rows, []any{
				len(rows) + 1, tide + 1, 1 + rng.IntN(vesselCount), berths[k] + 1, 1 + rng.IntN(pilotCount),
				goods[rng.IntN(len(goods))], rng.IntN(9000),
			})
		}
	}
	return insert("INSERT INTO calls VALUES (?,?,?,?,?,?,?)", len(rows), func(i int) []any { return rows[i] })
}
