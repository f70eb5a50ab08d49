package conduct

import (
	"errors"
	"fmt"
	"slices"
	"testing"

	"paceduel/core/logbook"
	"paceduel/core/result"
	"paceduel/core/rounds"
)

// full is a book on a disk that is full for a while.
type full struct {
	from, to int // calls that fail, counted from 0
	calls    int
	heats    []int // that were entered, in order
	ended    bool
}

func (f *full) call() error {
	f.calls++
	if n := f.calls - 1; n >= f.from && n < f.to {
		return errors.New("no space left on device")
	}
	return nil
}

func (f *full) Begin(*result.Result) error { return f.call() }

func (f *full) Reopen(*result.Result) (int, error) { return len(f.heats), f.call() }

func (f *full) AddHeat(_ string, seq int, h *result.Heat) error {
	if err := f.call(); err != nil {
		return err
	}
	if seq != len(f.heats) {
		return fmt.Errorf("heat %d comes after %d", seq, len(f.heats))
	}
	f.heats = append(f.heats, h.Round)
	return nil
}

func (f *full) End(*result.Result, logbook.Summary) error {
	err := f.call()
	f.ended = err == nil
	return err
}

// What a full disk kept out of the logbook is entered when there is room again, in order and once; else it is told.
func TestARunIsCompletedWhenThereIsRoomAgain(t *testing.T) {
	const heats = 20
	tests := []struct {
		name     string
		from, to int
		told     []bool // events of trouble, and of its end
		whole    bool
	}{
		{"room all the time", 0, 0, nil, true},
		{"none at the start", 0, 3, []bool{true, false}, true},
		{"none for some heats", 5, 8, []bool{true, false}, true},
		{"none until the end", 15, 18, []bool{true, false}, true},
		{"none from then on", 5, 1000, []bool{true}, false},
		{"none at the end alone", heats + 1, 1000, []bool{true}, false},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			var told []bool
			b := &full{from: tt.from, to: tt.to}
			k := keeper{book: b, watch: func(e rounds.Event) { told = append(told, e.(rounds.NotKept).Err != nil) }}
			r := &result.Result{ID: "x"}
			k.keep(rounds.Started{Result: r})
			var want []int
			for i := range heats {
				k.keep(rounds.HeatEnded{Heat: result.Heat{Round: i + 1}})
				want = append(want, i+1)
			}
			k.close(r, verdicts{})
			if !slices.Equal(told, tt.told) {
				t.Errorf("told %v; want %v", told, tt.told)
			}
			if whole := b.ended && slices.Equal(b.heats, want); whole != tt.whole || (k.err == nil) != tt.whole {
				t.Errorf("entered %v, ended %t, trouble %v; want it whole: %t", b.heats, b.ended, k.err, tt.whole)
			}
		})
	}
}
