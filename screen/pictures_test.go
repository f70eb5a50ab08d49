package screen_test

import (
	"testing"

	"paceduel/screen"
)

// A picture is drawn once for each key, and anew when the run changes.
func TestPicturesAreKept(t *testing.T) {
	type key struct{ zoom int }
	drawn := 0
	draw := func() int { drawn++; return drawn }
	s := screen.Scene{Pictures: &screen.Pictures{}} // nothing has been run yet
	if none := screen.Picture(s, key{1}, draw); screen.Picture(s, key{1}, draw) != none {
		t.Error("without a run pictures are not kept")
	}
	drawn = 0
	s.Run = &screen.Run{}
	first := screen.Picture(s, key{1}, draw)
	if again := screen.Picture(s, key{1}, draw); again != first || drawn != 1 {
		t.Errorf("the same picture is %d, then %d, drawn %d times", first, again, drawn)
	}
	if other := screen.Picture(s, key{2}, draw); other == first {
		t.Error("another key has the same picture")
	}
	s.Run = &screen.Run{}
	if later := screen.Picture(s, key{1}, draw); later == first {
		t.Error("another run has the picture of the one before")
	}
	for i := range 1000 {
		screen.Picture(s, key{i}, draw)
	}
	before := drawn
	if screen.Picture(s, key{999}, draw); drawn != before {
		t.Error("the latest picture is gone")
	}
	s.Pictures = nil
	if screen.Picture(s, key{1}, draw); drawn != before+1 {
		t.Error("without a place to keep pictures none is drawn")
	}
}
