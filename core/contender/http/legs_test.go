package http

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/contender/conformance"
	"paceduel/core/contender/http/lean"
	"paceduel/core/plan"
	"paceduel/core/shots"
	"paceduel/core/spans"
)

// quay serves what a vessel's page is made of, and takes down who was there at the same time.
type quay struct {
	*httptest.Server
	mu     sync.Mutex
	there  int
	done   int
	most   int
	asked  []string
	gather int // requests under /meet are answered when so many are there
	met    sync.Cond
}

func newQuay(t *testing.T, start func(*httptest.Server)) *quay {
	t.Helper()
	q := &quay{}
	q.met.L = &q.mu
	q.Server = httptest.NewUnstartedServer(http.HandlerFunc(q.serve))
	start(q.Server)
	t.Cleanup(q.Close)
	return q
}

func (q *quay) serve(w http.ResponseWriter, r *http.Request) {
	q.mu.Lock()
	q.there++
	q.most = max(q.most, q.there)
	q.asked = append(q.asked, r.Method+" "+r.URL.RequestURI())
	for strings.HasPrefix(r.URL.Path, "/meet") && q.most < q.gather {
		q.met.Wait()
	}
	for r.URL.RequestURI() == "/last?3" && q.done < 3 { // the vessel, and the other two
		q.met.Wait()
	}
	q.met.Broadcast()
	q.mu.Unlock()
	defer func() {
		q.mu.Lock()
		q.there--
		q.done++
		q.met.Broadcast()
		q.mu.Unlock()
	}()
	w.Header().Set("Content-Type", "application/json")
	switch path := r.URL.Path; path {
	case "/vessel":
		w.Header().Set("Berth", "B 7")
		http.SetCookie(w, &http.Cookie{Name: "clerk", Value: "Oda"})
		fmt.Fprint(w, `{"name":"Brim","berth":{"id":12},"calls":[{"id":3},{"id":5},{"id":8}],"none":null,"odd":{},`+
			`"empty":[]}`)
	case "/calls/1":
		fmt.Fprint(w, `{"calls":[1,2],"at":1,"next":"/calls/2"}`)
	case "/calls/2":
		fmt.Fprint(w, `{"calls":[3],"at":2,"next":"3"}`)
	case "/calls/3":
		fmt.Fprint(w, `{"calls":[4],"at":3}`)
	case "/calls/4":
		fmt.Fprint(w, `{"calls":[]}`)
	case "/calls/5":
		fmt.Fprint(w, `{"calls":[],"next":"/sunk"}`)
	case "/calls/loop":
		fmt.Fprint(w, `{"calls":[],"next":"/calls/loop"}`)
	case "/calls/away":
		fmt.Fprint(w, `{"calls":[],"next":"http://10.1.2.3/calls"}`)
	case "/sunk":
		http.Error(w, "sunk", http.StatusGone)
	case "/text":
		fmt.Fprint(w, "no JSON")
	default:
		body := make([]byte, 100)
		n, _ := r.Body.Read(body)
		fmt.Fprintf(w, "%q", path+"?"+r.URL.RawQuery+" "+r.Header.Get("Note")+" "+string(body[:n]))
	}
}

// meet has requests under /meet wait until so many are there.
func (q *quay) meet(n int) {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.gather = n
}

// take forgets what was asked so far.
func (q *quay) take() (asked []string, most int) {
	q.mu.Lock()
	defer q.mu.Unlock()
	asked, most = q.asked, q.most
	q.asked, q.most = nil, 0
	return asked, most
}

func legged(q *quay, order string, legs ...Leg) *Settings {
	s := New().(*Settings)
	s.URL, s.Order, s.Legs = q.URL, order, legs
	if q.TLS != nil {
		s.TLS = &TLS{Insecure: true}
	}
	return s
}

// ways are those in which legs may be performed.
var ways = []struct {
	name   string
	start  func(*httptest.Server)
	least  means
	change func(*Settings)
}{
	{"crew", (*httptest.Server).Start, byCrew, nil},
	{"lean clients", (*httptest.Server).Start, byLean, nil},
	{"full", (*httptest.Server).Start, byFull, nil},
	{"a pool", (*httptest.Server).Start, byCrew, func(s *Settings) { s.Connections = 4 }},
	{"new connections", (*httptest.Server).Start, byCrew, func(s *Settings) { s.Connections = plan.Fresh }},
	{"TLS", (*httptest.Server).StartTLS, byCrew, nil},
	{
		"HTTP/2", func(s *httptest.Server) { s.EnableHTTP2 = true; s.StartTLS() }, byCrew,
		func(s *Settings) { s.Protocol = http2 },
	},
}

// eachWay performs shots in every way.
func eachWay(t *testing.T, do func(t *testing.T, q *quay, shoot func(*testing.T, *Settings) shots.Shot)) {
	for _, way := range ways {
		t.Run(way.name, func(t *testing.T) {
			q := newQuay(t, way.start)
			do(t, q, func(t *testing.T, s *Settings) shots.Shot {
				t.Helper()
				if way.change != nil {
					way.change(s)
				}
				shot := inView(t, s, way.least)
				shot.Inside = slices.Clone(shot.Inside)
				return shot
			})
		})
	}
}

func TestLegsOneAfterAnother(t *testing.T) {
	eachWay(t, func(t *testing.T, q *quay, shoot func(*testing.T, *Settings) shots.Shot) {
		shot := shoot(t, legged(q, inTurn, Leg{Name: "vessel", URL: "/vessel"}, Leg{Name: "berth", URL: "/berth"},
			Leg{Name: "tide", URL: "/tide?day=1"}))
		asked, most := q.take()
		want := []string{"GET /vessel", "GET /berth", "GET /tide?day=1"}
		if shot.Class != shots.OK || !slices.Equal(asked, want) || most != 1 {
			t.Fatalf("%s %v: %q, %d at once", shot.Class, shot.Err, asked, most)
		}
		if shot.Amounts[lean.Requests] != 3 || !shot.InsideKnown || len(shot.Inside) != 3 || len(shot.Told) != 3 {
			t.Errorf("%v, %+v, told %v", shot.Amounts, shot.Inside, shot.Told)
		}
		// What lies between two legs is ours, so that the legs make the latency.
		in := spans.Look(&spans.Shot{Length: shot.Latency(), Spans: shot.Inside, Known: true})
		if in.Idle > shot.Latency()/20 || in.Added > shot.Latency() {
			t.Errorf("%s idle of %s, legs of %s", in.Idle, shot.Latency(), in.Added)
		}
		if body := string(shot.View.Body); !strings.HasPrefix(body, `{"vessel":{"name":"Brim"`) ||
			!strings.HasSuffix(body, `"berth":"/berth?  ","tide":"/tide?day=1  "}`) {
			t.Errorf("answer %s", body)
		}
	})
}

// Legs that need nothing of each other are under way together: the service answers none before all are there.
func TestLegsAtOnce(t *testing.T) {
	eachWay(t, func(t *testing.T, q *quay, shoot func(*testing.T, *Settings) shots.Shot) {
		q.meet(4)
		shot := shoot(t, legged(q, "", Leg{Name: "a", URL: "/meet/a"}, Leg{Name: "b", URL: "/meet/b"},
			Leg{Name: "c", URL: "/meet/c"}, Leg{Name: "d", URL: "/meet/d"}))
		if _, most := q.take(); shot.Class != shots.OK || most != 4 || len(shot.Inside) != 4 {
			t.Fatalf("%s %v: %d at once, %+v", shot.Class, shot.Err, most, shot.Inside)
		}
	})
}

// The request that is sent second may begin first, and end last: the shot lasts from the first beginning to the last
// end, and what was ours before both is no part of it.
func TestAShotBeginsWithItsEarliestLeg(t *testing.T) {
	q := newQuay(t, (*httptest.Server).Start)
	settings := legged(q, "", Leg{Name: "a", URL: "/a"}, Leg{Name: "b", URL: "/b"})
	if faults := settings.Check(plan.Surroundings{Dir: t.TempDir()}); len(faults) > 0 {
		t.Fatalf("%v", faults)
	}
	d, err := open(contender.Setup{Dir: t.TempDir(), Clock: clock.Start()}, settings, byFull)
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	c := d.Client(0, 1).(*legClient)
	defer c.Close()
	shot := shots.Shot{Start: 100}
	c.shot, c.last = &shot, shot.Start
	for i := range c.state {
		c.state[i].longest = -1
	}
	a, b := c.take(), c.take()
	a.shot, b.shot = shots.Shot{Start: 130, End: 150}, shots.Shot{Start: 110, End: 190}
	a.shot.Count(lean.FirstByte, 15)
	b.shot.Count(lean.FirstByte, 20)
	c.took(t.Context(), a)
	c.took(t.Context(), b)
	c.end(t.Context())
	if shot.Start != 110 || shot.End != 190 || shot.Latency() != 80 || shot.Amounts[lean.FirstByte] != 20 {
		t.Errorf("from %d to %d, latency %d, first byte after %d; want 110, 190, 80, 20",
			shot.Start, shot.End, shot.Latency(), shot.Amounts[lean.FirstByte])
	}
	if in := shot.Inside; in[0].Begin != 20 || in[0].End != 40 || in[1].Begin != 0 || in[1].End != 80 {
		t.Errorf("inside: %+v", in)
	}
}

// A diamond: two legs need the first and run together, the last needs both.
func TestLegsThatNeedEachOther(t *testing.T) {
	eachWay(t, func(t *testing.T, q *quay, shoot func(*testing.T, *Settings) shots.Shot) {
		q.meet(2)
		shot := shoot(t, legged(q, "",
			Leg{Name: "bill", URL: "/bill", Needs: []string{"berth", "pilot"}},
			Leg{Name: "berth", URL: "/meet/berth/{{vessel.berth}}?at={{vessel.quay}}"},
			Leg{Name: "pilot", URL: "meet/pilot", Method: "POST", Body: `{"for":"{{vessel.name}}"}`,
				Headers: map[string]plan.Word{"Note": "by {{vessel.clerk}}"}},
			Leg{Name: "vessel", URL: "/vessel", Take: map[string]plan.Word{
				"berth": "/berth/id", "name": "/name", "quay": "header berth", "clerk": "cookie clerk",
			}}))
		asked, most := q.take()
		slices.Sort(asked[1:3])
		want := []string{"GET /vessel", "GET /meet/berth/12?at=B+7", "POST /meet/pilot", "GET /bill"}
		if shot.Class != shots.OK || !slices.Equal(asked, want) || most != 2 {
			t.Fatalf("%s %v: %q, %d at once", shot.Class, shot.Err, asked, most)
		}
		if body := string(shot.View.Body); !strings.Contains(body, `"pilot":"/meet/pilot? by Oda {\"for\":\"Brim\"}"`) {
			t.Errorf("answer %s", body)
		}
		names := map[string][]string{}
		for _, sp := range shot.Inside {
			names[sp.Name] = []string{}
			for _, need := range sp.Needs {
				names[sp.Name] = append(names[sp.Name], shot.Inside[need].Name)
			}
		}
		if !slices.Equal(names["bill"], []string{"berth", "pilot"}) || !slices.Equal(names["pilot"], []string{"vessel"}) ||
			len(names["vessel"]) != 0 {
			t.Errorf("needs %v", names)
		}
	})
}

func TestALegForEachItem(t *testing.T) {
	eachWay(t, func(t *testing.T, q *quay, shoot func(*testing.T, *Settings) shots.Shot) {
		vessel := Leg{Name: "vessel", URL: "/vessel", Take: map[string]plan.Word{"calls": "/calls", "empty": "/empty"}}
		for _, atOnce := range []int{0, 2} {
			q.meet(max(atOnce, 1))
			shot := shoot(t, legged(q, "", vessel,
				Leg{Name: "call", URL: "/meet?id={{each/id}}", Each: "vessel.calls", AtOnce: atOnce},
				Leg{Name: "nothing", URL: "/{{each}}", Each: "vessel.empty"}))
			asked, most := q.take()
			slices.Sort(asked[1:])
			want := []string{"GET /vessel", "GET /meet?id=3", "GET /meet?id=5", "GET /meet?id=8"}
			if shot.Class != shots.OK || !slices.Equal(asked, want) || most != max(atOnce, 1) ||
				shot.Amounts[lean.Requests] != 4 {
				t.Fatalf("%s %v: %q, %d at once", shot.Class, shot.Err, asked, most)
			}
			if !strings.Contains(string(shot.View.Body), `"call":["/meet?id=`) {
				t.Errorf("answer %s", shot.View.Body)
			}
		}
	})
}

// What is compared stands in the order of the list, however the answers come: the first item's is the last here.
func TestAnswersStandInTheOrderOfItems(t *testing.T) {
	eachWay(t, func(t *testing.T, q *quay, shoot func(*testing.T, *Settings) shots.Shot) {
		vessel := Leg{Name: "vessel", URL: "/vessel", Take: map[string]plan.Word{"calls": "/calls"}}
		shot := shoot(t, legged(q, "", vessel, Leg{Name: "call", URL: "/last?{{each/id}}", Each: "vessel.calls", AtOnce: 3}))
		if body := string(shot.View.Body); !strings.Contains(body, `"call":["/last?3  ","/last?5  ","/last?8  "]`) {
			t.Errorf("%v: %s", shot.Err, body)
		}
	})
}

// A leg's list is read page by page, and what it takes is of all pages; the marks of a leg are those of its answers.
func TestALegOfPages(t *testing.T) {
	eachWay(t, func(t *testing.T, q *quay, shoot func(*testing.T, *Settings) shots.Shot) {
		pages := &Pages{Next: "/next", List: "/calls"}
		take := map[string]plan.Word{"calls": "/calls", "at": "/at"}
		list := Leg{Name: "list", URL: "/calls/1", Pages: pages, Take: take}
		call := Leg{Name: "call", URL: "/call?{{each}}&{{list.at}}", Each: "list.calls", AtOnce: 4}
		shot := shoot(t, legged(q, "", list, call))
		asked, _ := q.take()
		if len(asked) > 3 {
			slices.Sort(asked[3:])
		}
		want := []string{
			"GET /calls/1", "GET /calls/2", "GET /calls/3", "GET /call?1&3", "GET /call?2&3", "GET /call?3&3", "GET /call?4&3",
		}
		if shot.Class != shots.OK || !slices.Equal(asked, want) || shot.Amounts[lean.Pages] != 3 {
			t.Fatalf("%s %v: %q, %v", shot.Class, shot.Err, asked, shot.Amounts)
		}
		if body := string(shot.View.Body); !strings.HasPrefix(body, `{"list":[1,2,3,4],"call":[`) {
			t.Errorf("answer %s", body)
		}
		s := shot.Inside
		if s[1].Name != "list" || !slices.Equal(s[1].Needs, []int{0}) || !slices.Equal(s[2].Needs, []int{1}) {
			t.Errorf("inside %+v", s)
		}
		for _, sp := range s[3:] { // whoever needs the list needs its last page
			if !slices.Equal(sp.Needs, []int{2}) {
				t.Errorf("%s needs %v", sp.Name, sp.Needs)
			}
		}
		// Several lists at a time, each of which goes on by itself.
		two := &Pages{Next: "/next", Most: 2}
		lists := Leg{Name: "lists", URL: "/calls/{{each}}", Each: "list.calls", AtOnce: 3, Pages: two}
		shot = shoot(t, legged(q, "", list, lists))
		if asked, _ := q.take(); shot.Class != shots.OK || len(asked) != 3+2+2+1+1 || shot.Amounts[lean.Pages] != 9 {
			t.Errorf("%s %v: %q", shot.Class, shot.Err, asked)
		}
		for url, want := range map[string]string{
			"/calls/loop": "leg list: page 1: it leads back to /calls/loop", "/calls/away": "10.1.2.3 is not this machine",
			"/calls/5": "leg list, page 2: status 410",
		} {
			list.URL = url
			if shot = shoot(t, legged(q, "", list)); !strings.Contains(fmt.Sprint(shot.Err), want) {
				t.Errorf("%s: %v; want %s", url, shot.Err, want)
			}
		}
	})
}

func TestMarksOfLegs(t *testing.T) {
	q := newQuay(t, (*httptest.Server).Start)
	s := legged(q, "", Leg{Name: "vessel", URL: "/vessel", Marks: plan.Marks{
		"berth": {Pointer: "/berth/id", Unit: "number"},
	}}, Leg{Name: "list", URL: "/calls/1", Pages: &Pages{Next: "/next"}, Marks: plan.Marks{
		"last": {Pointer: "/at", Unit: "page"},
	}})
	shot := inView(t, s, byCrew)
	got := map[string]float64{}
	for _, m := range shot.Told {
		got[m.Name] += m.Value
	}
	if shot.Class != shots.OK || got["berth"] != 12 || got["last"] != 1+2+3 {
		t.Errorf("%s %v: %v", shot.Class, shot.Err, shot.Told)
	}
	if len(s.Marked()) != 2 || s.fullOnly([]request{{url: &url.URL{}}}) != "marks" {
		t.Errorf("marks %v", s.Marked())
	}
	s.Legs[1].Marks["berth"] = plan.Mark{Pointer: "/at"}
	faults := s.Check(plan.Surroundings{Dir: t.TempDir()})
	if len(faults) != 1 || faults[0].Key != "legs[1].marks.berth" {
		t.Errorf("%v", faults)
	}
}

// A failure names the leg, whatever it comes from, and what has not begun is not asked for.
func TestLegsThatFail(t *testing.T) {
	vessel := Leg{Name: "vessel", URL: "/vessel", Take: map[string]plan.Word{
		"none": "/none", "gone": "/no/such", "odd": "/odd", "calls": "/calls", "name": "/name",
	}}
	eachWay(t, func(t *testing.T, q *quay, shoot func(*testing.T, *Settings) shots.Shot) {
		for _, tt := range []struct {
			leg   Leg
			class shots.Class
			want  string
		}{
			{Leg{URL: "/sunk?{{vessel.name}}"}, shots.Status, "leg second: status 410 Gone, expected 200 to 299"},
			{
				Leg{URL: "/{{vessel.none}}"}, shots.Other,
				"leg second: it needs {{vessel.none}}, and the answer of vessel has nothing at /none",
			},
			{Leg{URL: "/{{vessel.gone}}"}, shots.Other, "nothing at /no/such"},
			{Leg{URL: "/{{vessel.odd}}"}, shots.Other, "nothing at /odd"},
			{Leg{URL: "/{{vessel.calls}}"}, shots.Other, "that is a list: ask for each of it"},
			{Leg{URL: "/{{each}}", Each: "vessel.name"}, shots.Other, "what leg vessel has at /name is no list"},
			{
				Leg{URL: "/{{each}}", Each: "vessel.calls"}, shots.Other,
				"leg second: item 1: what stands for {{each}} is neither",
			},
			{
				Leg{URL: "/{{each/id}}/x", Each: "vessel.calls", Expect: 404}, shots.Status,
				"leg second, item 1 of 3: status 200 OK, expected 404",
			},
		} {
			tt.leg.Name = "second"
			shot := shoot(t, legged(q, "", vessel, tt.leg, Leg{Name: "third", URL: "/third", Needs: []string{"second"}}))
			if shot.Class != tt.class || !strings.Contains(fmt.Sprint(shot.Err), tt.want) {
				t.Errorf("%s: %s: %v; want %s", tt.leg.URL, shot.Class, shot.Err, tt.want)
			}
			if asked, _ := q.take(); slices.Contains(asked, "GET /third") {
				t.Errorf("%s: what needs it was asked for all the same", tt.leg.URL)
			}
		}
		shot := shoot(t, legged(q, "", Leg{Name: "text", URL: "/text", Take: map[string]plan.Word{"a": "/a"}}))
		want := "leg text: its values cannot be read, since it is no JSON"
		if !strings.HasPrefix(fmt.Sprint(shot.Err), want) {
			t.Errorf("%v; want %s", shot.Err, want)
		}
	})
}

// Values come from answers, and none of them breaks out of where it stands or leads to somebody else.
func TestValuesStayWhereTheyAre(t *testing.T) {
	evil := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/first" {
			fmt.Fprint(w, `{"line":"a\r\nEvil: yes","path":"a b/../c?d=e#f","host":"10.1.2.3"}`)
			return
		}
		fmt.Fprintf(w, "%s %s", r.URL.RequestURI(), r.Header.Get("Evil"))
	}))
	defer evil.Close()
	take := map[string]plan.Word{"line": "/line", "path": "/path", "host": "/host"}
	for _, path := range []string{"lean", "full"} {
		for _, tt := range []struct {
			second Leg
			want   string
		}{
			{Leg{URL: "/{{a.path}}"}, `/a+b%2F..%2Fc%3Fd%3De%23f `},
			{Leg{URL: "/x", Headers: map[string]plan.Word{"Note": "{{a.line}}"}}, "cannot be sent in a header"},
			{Leg{URL: "http://{{a.host}}/x"}, "10.1.2.3 is not this machine"},
		} {
			s := New().(*Settings)
			tt.second.Name = "b"
			s.URL, s.Path, s.Legs = evil.URL, path, []Leg{{Name: "a", URL: "/first", Take: take}, tt.second}
			if strings.Contains(tt.second.URL, "a.host") && path == "lean" {
				continue // which knows one server
			}
			shot := paged(t, s)
			if got := fmt.Sprint(shot.Err) + string(shot.View.Body); !strings.Contains(got, tt.want) {
				t.Errorf("%s %s: %s; want %s", path, tt.second.URL, got, tt.want)
			}
		}
	}
}

func TestLegsThatCannotBe(t *testing.T) {
	take := map[string]plan.Word{"id": "/id"}
	for _, tt := range []struct {
		want string
		set  func(*Settings)
		legs []Leg
	}{
		{"legs[0]: a leg without a name", nil, []Leg{{URL: "/"}}},
		{`legs[0].name: "a.b" is no name for a leg`, nil, []Leg{{Name: "a.b", URL: "/"}}},
		{"legs[1].name: two legs are called a", nil, []Leg{{Name: "a", URL: "/"}, {Name: "a", URL: "/"}}},
		{`legs[0].needs[0]: no leg is called "b"`, nil, []Leg{{Name: "a", URL: "/", Needs: []string{"b"}}}},
		{"legs[0].needs[0]: leg a needs itself", nil, []Leg{{Name: "a", URL: "/", Needs: []string{"a"}}}},
		{"legs need each other in a circle: a for b for a", nil, []Leg{
			{Name: "a", URL: "/", Needs: []string{"b"}}, {Name: "b", URL: "/", Needs: []string{"a"}},
		}},
		{"legs[0].needs[0]: leg b comes after a, which needs it", func(s *Settings) { s.Order = inTurn }, []Leg{
			{Name: "a", URL: "/", Needs: []string{"b"}}, {Name: "b", URL: "/"},
		}},
		{`legs[1].url: leg a takes no value called "name"`, nil, []Leg{
			{Name: "a", URL: "/", Take: take}, {Name: "b", URL: "/{{a.name}}"},
		}},
		{"legs[0].url: {{each}} stands for an item, and there is no list", nil, []Leg{{Name: "a", URL: "/{{each}}"}}},
		{`legs[0].take.x: "id" says nothing that is in an answer`, nil, []Leg{
			{Name: "a", URL: "/", Take: map[string]plan.Word{"x": "id"}},
		}},
		{"legs[1].take: a leg of many requests takes no values", nil, []Leg{
			{Name: "a", URL: "/", Take: take}, {Name: "b", URL: "/{{each}}", Each: "a.id", Take: take},
		}},
		{"legs[0].at-once: at-once says how many", nil, []Leg{{Name: "a", URL: "/", AtOnce: 2}}},
		{`legs[0].url: no column is called "berth"`, nil, []Leg{{Name: "a", URL: "/{{berth}}"}}},
		{"legs[0].headers.N\n: ", nil, []Leg{{Name: "a", URL: "/", Headers: map[string]plan.Word{"N\n": "x"}}}},
		{"legs[0].url: 10.1.2.3 is not this machine", nil, []Leg{{Name: "a", URL: "http://10.1.2.3/"}}},
		{"batch: legs and batch do not go together", func(s *Settings) { s.Batch = 3 }, []Leg{{Name: "a", URL: "/"}}},
		{"order: order says how legs are done", func(s *Settings) { s.Order = inTurn }, nil},
		{"path: the lean path does not know more than one server", func(s *Settings) { s.Path = "lean" }, []Leg{
			{Name: "a", URL: "/"}, {Name: "b", URL: "http://127.0.0.2/"},
		}},
	} {
		s := New().(*Settings)
		s.URL, s.Legs = "http://127.0.0.1:9", tt.legs
		if tt.set != nil {
			tt.set(s)
		}
		var got []string
		for _, f := range s.Check(plan.Surroundings{Dir: t.TempDir()}) {
			got = append(got, f.Key+": "+f.What)
		}
		if len(got) != 1 || !strings.HasPrefix(got[0], tt.want) && !strings.Contains(got[0], tt.want) {
			t.Errorf("%q; want %s", got, tt.want)
		}
	}
}

func TestAddressesOfLegs(t *testing.T) {
	for _, tt := range [][3]string{
		{"http://h:1/a/b?c", "/d", "http://h:1/d"}, {"http://h:1", "/d", "http://h:1/d"}, {"http://h?c", "/d", "http://h/d"},
		{"http://h:1/a/", "d", "http://h:1/a/d"}, {"http://h:1/a?c", "d", "http://h:1/a/d"},
		{"http://h:1/a?c", "?d", "http://h:1/a?d"},
		{"http://h:1/a", "http://g/d", "http://g/d"}, {"", "http://g/d", "http://g/d"},
	} {
		if got := joined(tt[0], tt[1]); got != tt[2] {
			t.Errorf("%s and %s make %s; want %s", tt[0], tt[1], got, tt[2])
		}
	}
}

// Shots of several requests keep the contract of all contenders, on every path.
func TestLegsKeepTheContract(t *testing.T) {
	for _, path := range []string{"lean", "full"} {
		t.Run(path, func(t *testing.T) {
			s := harbour(t)
			of := func(second string, change func(*Settings)) *Settings {
				return asking(s.URL, func(s *Settings) {
					s.Path, s.Legs = path, []Leg{{Name: "a", URL: "/tide"}, {Name: "b", URL: second}}
					if change != nil {
						change(s)
					}
				})
			}
			const limit = 50 * time.Millisecond
			conformance.Run(t, conformance.Subject{
				Kind: Kind, Good: of("/tide", nil), Body: "tide is in\ntide is in", Carries: 20,
				Hangs: of("/hang", nil), Slow: of("/hang", func(s *Settings) { s.Timeout = plan.Span(limit) }), Limit: limit,
				Failures: map[shots.Class]plan.Settings{
					shots.Status: of("/missing", nil),
					shots.Other:  of("/tide", func(s *Settings) { s.Legs[0].Take = map[string]plan.Word{"x": "/x"} }),
				},
			})
		})
	}
}
