package app

import (
	"strings"
	"testing"

	"paceduel/core/logbook"
)

// In the log, runs are noted, tagged, called something, found by it, and deleted once that was asked.
func TestRemarksInTheLog(t *testing.T) {
	cfg := config(t, map[string]string{"tides.duel.yaml": tides})
	for i, id := range []string{"1125-0900aaa", "1126-0900bbb"} {
		r := threeWay()
		r.ID, r.Started = id, r.Started.AddDate(0, 0, i)
		if err := cfg.Book.Import(r, logbook.Summary{Sentence: "joined is faster"}); err != nil {
			t.Fatal(err)
		}
	}
	write := func(m Model, text string) Model { return press(t, m, append(strings.Split(text, ""), "enter")...) }
	m := press(t, started(t, cfg, 120, 30), "l")
	shows(t, m, "1126-0900bbb", "1125-0900aaa", "note", "tags", "call it", "delete")
	m = write(press(t, m, "n"), "after the index")
	m = write(press(t, m, "g"), "release nightly")
	m = write(press(t, m, "c"), "second try")
	shows(t, m, "second try", "after the index", "nightly · release", "of "+threeWay().Plan.Name)
	m = press(t, m, "n", "x", "esc") // it stays as it was
	shows(t, m, "after the index")
	m = write(press(t, m, "/"), "nightly")
	shows(t, m, `1 run with "nightly" in names`, "1126-0900bbb")
	if strings.Contains(plain(m), "1125-0900aaa") {
		t.Error("the other run is listed, too")
	}
	m = press(t, m, "d")
	shows(t, m, "Delete 1126-0900bbb, second try of", "delete it enter", "keep it esc")
	m = press(t, press(t, m, "esc"), "d", "enter")
	shows(t, m, `0 runs with "nightly"`)
	all, err := cfg.Book.List(5, logbook.Filter{})
	if err != nil || len(all) != 1 || all[0].ID != "1125-0900aaa" || all[0].Note != "" {
		t.Errorf("%+v, %v", all, err)
	}
	m = write(press(t, press(t, m, "/", "esc"), "g"), "two words, -not")
	if all, err = cfg.Book.List(5, logbook.Filter{Tag: "words"}); err != nil || len(all) != 1 || len(all[0].Tags) != 2 {
		t.Errorf("%+v, %v", all, err)
	}
	m = write(press(t, m, "g"), " a/b")
	shows(t, m, "is no tag; use up to 32 letters")
}
