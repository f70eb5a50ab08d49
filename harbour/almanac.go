package harbour

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"time"
)

// The almanac prints the high and low waters of a day at the stations of one fairway. Each station is a chapter, which
// has to be worked out from its tide table; what was worked out can be kept in a folder. It prints the same whichever
// way it loads its chapters, and tells on the side how long that and the page took.

// fairway are the stations that a page of the almanac is about.
var fairway = []int{2, 5, 7, 11, 13, 19}

// Water is a high or a low water.
type Water struct {
	At     int   `json:"at"` // ten minutes since the start of the year
	Height int16 `json:"height_cm"`
	High   bool  `json:"high"`
}

// chapter works out the high and low waters of a station's year.
func chapter(gauge int) []Water {
	table := gaugeTable(gauge)
	var out []Water
	for at := 1; at < len(table)-1; at++ {
		before, here := table[at-1], table[at]
		if here == before {
			continue
		}
		after := at + 1
		for after < len(table)-1 && table[after] == here { // a turn of the tide may take more than ten minutes
			after++
		}
		if rising := here > before; rising == (table[after] < here) {
			out = append(out, Water{(at + after - 1) / 2, here, rising})
		}
	}
	return out
}

// library has the almanac's chapters, in the order in which they are asked for or all at once.
type library struct {
	kept     string // the folder of those that were worked out before; empty: none is kept
	chapters [gauges][]Water
	loaded   int
}

// chapter is a station's, loaded if it was not.
func (l *library) chapter(gauge int) ([]Water, error) {
	if l.chapters[gauge] != nil {
		return l.chapters[gauge], nil
	}
	l.loaded++
	path := filepath.Join(l.kept, fmt.Sprintf("chapter-%02d.json", gauge))
	if l.kept != "" {
		switch text, err := os.ReadFile(path); {
		case err == nil:
			if err := json.Unmarshal(text, &l.chapters[gauge]); err != nil {
				return nil, fmt.Errorf("read the almanac's %s: %w; remove it to have it worked out again", path, err)
			}
			return l.chapters[gauge], nil
		case !errors.Is(err, os.ErrNotExist):
			return nil, fmt.Errorf("read the almanac's %s: %w", path, err)
		}
	}
	l.chapters[gauge] = chapter(gauge)
	if l.kept == "" {
		return l.chapters[gauge], nil
	}
	text, err := json.Marshal(l.chapters[gauge])
	if err == nil {
		err = os.MkdirAll(l.kept, 0o755)
	}
	if err == nil {
		err = os.WriteFile(path, text, 0o644)
	}
	if err != nil {
		return nil, fmt.Errorf("keep a chapter of the almanac: %w", err)
	}
	return l.chapters[gauge], nil
}

// Almanac prints the page of a day of the year, from 0, and says on the side what it took. with is eager (every chapter
// is loaded before the page is begun) or deferred (each when the page comes to it); kept is the folder that chapters
// are kept in, empty for none.
func Almanac(with, kept string, day int, page, side io.Writer) error {
	if day < 0 || day >= yearSteps/daySteps {
		return fmt.Errorf("the almanac has no day %d: 0 to %d", day, yearSteps/daySteps-1)
	}
	began := time.Now()
	l := &library{kept: kept}
	switch with {
	case "eager":
		for gauge := range gauges {
			if _, err := l.chapter(gauge); err != nil {
				return err
			}
		}
	case "deferred":
	default:
		return fmt.Errorf("there is no way to load the almanac called %q: eager or deferred", with)
	}
	mark := func(name string) error {
		_, err := fmt.Fprintf(side, "{\"mark\":%q,\"ms\":%.3f}\n", name, float64(time.Since(began))/1e6)
		began = time.Now()
		return err
	}
	if err := mark("load"); err != nil {
		return err
	}
	for _, gauge := range fairway {
		waters, err := l.chapter(gauge)
		if err != nil {
			return err
		}
		fmt.Fprintf(page, "station %d\n", gauge)
		for _, w := range waters {
			if w.At/daySteps != day {
				continue
			}
			name := "low"
			if w.High {
				name = "high"
			}
			if _, err := fmt.Fprintf(
				page, "  %02d:%02d %-4s %5.2f m\n", w.At%daySteps/6, w.At%6*10, name, float64(w.Height)/100,
			); err != nil {
				return err
			}
		}
	}
	if err := mark("render"); err != nil {
		return err
	}
	var memory runtime.MemStats
	runtime.ReadMemStats(&memory)
	_, err := fmt.Fprintf(side, "%d chapters in view, heap %d KiB\n", l.loaded, memory.HeapAlloc>>10)
	return err
}
