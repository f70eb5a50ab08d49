package harbour

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"sync"
	"testing"
)

// contents is what a journal's file holds, without what was there before it was begun anew.
func contents(t *testing.T, j journal) []byte {
	t.Helper()
	var all []byte
	var err error
	switch j := j.(type) {
	case *locked:
		all, err = readAll(j.file)
	case *queued:
		all, err = readAll(j.file)
	case *appended:
		all, err = readAll(j.file)
	case *mapped:
		all = j.pages[:j.next.Load()]
	}
	if err != nil {
		t.Fatal(err)
	}
	return all
}

func readAll(f io.ReaderAt) ([]byte, error) {
	return io.ReadAll(io.NewSectionReader(f, 0, 2*journalSize))
}

// Each way keeps every report of every writer whole.
func TestJournalsKeepAllReports(t *testing.T) {
	const writers, each = 8, 500
	for _, k := range keepers {
		t.Run(k.way, func(t *testing.T) {
			j, err := k.open()
			if err != nil {
				t.Fatal(err)
			}
			var work sync.WaitGroup
			for w := range writers {
				work.Go(func() {
					for i := range each {
						j.keep(fmt.Appendf(nil, "report %d of writer %d\n", i, w))
					}
					j.flush()
				})
			}
			work.Wait()
			seen := map[string]int{}
			for line := range strings.Lines(string(contents(t, j))) {
				seen[line]++
			}
			for w := range writers {
				for i := range each {
					if line := fmt.Sprintf("report %d of writer %d\n", i, w); seen[line] != 1 {
						t.Fatalf("%q is there %d times", line, seen[line])
					}
				}
			}
			if len(seen) != writers*each {
				t.Errorf("%d lines; want %d", len(seen), writers*each)
			}
		})
	}
}

// A file that is full is begun anew: it does not grow without end, and what comes then is kept.
func TestJournalsBeginAnew(t *testing.T) {
	line := append(bytes.Repeat([]byte{'x'}, 1<<20-1), '\n')
	for _, k := range keepers {
		j, err := k.open()
		if err != nil {
			t.Fatal(err)
		}
		for range journalSize/len(line) + 3 {
			j.keep(line)
		}
		j.keep([]byte("the last one\n"))
		j.flush()
		if all := contents(t, j); len(all) > journalSize || !bytes.Contains(all, []byte("the last one\n")) {
			t.Errorf("%s: %d bytes, or the last one is not among them", k.way, len(all))
		}
	}
}

// All ways have the same to show for one report.
func TestKeepingShowsTheReport(t *testing.T) {
	for _, k := range keepers {
		if got := keeping(k.open)(nil)(0, 1); got != reports()[0]+"\n" {
			t.Errorf("%s: %q; want %q", k.way, got, reports()[0])
		}
	}
}

// A week is the same in whichever way it is worked out, and as the tide tables have it.
func TestWeeksAreAlike(t *testing.T) {
	var want [weekDays]int16
	table := gaugeTable(3)
	for day := range want {
		for _, height := range table[day*daySteps:][:daySteps] {
			want[day] = max(want[day], height)
		}
	}
	for _, w := range weeks {
		if got := w.loop(3)(0, 2); got != want {
			t.Errorf("%s: %v; want %v", w.way, got, want)
		}
	}
}
