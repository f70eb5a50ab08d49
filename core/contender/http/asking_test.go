package http

import (
	"encoding/base64"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/contender/http/lean"
	"paceduel/core/plan"
	"paceduel/core/shots"
	"paceduel/core/units"
)

// Whatever the path, the parts of a shot's time add up to no more than the whole, and are there when they were spent.
func TestSplits(t *testing.T) {
	inClear := harbour(t)
	overTLS, ca := secure(t)
	for _, path := range []string{"full", "lean"} {
		for _, server := range []*httptest.Server{inClear, overTLS} {
			s := asking(server.URL+"/told", func(s *Settings) { s.Path, s.Connections = path, plan.Fresh })
			if server == overTLS {
				s.TLS = &TLS{CA: ca}
			}
			for i, shot := range shoot(t, s, 2) {
				at := fmt.Sprintf("%s %s, shot %d", path, server.URL, i)
				if shot.Class != shots.OK {
					t.Fatalf("%s: %v", at, shot.Err)
				}
				if (shot.Parts[lean.TLS] > 0) != (server == overTLS) || connected(shot) <= 0 ||
					shot.Parts[lean.Lookup]+shot.Parts[lean.TLS] > connected(shot) {
					t.Errorf("%s: look-up %s, TLS %s of %s", at, shot.Parts[lean.Lookup], shot.Parts[lean.TLS], connected(shot))
				}
				if asked(shot) < connected(shot) || firstByte(shot) < connected(shot) || firstByte(shot) > shot.Latency() {
					t.Errorf(
						"%s: connected %s, asked %s, first byte %s of %s", at, connected(shot), asked(shot), firstByte(shot),
						shot.Latency(),
					)
				}
				want := []shots.Mark{
					{Name: "db", Unit: units.Second, Value: 0.0125}, {Name: "board", Unit: units.Second, Value: 0.003},
				}
				if !slices.Equal(shot.Told, want) {
					t.Errorf("%s: told %v; want %v", at, shot.Told, want)
				}
			}
		}
	}
}

// counted is a server that counts its connections and who sends it what.
type counted struct {
	*httptest.Server
	connections atomic.Int64
	mu          sync.Mutex
	headers     []http.Header
	bodies      []string
	most, now   int
}

// seen takes what was sent since it was last called.
func (c *counted) seen() (headers []http.Header, bodies []string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	headers, bodies = c.headers, c.bodies
	c.headers, c.bodies = nil, nil
	return headers, bodies
}

func newCounted(t *testing.T, takes time.Duration) *counted {
	c := &counted{}
	c.Server = httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		c.mu.Lock()
		c.headers, c.bodies = append(c.headers, r.Header), append(c.bodies, string(body))
		c.now++
		c.most = max(c.most, c.now)
		c.mu.Unlock()
		time.Sleep(takes) // what the server's work takes
		c.mu.Lock()
		c.now--
		c.mu.Unlock()
		io.WriteString(w, r.URL.Query().Get("t")+";")
	}))
	c.Config.ConnState = func(_ net.Conn, s http.ConnState) {
		if s == http.StateNew {
			c.connections.Add(1)
		}
	}
	c.Config.Protocols = new(http.Protocols)
	c.Config.Protocols.SetHTTP1(true)
	c.Config.Protocols.SetUnencryptedHTTP2(true)
	c.Start()
	t.Cleanup(c.Close)
	return c
}

// A new connection each time, one kept by each client, and a pool: the server counts as many as were asked for.
func TestTheServerCountsTheConnections(t *testing.T) {
	const clients, fired = 6, 4
	for _, protocol := range []string{"http1", http2} {
		for mode, want := range map[plan.Connections]int64{plan.Fresh: clients * fired, plan.Kept: clients, 2: 2} {
			server := newCounted(t, time.Millisecond)
			d, err := open(contender.Setup{
				Clock: clock.Start(),
			}, asking(server.URL, func(s *Settings) { s.Protocol, s.Connections, s.Path = protocol, mode, "full" }), byCrew)
			if err != nil {
				t.Fatal(err)
			}
			var opened, received atomic.Int64
			var wg sync.WaitGroup
			var all []contender.Client
			for i := range clients {
				all = append(all, d.Client(i, clients))
			}
			for _, c := range all {
				wg.Go(func() {
					defer c.Close()
					for range fired {
						var shot shots.Shot
						c.Shoot(t.Context(), &shot)
						if shot.Class != shots.OK || connected(shot) > shot.Latency() {
							t.Errorf(
								"%s, %d: %s %v, connected %s of %s", protocol, mode, shot.Class, shot.Err, connected(shot), shot.Latency(),
							)
						}
						if connected(shot) > 0 {
							opened.Add(1)
						}
						received.Add(shot.Received)
					}
				})
			}
			wg.Wait()
			// One of a pool that was opened for a shot which then got another is nobody's.
			told := opened.Load() == want || mode > 0 && opened.Load() >= 1 && opened.Load() < want
			if got := server.connections.Load(); got != want || !told {
				t.Errorf(
					"%s, connections %d: the server counts %d, the shots %d; want %d", protocol, mode, got, opened.Load(), want,
				)
			}
			if received.Load() < clients*fired {
				t.Errorf("%s, connections %d: %d bytes received", protocol, mode, received.Load())
			}
			d.Close()
		}
	}
}

func TestABatchIsOneShot(t *testing.T) {
	rows := filepath.Join(t.TempDir(), "rows.csv")
	if err := os.WriteFile(rows, []byte("tide\na\nb\nc\nd\ne\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	overTLS, ca := secure(t)
	for name, by := range map[string]means{"crew": byCrew, "lean": byLean, "full": byFull} {
		for _, atOnce := range []int{1, 3} {
			server := newCounted(t, 5*time.Millisecond)
			fired := shootBy(
				t, asking(server.URL+"/?t={{tide}}", func(s *Settings) { s.Rows, s.Batch, s.AtOnce = rows, 7, atOnce }), by, 2,
			)
			for i, want := range []string{"a;b;c;d;e;a;b;", "c;d;e;a;b;c;d;"} {
				shot := fired[i]
				if got := string(shot.View.Body); shot.Class != shots.OK || got != want || shot.View.Bytes != 14 ||
					shot.Length != 14 {
					t.Errorf(
						"%s, %d at once: %s %v, answered %q of %d bytes; want %q", name, atOnce, shot.Class, shot.Err, got,
						shot.View.Bytes, want,
					)
				}
				if steps := (7 + atOnce - 1) / atOnce; shot.Latency() < time.Duration(steps)*5*time.Millisecond {
					t.Errorf("%s, %d at once: 7 answers of 5 ms each came within %s", name, atOnce, shot.Latency())
				}
			}
			if _, bodies := server.seen(); server.most > atOnce || len(bodies) != 14 ||
				server.connections.Load() > int64(atOnce) ||
				fired[0].Amounts[lean.Connections] != int64(server.connections.Load()) {
				t.Errorf(
					"%s, %d at once: the server saw %d requests, %d at a time, over %d connections; the shot says %d", name, atOnce,
					len(bodies), server.most, server.connections.Load(), fired[0].Amounts[lean.Connections],
				)
			}
		}
	}
	shot := shoot(
		t, asking(overTLS.URL+"/missing", func(s *Settings) { s.Batch, s.AtOnce, s.TLS = 3, 2, &TLS{CA: ca} }), 1,
	)[0]
	if shot.Class != shots.Status || !strings.Contains(shot.Err.Error(), "request 1 of 3: status 404") {
		t.Errorf("a batch with failures: %s %v", shot.Class, shot.Err)
	}
}

// It is long since its cases are listed in it.
func TestBodiesAndWhoAsks(t *testing.T) {
	dir := t.TempDir()
	files := map[string]string{"cargo.json": `{"cargo":"salt cod"}`, "rows.csv": "hold\n1\n2\n"}
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	server := newCounted(t, 0)
	setup := contender.Setup{Clock: clock.Start(), Dir: dir}
	ask := func(n int, change func(*Settings)) (http.Header, []string) {
		t.Helper()
		s := asking(server.URL, func(s *Settings) { s.Method = "POST"; change(s) })
		if faults := s.Check(plan.Surroundings{Dir: dir}); len(faults) > 0 {
			t.Fatal(faults)
		}
		server.seen()
		d, err := open(setup, s, byCrew)
		if err != nil {
			t.Fatal(err)
		}
		c := d.Client(0, 1)
		defer c.Close()
		for range n {
			var shot shots.Shot
			if c.Shoot(t.Context(), &shot); shot.Class != shots.OK {
				t.Fatal(shot.Err)
			}
		}
		headers, bodies := server.seen()
		return headers[0], bodies
	}
	if _, bodies := ask(1, func(s *Settings) { s.BodyFile = "cargo.json" }); bodies[0] != files["cargo.json"] {
		t.Errorf("a file arrives as %q", bodies[0])
	}
	head, bodies := ask(2, func(s *Settings) {
		s.Rows = "rows.csv"
		s.Parts = []Part{{Name: "hold", Value: "{{hold}}"}, {Name: "list", File: "cargo.json", Type: "application/json"}}
	})
	for i, hold := range []string{"1", "2"} {
		r := httptest.NewRequest("POST", "/", strings.NewReader(bodies[i]))
		r.Header = head
		if err := r.ParseMultipartForm(1 << 20); err != nil {
			t.Fatal(err)
		}
		file := r.MultipartForm.File["list"][0]
		if r.FormValue("hold") != hold || file.Filename != "cargo.json" || file.Size != int64(len(files["cargo.json"])) ||
			file.Header.Get("Content-Type") != "application/json" {
			t.Errorf("the parts arrive as hold %q and %+v", r.FormValue("hold"), file)
		}
	}
	basic := base64.StdEncoding.EncodeToString([]byte("quay:salt:cod"))
	for _, path := range []string{"full", "lean"} {
		if head, _ := ask(1, func(s *Settings) {
			s.Path, s.Auth = path, &Auth{
				User: "quay", Password: "salt:cod",
			}
		}); head.Get("Authorization") != "Basic "+basic {
			t.Errorf("a user arrives as %q", head.Get("Authorization"))
		}
		if head, _ := ask(
			1, func(s *Settings) { s.Path, s.Auth = path, &Auth{Bearer: "tide"} },
		); head.Get("Authorization") != "Bearer tide" {
			t.Errorf("a token arrives as %q", head.Get("Authorization"))
		}
	}
	// Every shot is a trace of its own, which the shot knows.
	d, err := open(setup, asking(server.URL, func(s *Settings) { s.Trace = true }), byCrew)
	if err != nil {
		t.Fatal(err)
	}
	c := d.Client(0, 1)
	defer c.Close()
	server.seen()
	seen := map[string]bool{}
	for range 3 {
		var shot shots.Shot
		c.Shoot(t.Context(), &shot)
		headers, _ := server.seen()
		got := headers[0].Get("Traceparent")
		if want := fmt.Sprintf("00-%x-%x-01", shot.Trace, shot.Trace[8:]); got != want || seen[got] {
			t.Errorf("traceparent %q; want %q, and no other like it", got, want)
		}
		seen[got] = true
	}
}

func TestCookiesBelongToAClient(t *testing.T) {
	s := harbour(t)
	for kept, want := range map[bool]string{true: "berth 7", false: "no berth yet"} {
		d, err := open(contender.Setup{
			Clock: clock.Start(),
		}, asking(s.URL+"/berth", func(s *Settings) { s.Cookies = kept }), byCrew)
		if err != nil {
			t.Fatal(err)
		}
		for i := range 2 {
			c := d.Client(i, 2)
			var last string
			for fired := range 2 {
				shot := shots.Shot{View: &shots.View{}}
				c.Shoot(t.Context(), &shot)
				last = string(shot.View.Body)
				if fired == 0 && last != "no berth yet" {
					t.Errorf("client %d begins with %q", i, last)
				}
			}
			if last != want {
				t.Errorf("cookies %v: client %d got %q at last; want %q", kept, i, last, want)
			}
			c.Close()
		}
	}
}

// The environment's proxy is left alone; the plan's is used, in clear and over TLS.
func TestAProxyIsUsedWhenSaid(t *testing.T) {
	var through atomic.Int64
	proxy := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		through.Add(1)
		if r.Method == http.MethodConnect {
			tunnel(t, w, r.Host)
			return
		}
		r.RequestURI = ""
		answer, err := http.DefaultTransport.RoundTrip(r)
		if err != nil {
			t.Error(err)
			return
		}
		defer answer.Body.Close()
		w.WriteHeader(answer.StatusCode)
		io.Copy(w, answer.Body)
	}))
	defer proxy.Close()
	t.Setenv("HTTP_PROXY", proxy.URL)
	t.Setenv("HTTPS_PROXY", proxy.URL)
	inClear := harbour(t)
	overTLS, ca := secure(t)
	for _, server := range []*httptest.Server{inClear, overTLS} {
		for _, said := range []string{"", proxy.URL} {
			before := through.Load()
			shot := shoot(t, asking(server.URL+"/tide", func(s *Settings) {
				s.Proxy = said
				if server == overTLS {
					s.TLS = &TLS{CA: ca}
				}
			}), 1)[0]
			if shot.Class != shots.OK || string(shot.View.Body) != "tide is in" || (through.Load() > before) != (said != "") {
				t.Errorf(
					"%s by proxy %q: %s %v, the proxy was asked %d times", server.URL, said, shot.Class, shot.Err,
					through.Load()-before,
				)
			}
			if (shot.Parts[lean.TLS] > 0) != (server == overTLS) {
				t.Errorf("%s by proxy %q: TLS took %s", server.URL, said, shot.Parts[lean.TLS])
			}
		}
	}
}

// The most demanding contender of a duel decides what all are driven with, but for those whose path is forced.
func TestContendersAreDrivenAlike(t *testing.T) {
	in := func(change func(*Settings)) *Settings { return asking("http://127.0.0.1:1/", change) }
	plain := in(nil)
	tests := map[string]struct {
		all  []plan.Settings
		want []means
	}{
		"all in clear":       {[]plan.Settings{plain, plain}, []means{byCrew, byCrew}},
		"one over TLS":       {[]plan.Settings{plain, asking("https://127.0.0.1:1/", nil)}, []means{byLean, byLean}},
		"one with a session": {[]plan.Settings{plain, in(func(s *Settings) { s.Cookies = true })}, []means{byFull, byFull}},
		"one that is forced": {[]plan.Settings{plain, in(func(s *Settings) { s.Path = "full" })}, []means{byCrew, byFull}},
		"forced to be lean": {[]plan.Settings{
			in(func(s *Settings) { s.Path = "lean" }), in(func(s *Settings) { s.Protocol = http2 }),
		}, []means{byCrew, byFull}},
	}
	for name, tt := range tests {
		for i, s := range Kind.Level(tt.all) {
			d, err := Kind.Open(contender.Setup{Clock: clock.Start()}, s)
			if err != nil {
				t.Fatal(err)
			}
			if got := d.(*driver).means; got != tt.want[i] {
				t.Errorf("%s: contender %d is driven by %d; want %d", name, i, got, tt.want[i])
			}
		}
	}
}

// What driving costs at least is measured on the path that all are forced onto.
func TestTheFloorTakesThePathOfAll(t *testing.T) {
	path := func(p string) *Settings {
		return asking("http://127.0.0.1:1/", func(s *Settings) { s.Path = p })
	}
	tests := map[string]struct {
		of   []plan.Settings
		want means
	}{
		"none forced":      {[]plan.Settings{path(""), path("")}, byCrew},
		"all to the full":  {[]plan.Settings{path("full"), path("full")}, byFull},
		"all to the lean":  {[]plan.Settings{path("lean"), path("lean")}, byCrew},
		"one of them":      {[]plan.Settings{path("full"), path("")}, byCrew},
		"each another way": {[]plan.Settings{path("lean"), path("full")}, byCrew},
		"unforced, demanding": {
			[]plan.Settings{path(""), asking("http://127.0.0.1:1/", func(s *Settings) { s.Cookies = true })}, byFull,
		},
	}
	for name, tt := range tests {
		s, stop, err := Kind.Floor(tt.of)
		if err != nil {
			t.Fatal(err)
		}
		d, err := Kind.Open(contender.Setup{Clock: clock.Start()}, Kind.Level(append([]plan.Settings{s}, tt.of...))[0])
		if err != nil {
			t.Fatal(err)
		}
		if got := d.(*driver).means; got != tt.want {
			t.Errorf("%s: the floor is driven by %d; want %d", name, got, tt.want)
		}
		d.Close()
		stop()
	}
}

// tunnel joins a proxy's client with the server that it names, until either hangs up.
func tunnel(t *testing.T, w http.ResponseWriter, host string) {
	there, err := net.Dial("tcp", host)
	if err != nil {
		t.Error(err)
		return
	}
	here, _, err := http.NewResponseController(w).Hijack()
	if err != nil {
		t.Error(err)
		return
	}
	io.WriteString(here, "HTTP/1.1 200 OK\r\n\r\n")
	go func() {
		io.Copy(there, here)
		there.Close()
	}()
	io.Copy(here, there)
	here.Close()
}

func TestMarksOfAnAnswer(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("X-Db", "rows in 2.5")
		w.Header().Set("Server-Timing", "cache;dur=1")
		if r.URL.Path == "/packed" {
			w.Header().Set("Content-Encoding", "br")
		}
		io.WriteString(w, `{"took":{"render":7},"rows":12}`)
	}))
	defer s.Close()
	for path, want := range map[string]string{
		"/plain": "cache=1.00 ms db=2.50 ms render=7.00 ms rows=12 rows", "/packed": "cache=1.00 ms db=2.50 ms",
	} {
		settings := New().(*Settings)
		settings.URL = s.URL + path
		settings.Marks = plan.Marks{
			"db": {
				From: "header", Header: "X-Db", Pattern: `in ([0-9.]+)`,
			}, "render": {Pointer: "/took/render"}, "rows": {Pointer: "/rows", Unit: "rows"},
		}
		if faults := settings.Check(plan.Surroundings{}); len(faults) > 0 {
			t.Fatal(faults)
		}
		if settings.Path = "lean"; len(settings.Check(plan.Surroundings{})) != 1 {
			t.Error("the lean path is said to know marks")
		}
		settings.Path = ""
		d, err := open(contender.Setup{Clock: clock.Start()}, settings, byCrew)
		if err != nil {
			t.Fatal(err)
		}
		c := d.Client(0, 1)
		for _, view := range []*shots.View{nil, {}} {
			shot := shots.Shot{View: view}
			c.Shoot(t.Context(), &shot)
			var told []string
			for _, m := range shot.Told {
				told = append(told, m.Name+"="+m.Unit.Write(m.Value))
			}
			slices.Sort(told)
			if got := strings.Join(told, " "); got != want {
				t.Errorf("%s, in view %v: told %q; want %q (%v)", path, view != nil, got, want, shot.Err)
			}
		}
		c.Close()
		d.Close()
	}
}

// What keeps an answer from passing comes with what can be done about it, on both paths.
func TestHints(t *testing.T) {
	elsewhere := httptest.NewServer(http.RedirectHandler("/berths", http.StatusFound))
	defer elsewhere.Close()
	secure := httptest.NewTLSServer(http.NotFoundHandler())
	secure.Config.ErrorLog = log.New(io.Discard, "", 0)
	defer secure.Close()
	for _, path := range []string{"lean", "full"} {
		for url, want := range map[string]string{
			elsewhere.URL: "ask for /berths itself, or set redirects: 1", secure.URL: "tls: { insecure: true }",
			"https" + strings.TrimPrefix(elsewhere.URL, "http"): "write the url with http://",
		} {
			d, err := Kind.Open(contender.Setup{Clock: clock.Start()}, asking(url, func(s *Settings) { s.Path = path }))
			if err != nil {
				t.Fatal(err)
			}
			c := d.Client(0, 1)
			shot := shots.Shot{View: &shots.View{Limit: 1 << 10}}
			c.Shoot(t.Context(), &shot)
			if got := contender.HintOf(shot.Err); !strings.Contains(got, want) {
				t.Errorf("%s, %s: %v; try %q, want %q", path, url, shot.Err, got, want)
			}
			c.Close()
			d.Close()
		}
	}
}
