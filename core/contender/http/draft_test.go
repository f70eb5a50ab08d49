package http

import (
	"slices"
	"testing"

	"paceduel/core/plan"
)

func TestNamesOfURLs(t *testing.T) {
	tests := []struct {
		name        string
		given, want []string
	}{
		{"a host that is shared is left out", []string{
			"http://127.0.0.1:80/berths/joined", "http://127.0.0.1:80/berths/snapshot",
		}, []string{"/berths/joined", "/berths/snapshot"}},
		{"hosts that differ stand", []string{
			"http://127.0.0.1:80/berths?tide=3", "http://127.0.0.1:81/berths?tide=3",
		}, []string{"127.0.0.1:80", "127.0.0.1:81"}},
		{"a query that differs", []string{
			"http://127.0.0.1/b?board=joined&tide=3", "http://127.0.0.1/b?board=copied&tide=3",
		}, []string{"/b?board=joined", "/b?board=copied"}},
		{"one without a path", []string{"http://127.0.0.1", "http://127.0.0.1/a"}, []string{"/", "/a"}},
		{"the same twice", []string{"http://127.0.0.1/a", "http://127.0.0.1/a"}, []string{"/a", "/a #2"}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			if got, err := names(tt.given); err != nil || !slices.Equal(got, tt.want) {
				t.Errorf("names are %q; want %q", got, tt.want)
			}
		})
	}
}

// What a request did is offered as it would be typed, where a URL says all of it.
func TestWhatWasAskedCanBeTyped(t *testing.T) {
	for _, tt := range []struct {
		change func(*Settings)
		want   string
	}{
		{func(*Settings) {}, "http://127.0.0.1:8080/berths?joined=1"},
		{func(s *Settings) { s.Method = "POST" }, ""},
		{func(s *Settings) { s.Connections = plan.Fresh }, ""},
	} {
		s := New().(*Settings)
		s.URL = "http://127.0.0.1:8080/berths?joined=1"
		tt.change(s)
		if text, ok := drafting.Typed(s.Summary()); ok != (tt.want != "") || ok && text != tt.want {
			t.Errorf("%s is typed as %q, %v; want %q", s.Summary(), text, ok, tt.want)
		}
	}
}
