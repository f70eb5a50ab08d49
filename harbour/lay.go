package harbour

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"embed"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
)

//go:embed plans/*.duel.yaml
var plans embed.FS

// BerthBoard and Packer are the file names of the demo's plans, the first being the one to start with.
const (
	BerthBoard = "berth-board.duel.yaml"
	Packer     = "manifest-packer.duel.yaml"
)

// Lay writes the demo's plans and data into dir, creating it. What is there already is left alone when it is the same,
// else written anew.
func Lay(dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return fmt.Errorf("lay out the harbour: %w", err)
	}
	entries, err := plans.ReadDir("plans")
	if err != nil {
		return fmt.Errorf("lay out the harbour: %w", err)
	}
	for _, e := range entries {
		text, err := plans.ReadFile("plans/" + e.Name())
		if err != nil {
			return fmt.Errorf("lay out the harbour: %w", err)
		}
		if err := put(filepath.Join(dir, e.Name()), text); err != nil {
			return err
		}
	}
	if err := put(filepath.Join(dir, "tides.csv"), tidesCSV(tideCount)); err != nil {
		return err
	}
	if err := put(filepath.Join(dir, "fortnight.csv"), tidesCSV(fortnight)); err != nil {
		return err
	}
	if err := put(filepath.Join(dir, "gauges.csv"), gaugesCSV()); err != nil {
		return err
	}
	var untidy bytes.Buffer
	if err := WriteUntidy(&untidy); err != nil {
		return fmt.Errorf("make the untidy manifest: %w", err)
	}
	if err := put(filepath.Join(dir, "untidy.txt"), untidy.Bytes()); err != nil {
		return err
	}
	if err := layCharts(dir); err != nil {
		return err
	}
	database := filepath.Join(dir, "harbour.db")
	if err := layDatabase(context.Background(), database); err != nil {
		return err
	}
	if err := layVessels(context.Background(), database, filepath.Join(dir, "vessels.csv")); err != nil {
		return err
	}
	path := filepath.Join(dir, "manifest.txt")
	if old, err := os.ReadFile(path); err == nil && fmt.Sprintf("%x", sha256.Sum256(old)) == ManifestSHA256 {
		return nil
	}
	var manifest bytes.Buffer
	if err := WriteManifest(&manifest); err != nil {
		return fmt.Errorf("make the manifest: %w", err)
	}
	return put(path, manifest.Bytes())
}

// laid is what a database of the harbour that is whole has as its user_version, which is written last.
const laid = 1847

// layDatabase writes the port into a database of its own, unless it is there.
func layDatabase(ctx context.Context, path string) error {
	fail := func(err error) error { return fmt.Errorf("lay out the harbour's database %s: %w", path, err) }
	if isLaid(ctx, path) {
		return nil
	}
	beside := path + ".new"
	os.Remove(beside)       // of somebody who was stopped
	defer os.Remove(beside) // does nothing once it has its name
	db, err := sql.Open("sqlite", "file:"+beside)
	if err != nil {
		return fail(err)
	}
	err = fill(ctx, db)
	if err == nil {
		_, err = db.ExecContext(ctx, fmt.Sprintf("PRAGMA user_version = %d", laid))
	}
	if closed := db.Close(); err == nil {
		err = closed
	}
	if err != nil {
		return fail(err)
	}
	if err := os.Rename(beside, path); err != nil {
		return fail(err)
	}
	return nil
}

// pagesAsked is how many vessels' pages are asked for.
const pagesAsked = 200

// layVessels lists vessels as their pages are asked for, with berth and tide of their latest call, unless the list is
// there and as new as the database.
func layVessels(ctx context.Context, database, path string) error {
	of, err := os.Stat(database)
	if list, none := os.Stat(path); err == nil && none == nil && !list.ModTime().Before(of.ModTime()) {
		return nil
	}
	fail := func(err error) error { return fmt.Errorf("list vessels in %s: %w", path, err) }
	db, err := sql.Open("sqlite", "file:"+database+"?mode=ro")
	if err != nil {
		return fail(err)
	}
	defer db.Close()
	rows, err := db.QueryContext(ctx, `SELECT vessel, berth, tide FROM calls WHERE id IN (SELECT max(id) FROM calls GROUP BY vessel)
		ORDER BY vessel * 7919 % 3001 LIMIT ?`, pagesAsked)
	if err != nil {
		return fail(err)
	}
	defer rows.Close()
	var out bytes.Buffer
	out.WriteString("vessel,berth,tide,day\n")
	for rows.Next() {
		var vessel, berth, tide int
		if err := rows.Scan(&vessel, &berth, &tide); err != nil {
			return fail(err)
		}
		fmt.Fprintf(&out, "%d,%d,%d,%03d\n", vessel, berth, tide, 1+vessel%(tideCount/2))
	}
	if err := rows.Err(); err != nil {
		return fail(err)
	}
	return put(path, out.Bytes())
}

// isLaid reports whether a file is a database of the harbour.
func isLaid(ctx context.Context, path string) bool {
	if _, err := os.Stat(path); err != nil {
		return false
	}
	db, err := sql.Open("sqlite", "file:"+path+"?mode=ro")
	if err != nil {
		return false
	}
	defer db.Close()
	var version int
	return db.QueryRowContext(ctx, "PRAGMA user_version").Scan(&version) == nil && version == laid
}

// fortnight is how many tides there are in one.
const fortnight = 28

// tidesCSV lists the first n tides in an order that is no calendar's, as requests come.
func tidesCSV(n int) []byte {
	var out strings.Builder
	out.WriteString("tide\n")
	for _, i := range rand.New(rand.NewPCG(seed, 3)).Perm(n) {
		out.WriteString(TideName(i) + "\n")
	}
	return []byte(out.String())
}

// gaugesCSV lists days at stations as they are asked for.
func gaugesCSV() []byte {
	rng := rand.New(rand.NewPCG(seed, 4))
	var out strings.Builder
	out.WriteString("gauge,day\n")
	for range 600 {
		fmt.Fprintf(&out, "%d,%d\n", rng.IntN(gauges), rng.IntN(yearSteps/daySteps))
	}
	return []byte(out.String())
}

// put writes a file through a neighbour, so that nobody ever reads half of it.
func put(path string, text []byte) error {
	if old, err := os.ReadFile(path); err == nil && bytes.Equal(old, text) {
		return nil
	}
	f, err := os.CreateTemp(filepath.Dir(path), ".harbour-*")
	if err != nil {
		return fmt.Errorf("write %s: %w", path, err)
	}
	defer os.Remove(f.Name())
	if _, err := io.Copy(f, bytes.NewReader(text)); err != nil {
		f.Close()
		return fmt.Errorf("write %s: %w", path, err)
	}
	if err := f.Close(); err != nil {
		return fmt.Errorf("write %s: %w", path, err)
	}
	if err := os.Rename(f.Name(), path); err != nil {
		return fmt.Errorf("write %s: %w", path, err)
	}
	return nil
}
