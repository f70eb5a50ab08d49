package path

import "testing"

// What a path did is offered as it would be typed, where three words say all of it.
func TestWhatWasMovedCanBeTyped(t *testing.T) {
	for _, tt := range []struct {
		change func(*Settings)
		want   string
	}{
		{func(s *Settings) { s.To = "copy.bin" }, "copy-range charts.bin copy.bin"},
		{func(s *Settings) { s.Socket = true }, "copy-range charts.bin socket"},
		{func(s *Settings) { s.To, s.Block = "copy.bin", 4096 }, ""},
		{func(s *Settings) { s.To, s.Sync = "copy.bin", true }, ""},
		{func(s *Settings) { s.To, s.AtOnce = "copy.bin", 4 }, ""},
	} {
		s := New().(*Settings)
		s.Way, s.From = "copy-range", "charts.bin"
		tt.change(s)
		text, ok := drafting.Typed(s.Summary())
		if ok != (tt.want != "") || ok && text != tt.want {
			t.Errorf("%s is typed as %q, %v; want %q", s.Summary(), text, ok, tt.want)
		}
		if ok && !drafting.Claims(text) {
			t.Errorf("%q is typed, and not taken for a path", text)
		}
	}
}
