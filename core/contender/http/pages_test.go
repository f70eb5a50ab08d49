package http

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"testing"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/contender/http/lean"
	"paceduel/core/guard"
	"paceduel/core/plan"
	"paceduel/core/shots"
	"paceduel/core/spans"
)

// clerk serves 10 calls, 3 on a page, in every way in which a next page may be told; ?odd= asks for what goes wrong.
func clerk(t *testing.T) string {
	t.Helper()
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		from, _ := strconv.Atoi(r.FormValue("after"))
		odd := r.FormValue("odd")
		var page struct {
			Calls []int `json:"calls"`
			Next  any   `json:"next,omitempty"`
			After any   `json:"after,omitempty"`
		}
		for id := from + 1; id <= min(from+3, 10); id++ {
			page.Calls = append(page.Calls, id)
		}
		if last := from + 3; last < 10 {
			to := fmt.Sprintf("list?after=%d&odd=%s", last, odd)
			switch odd {
			case "elsewhere":
				to = "http://10.1.2.3/list"
			case "loop":
				to = fmt.Sprintf("list?after=%d&odd=loop", last%6)
			case "list":
				page.Next = []int{1}
			}
			if page.Next == nil {
				page.Next = to
			}
			page.After = last
			w.Header().Set("Link", `</start>; rel=prev; title="a, b; c", <`+to+`>; rel="last next"`)
		}
		switch {
		case odd == "again": // at an address of its own each time
			w.Header().Set("Link", fmt.Sprintf("<list?odd=again&after=%d>; rel=next", from+1))
			fmt.Fprint(w, "the same calls")
			return
		case odd == "broken" && from == 3:
			http.Error(w, "the clerk has gone home", http.StatusInternalServerError)
			return
		case odd == "text":
			fmt.Fprint(w, "no page")
			return
		}
		json.NewEncoder(w).Encode(page)
	}))
	t.Cleanup(s.Close)
	return s.URL
}

func paging(url string, pages Pages) *Settings {
	s := New().(*Settings)
	s.URL, s.Pages = url, &pages
	return s
}

// paged performs a shot in view.
func paged(t *testing.T, s *Settings) shots.Shot {
	t.Helper()
	return inView(t, s, byCrew)
}

// inView opens a checked contender by at least the means given, and performs a shot in view.
func inView(t *testing.T, s *Settings, least means) shots.Shot {
	t.Helper()
	if faults := s.Check(plan.Surroundings{Dir: t.TempDir()}); len(faults) > 0 {
		t.Fatalf("%v", faults)
	}
	d, err := open(contender.Setup{Dir: t.TempDir(), Clock: clock.Start()}, s, least)
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	c := d.Client(0, 1)
	defer c.Close()
	shot := shots.Shot{View: &shots.View{}}
	c.Shoot(t.Context(), &shot)
	return shot
}

func TestAListPageByPage(t *testing.T) {
	url := clerk(t)
	for name, pages := range map[string]Pages{
		"link": {Next: "link", List: "/calls"}, "pointer": {Next: "/next", List: "/calls"},
		"cursor": {Cursor: "/after", Into: "after", List: "/calls"},
	} {
		shot := paged(t, paging(url+"/list?after=0", pages))
		if shot.Class != shots.OK || string(shot.View.Body) != "[1,2,3,4,5,6,7,8,9,10]" || shot.View.Outcome != "200 OK" {
			t.Errorf("%s: %s %v: %s", name, shot.Class, shot.Err, shot.View.Body)
		}
		if shot.Amounts[lean.Pages] != 4 || shot.Amounts[lean.Connections] != 1 || shot.Received < 400 {
			t.Errorf("%s: %v, %d bytes", name, shot.Amounts, shot.Received)
		}
		in := spans.Look(&spans.Shot{Length: shot.Latency(), Spans: shot.Inside, Known: shot.InsideKnown})
		if len(shot.Inside) != 4 || in.Idle > shot.Latency()/20 || in.Added > shot.Latency() || in.Together < in.Added*9/10 {
			t.Errorf("%s: inside %+v, %+v of %s", name, shot.Inside, in, shot.Latency())
		}
		sum := shot.Parts[lean.Further]
		for _, part := range shot.Parts[:lean.Further] {
			sum += part
		}
		first := shot.Amounts[lean.FirstPage]
		if off := shot.Latency() - sum; off < 0 || off > shot.Latency()/50 || first <= 0 || first >= int64(shot.Latency()) {
			t.Errorf("%s: parts make %s of %s, the first page took %d ns", name, sum, shot.Latency(), first)
		}
	}
	most := paged(t, paging(url+"/list", Pages{Next: "link", Most: 2}))
	if most.Class != shots.OK || most.Amounts[lean.Pages] != 2 || strings.Count(string(most.View.Body), "calls") != 2 {
		t.Errorf("two pages: %v %s", most.Err, most.View.Body)
	}
}

// What goes wrong names the page, and never goes on for ever.
func TestListsThatCannotBeRead(t *testing.T) {
	url := clerk(t)
	for odd, want := range map[string]string{
		"loop": "page 3: it leads back to /list?", "list": "page 1: what stands at /next",
		"broken": "page 2: status 500", "text": "page 1: it is no JSON", "elsewhere": "page 1: 10.1.2.3 is not this machine",
	} {
		shot := paged(t, paging(url+"/list?odd="+odd, Pages{Next: "/next"}))
		if !shot.Class.Failed() || !strings.HasPrefix(fmt.Sprint(shot.Err), want) {
			t.Errorf("%s: %s %v; want %s", odd, shot.Class, shot.Err, want)
		}
	}
	if shot := paged(t, paging(url+"/list?odd=again", Pages{Next: "link"})); shot.Err == nil ||
		shot.Err.Error() != "page 2: it is page 1 again" {
		t.Errorf("%v", shot.Err)
	}
	var refused *guard.RefusedError
	if shot := paged(t, paging(url+"/list?odd=elsewhere", Pages{Next: "link"})); !errors.As(shot.Err, &refused) {
		t.Errorf("%v", shot.Err)
	}
}

func TestPagesThatCannotBe(t *testing.T) {
	for want, change := range map[string]func(*Settings){
		"nothing says which page":   func(s *Settings) { s.Pages = &Pages{} },
		"both next and cursor":      func(s *Settings) { s.Pages.Cursor, s.Pages.Into = "/a", "b" },
		"nothing says where":        func(s *Settings) { s.Pages = &Pages{Cursor: "/a"} },
		"is no JSON Pointer":        func(s *Settings) { s.Pages.Next = "next" },
		"pages and batch do not go": func(s *Settings) { s.Batch = 3 },
		"does not know pages":       func(s *Settings) { s.Path = "lean" },
	} {
		s := paging("http://127.0.0.1:1/", Pages{Next: "link"})
		change(s)
		var told []string
		for _, f := range s.Check(plan.Surroundings{Dir: t.TempDir()}) {
			told = append(told, f.What)
		}
		if all := strings.Join(told, "; "); !strings.Contains(all, want) {
			t.Errorf("%q; want %q", all, want)
		}
	}
}

func TestNextLinks(t *testing.T) {
	for value, want := range map[string]string{
		`</b>; rel=next`: "/b", `</a>; rel="prev", </b>; title="x, <y>; rel=next"; REL="Next"`: "/b",
		`</b>;rel="start next"`: "/b", `</a>; title="\"; rel=next"`: "", `</b>; rel=nextish`: "", `</b`: "", "": "", `b; rel=next`: "",
		`<>; rel=next`: "", `</a>;`: "", `</a>; rel`: "", `</a>; rel="next`: "/a",
	} {
		if got, _ := nextLink(value); got != want {
			t.Errorf("%s: %q, want %q", value, got, want)
		}
	}
}

func FuzzNextLink(f *testing.F) {
	for _, value := range []string{`</a>; rel=next`, `<a>;b="c\\"`, `,,<`, `<>;;;=`, `<a>;rel="`} {
		f.Add(value)
	}
	f.Fuzz(func(t *testing.T, value string) {
		if to, ok := nextLink(value); ok && !strings.Contains(value, "<"+to+">") {
			t.Errorf("%q leads to %q", value, to)
		}
	})
}
