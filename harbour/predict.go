package harbour

import (
	"bufio"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"sync"
)

// The tide predictor tells the heights of a day at a station, every ten minutes, from the sum of the harbour's tidal
// constituents. It answers the same in all its ways; they differ in when the tables are made.

const (
	gauges    = 24     // stations
	daySteps  = 24 * 6 // heights in a day
	yearSteps = 366 * 24 * 6
)

// constituent is one of the waves that a tide is made of: its speed is that of the sun's and the moon's motions.
type constituent struct{ speed, size float64 } // degrees an hour, metres

var constituents = []constituent{
	{28.9841042, 1.1}, {30, 0.42}, {28.4397295, 0.23}, {30.0821373, 0.12}, {15.0410686, 0.14}, {13.9430356, 0.11},
	{14.9589314, 0.05}, {13.3986609, 0.03}, {57.9682084, 0.04}, {58.9841042, 0.02}, {86.9523127, 0.01}, {0.0821373, 0.06},
}

// Prediction is the answer: heights in centimetres above the harbour's zero.
type Prediction struct {
	Gauge   int     `json:"gauge"`
	Day     int     `json:"day"` // of the year, from 0
	Heights []int16 `json:"heights_cm"`
}

// wave is a constituent as it is at a station: its phase, and how far it turns in a step of ten minutes, in radians.
type wave struct{ size, phase, turn float64 }

// wavesOf are the waves that the tide of a station is made of.
func wavesOf(gauge int) []wave {
	rng := rand.New(rand.NewPCG(seed, uint64(100+gauge)))
	waves := make([]wave, len(constituents))
	for i, c := range constituents {
		waves[i] = wave{c.size * (0.8 + 0.4*rng.Float64()), 2 * math.Pi * rng.Float64(), c.speed * math.Pi / 180 / 6}
	}
	return waves
}

// heightAt is the height at a step of the year, in centimetres.
func heightAt(waves []wave, at int) int16 {
	height := 2.4
	for _, w := range waves {
		height += w.size * math.Cos(w.turn*float64(at)+w.phase)
	}
	return int16(math.Round(100 * height))
}

// gaugeTable computes a station's heights for the whole year.
func gaugeTable(gauge int) []int16 {
	waves := wavesOf(gauge)
	out := make([]int16, yearSteps)
	for at := range out {
		out[at] = heightAt(waves, at)
	}
	return out
}

// PrepareTables writes the tables of all stations to a file, for a predictor that loads them. The file is replaced at
// once.
func PrepareTables(path string) error {
	f, err := os.CreateTemp(filepath.Dir(path), ".tables-*")
	if err != nil {
		return fmt.Errorf("prepare tide tables: %w", err)
	}
	defer os.Remove(f.Name())
	w := bufio.NewWriter(f)
	for gauge := range gauges {
		if err := binary.Write(w, binary.LittleEndian, gaugeTable(gauge)); err != nil {
			f.Close()
			return fmt.Errorf("prepare tide tables in %s: %w", path, err)
		}
	}
	if err := errors.Join(w.Flush(), f.Close()); err != nil {
		return fmt.Errorf("prepare tide tables in %s: %w", path, err)
	}
	if err := os.Rename(f.Name(), path); err != nil {
		return fmt.Errorf("prepare tide tables: %w", err)
	}
	return nil
}

// tables tells a day's heights; gauge and day are in range.
type tables func(gauge, day int) []int16

// atStart computes every table before the first question.
func atStart() tables {
	all := make([][]int16, gauges)
	for gauge := range all {
		all[gauge] = gaugeTable(gauge)
	}
	return func(gauge, day int) []int16 { return all[gauge][day*daySteps:][:daySteps] }
}

// loaded reads tables that were prepared.
func loaded(path string) (tables, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, fmt.Errorf("load tide tables: %w; paceduel harbour predict --prepare FILE writes them", err)
	}
	defer f.Close()
	all := make([]int16, gauges*yearSteps)
	if err := binary.Read(bufio.NewReaderSize(f, 1<<20), binary.LittleEndian, all); err != nil {
		return nil, fmt.Errorf("load tide tables from %s: %w", path, err)
	}
	return func(gauge, day int) []int16 { return all[gauge*yearSteps+day*daySteps:][:daySteps] }, nil
}

// deferred computes a station's table when somebody first asks for it; who asks for the same meanwhile waits.
func deferred() tables {
	var each [gauges]struct {
		once  sync.Once
		table []int16
	}
	return func(gauge, day int) []int16 {
		g := &each[gauge]
		g.once.Do(func() { g.table = gaugeTable(gauge) })
		return g.table[day*daySteps:][:daySteps]
	}
}

// Predict serves the tide predictor at an address until ctx ends. with is at-start, prepared (from a file) or deferred;
// said hears a line when it answers.
func Predict(ctx context.Context, with, address, file string, said io.Writer) error {
	var heights tables
	var err error
	switch with {
	case "at-start":
		heights = atStart()
	case "prepared":
		if heights, err = loaded(file); err != nil {
			return err
		}
	case "deferred":
		heights = deferred()
	default:
		return fmt.Errorf("there is no way to predict called %q: at-start, prepared or deferred", with)
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /tide", func(w http.ResponseWriter, r *http.Request) {
		gauge, err := strconv.Atoi(r.URL.Query().Get("gauge"))
		day, err2 := strconv.Atoi(r.URL.Query().Get("day"))
		if err != nil || err2 != nil || gauge < 0 || gauge >= gauges || day < 0 || day >= yearSteps/daySteps {
			http.Error(w, fmt.Sprintf("gauge 0 to %d, day 0 to %d", gauges-1, yearSteps/daySteps-1), http.StatusBadRequest)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		json.NewEncoder(w).Encode(Prediction{gauge, day, heights(gauge, day)})
	})
	return listen(ctx, "the tide predictor", address, mux, said)
}
