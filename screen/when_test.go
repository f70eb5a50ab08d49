package screen_test

import (
	"testing"
	"time"

	"paceduel/screen"
)

func TestMomentsLongAgoHaveTheirYear(t *testing.T) {
	at := time.Date(2026, 3, 4, 5, 6, 0, 0, time.UTC)
	for _, tt := range []struct {
		today time.Time
		want  string
	}{
		{time.Time{}, "4 Mar 05:06"}, {at.AddDate(0, 0, 100), "4 Mar 05:06"}, {at.AddDate(1, 0, 0), "4 Mar 2026"},
		{at.AddDate(-1, 0, 0), "4 Mar 2026"},
	} {
		s := screen.Scene{Today: tt.today}
		if got := s.When(at); got != tt.want {
			t.Errorf("on %s it is %q; want %q", tt.today, got, tt.want)
		}
	}
}
