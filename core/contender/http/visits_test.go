package http

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/contender/http/lean"
	"paceduel/core/plan"
	"paceduel/core/shots"
)

// front serves a page that is validated, and a style that is kept for good; both tell of their time.
func front(t *testing.T) string {
	t.Helper()
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Server-Timing", "make;dur=1")
		if r.URL.Path == "/style" {
			w.Header().Set("Cache-Control", "max-age=600, immutable")
			fmt.Fprint(w, strings.Repeat("berth ", 2_000))
			return
		}
		w.Header().Set("Cache-Control", "no-cache")
		w.Header().Set("Etag", `"7"`)
		if r.Header.Get("If-None-Match") == `"7"` {
			w.WriteHeader(http.StatusNotModified)
			return
		}
		fmt.Fprint(w, "page")
	}))
	t.Cleanup(s.Close)
	return s.URL
}

// A first visit fetches everything; a returning one asks for what has to be asked, and ships next to nothing.
func TestVisits(t *testing.T) {
	url := front(t)
	for _, tt := range []struct {
		name        string
		change      func(*Settings)
		saved, held int64
		body        string
	}{
		{"one request", func(s *Settings) { s.URL += "/style" }, 1, 0, "berth "},
		{"one that is validated", func(s *Settings) { s.URL += "/" }, 0, 1, "page"},
		{"with redirects and cookies", func(s *Settings) { s.URL += "/style"; s.Redirects, s.Cookies = 1, true }, 1, 0,
			"berth "},
		{"legs", func(s *Settings) {
			s.Legs = []Leg{{Name: "page", URL: "/"}, {Name: "style", URL: "/style", Needs: []string{"page"}}, {Name: "again",
				URL: "/style", Needs: []string{"style"}}}
		}, 2, 1, "page"},
		{"legs at once", func(s *Settings) { s.Legs = []Leg{{Name: "page", URL: "/"}, {Name: "style", URL: "/style"}} }, 1,
			1, "page"},
	} {
		s := New().(*Settings)
		s.URL, s.Cache = url, "private"
		tt.change(s)
		if faults := s.Check(plan.Surroundings{Dir: t.TempDir()}); len(faults) > 0 {
			t.Fatalf("%s: %v", tt.name, faults)
		}
		d, err := Kind.Open(contender.Setup{Dir: t.TempDir(), Clock: clock.Start()}, s)
		if err != nil {
			t.Fatal(err)
		}
		visit := func(c contender.Client) (shot shots.Shot) {
			shot.View = &shots.View{}
			c.Shoot(t.Context(), &shot)
			if shot.Class != shots.OK || !strings.Contains(string(shot.View.Body), tt.body) {
				t.Errorf("%s: %s %v, %.40q", tt.name, shot.Class, shot.Err, shot.View.Body)
			}
			return shot
		}
		for _, first := range []bool{true, false} {
			d.(contender.Visited).Visit(first)
			c := d.Client(0, 1)
			filling, shot := visit(c), visit(c)
			saved, held := shot.Amounts[lean.Saved], shot.Amounts[lean.Held]
			within := tt.saved - 1 // what one visit asks for twice
			if first && (saved > max(within, 0) || held != 0 || shot.Received != filling.Received) {
				t.Errorf("%s: a first visit saved %d, revalidated %d, %d bytes after %d", tt.name, saved, held, shot.Received,
					filling.Received)
			}
			if !first && (saved != tt.saved || held != tt.held || shot.Received > 400 || shot.Length != filling.Length) {
				t.Errorf("%s: a returning visit saved %d, revalidated %d, %d bytes; want %d and %d", tt.name, saved, held,
					shot.Received, tt.saved, tt.held)
			}
			if told := len(shot.Told); !first && len(s.Legs) == 0 && told != int(1-tt.saved) {
				t.Errorf("%s: %d times told of what was not made anew", tt.name, told)
			}
			c.Close()
		}
		d.Close()
	}
	lean := New().(*Settings)
	lean.URL, lean.Cache, lean.Path = url, "private", "lean"
	if faults := lean.Check(plan.Surroundings{Dir: t.TempDir()}); len(faults) != 1 || !strings.Contains(faults[0].What,
		"a cache") {
		t.Errorf("%v", faults)
	}
}
