package logbook

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"testing"
	"time"

	"paceduel/core/result"
)

// A long list, which is read in parts, has each run once, the newest first, whenever they began.
func TestLongListsAreWhole(t *testing.T) {
	const runs = longList + 507
	for name, began := range map[string]func(i int) int64{
		"one after the other": func(i int) int64 { return int64(i) },
		"in no order":         func(i int) int64 { return int64(i * 7919 % runs) },
		"some together":       func(i int) int64 { return int64(i / 900) },
		"all together":        func(int) int64 { return 5 },
	} {
		if testing.Short() && name != "in no order" { // SQLite is slow where races are looked for
			continue
		}
		t.Run(name, func(t *testing.T) {
			books(t, func(t *testing.T, name string) {
				b := opened(t, name)
				b.engine.readers = 3 // whatever this machine has
				fill(t, b, runs, began)
				var all []Entry
				for i := range runs {
					all = append(all, Entry{ID: fmt.Sprintf("%05d", i), Started: time.Unix(0, began(i))})
				}
				slices.SortFunc(all, func(a, b Entry) int {
					return cmp.Or(b.Started.Compare(a.Started), cmp.Compare(b.ID,
						a.ID))
				})
				for _, of := range []Filter{
					{}, {Tag: "slack-tide"}, {Attempts: Kept}, {Attempts: Failing, Text: "duel-3"},
					{Since: time.Unix(0, 2), Until: time.Unix(0, 1500)},
				} {
					holdLists(t, b, all, of)
				}
			})
		})
	}
}

// holdLists holds lists of a book that fill filled to the runs that it has, the newest first.
func holdLists(t *testing.T, b *Book, all []Entry, of Filter) {
	t.Helper()
	var want []string
	for _, e := range all {
		i, _ := strconv.Atoi(e.ID)
		e.File, e.Ending = fmt.Sprintf("duel-%d.duel.yaml", i%100), result.Done
		if i%7 == 0 {
			e.Tags = []string{"slack-tide"}
		}
		if i%11 == 0 {
			e.Ending = result.Failed
		}
		if of.Takes(&e) {
			want = append(want, e.ID)
		}
	}
	for _, limit := range []int{0, len(all), len(all) - 1, longList + 1, 3} {
		list, err := b.List(limit, of)
		if err != nil {
			t.Fatal(err)
		}
		wanted := want
		if limit > 0 {
			wanted = want[:min(limit, len(want))]
		}
		got := make([]string, len(list))
		for i := range list {
			got[i] = list[i].ID
		}
		if !slices.Equal(got, wanted) {
			t.Errorf("%d of %+v: %d runs, want %d", limit, of, len(got), len(wanted))
		}
	}
}

// What is found is the newest of all that are counted, whoever counts them.
func TestFindCountsAll(t *testing.T) {
	books(t, func(t *testing.T, name string) {
		b := opened(t, name)
		fill(t, b, 70, func(i int) int64 { return int64(i) }) // each seventh is tagged, each eleventh failed
		for _, tt := range []struct {
			of     Filter
			newest string
			all    int
		}{
			{Filter{}, "00069", 70}, {Filter{Attempts: Kept}, "00069", 63}, {Filter{Attempts: Failing}, "00066", 7},
			{Filter{Tag: "slack-tide"}, "00063", 10}, {Filter{Text: "nobody"}, "", 0},
			{Filter{Since: time.Unix(0, 20), Until: time.Unix(0, 30)}, "00029", 10},
		} {
			for _, limit := range []int{1, 5, 70} {
				newest, all, err := b.Find(limit, tt.of)
				if err != nil || all != tt.all || len(newest) != min(limit, all) || all > 0 && newest[0].ID != tt.newest {
					t.Errorf("%+v: %d of %d, %v; want %d, the newest %s", tt.of, len(newest), all, err, tt.all, tt.newest)
				}
			}
		}
		duels, all, err := b.Duels(5)
		if err != nil || all != 63 || len(duels) != 5 {
			t.Errorf("%d of %d duels, %v", len(duels), all, err)
		}
		if duels, _, err = b.Duels(0); err != nil || len(duels) != 63 {
			t.Errorf("without a limit %d duels, %v", len(duels), err)
		}
		if runs, _, err := b.RunsOf("Duel 3", 0); err != nil || len(runs) != 1 {
			t.Errorf("without a limit %d runs, %v", len(runs), err)
		}
		const file = "/home/pilot/harbour/plans/duel-%d.duel.yaml"
		past, err := b.PastOf([]string{fmt.Sprintf(file, 3), fmt.Sprintf(file, 99), ""}, 1)
		if p := past[fmt.Sprintf(file, 3)]; err != nil || len(past) != 1 || p.Runs != 1 || p.Newest[0].Name != "Duel 3" {
			t.Errorf("%+v, %v", past, err)
		}
	})
}
