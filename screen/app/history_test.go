package app

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"paceduel/core/logbook"
)

// The log shows duels over time, and holds two runs to each other, then before now whatever the order of choosing.
func TestDuelsOverTimeAndPairs(t *testing.T) {
	cfg := config(t, map[string]string{"tides.duel.yaml": tides})
	for i, id := range []string{"1125-0900aaa", "1126-0900bbb", "1127-0900ccc"} {
		r := threeWay()
		r.ID, r.Started, r.Ended = id, r.Started.AddDate(0, 0, i), r.Started.AddDate(0, 0, i)
		r.Entrants[1].Version = "2.3"
		if i == 2 {
			r.Entrants[1].Version = "2.4"
		}
		if err := cfg.Book.Import(r, logbook.Summary{}); err != nil {
			t.Fatal(err)
		}
	}
	m := press(t, started(t, cfg, 142, 44), "l", "b")
	shows(t, m, "1 duel over time", threeWay().Plan.Name, "3 runs", "no ratio of any surely differs")
	m = press(t, m, "enter")
	shows(t, m, "1127-0900ccc", "version of "+threeWay().Entrants[1].Name+" (2.3, now 2.4)", "v a version", "again e")
	m = press(t, m, "h")
	shows(t, m, "to be held to another", "hold 1127-0900ccc to it")
	m = press(t, m, "up", "h")
	shows(t, m, "two runs held to each other", "1126-0900bbb of", "1127-0900ccc of", "What changed: version of")
	if text := plain(m); strings.Index(text, "1126-0900bbb of") > strings.Index(text, "1127-0900ccc of") {
		t.Error("the later run is said to be then")
	}
	m = press(t, m, "esc", "s")
	if found, _ := filepath.Glob(filepath.Join(cfg.SaveDir, "*over-time.svg")); len(found) != 1 {
		names, _ := os.ReadDir(cfg.SaveDir)
		t.Errorf("no picture is saved: %v", names)
	}
	m = press(t, m, "esc", "b")
	shows(t, m, "1125-0900aaa", "note")
	stand, _, err := cfg.Book.RunsOf(threeWay().Plan.Name, 5)
	if err != nil || len(stand) != 3 || len(stand[0].Stand) == 0 {
		t.Errorf("what was judged for the time line is not kept: %v", err)
	}
}
