package http

import (
	"context"
	"encoding/pem"
	"fmt"
	"io"
	"log"
	"maps"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/contender/conformance"
	"paceduel/core/contender/http/lean"
	"paceduel/core/plan"
	"paceduel/core/shots"
)

// harbour answers in the ways that the tests ask for.
func harbour(t *testing.T) *httptest.Server {
	t.Helper()
	s := httptest.NewServer(answers())
	t.Cleanup(s.Close)
	return s
}

func answers() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("/tide", func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, "tide is in") })
	mux.HandleFunc("/hang", func(_ http.ResponseWriter, r *http.Request) { <-r.Context().Done() })
	mux.HandleFunc("/missing", http.NotFound)
	mux.HandleFunc(
		"/moved", func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, "/tide", http.StatusFound) },
	)
	mux.HandleFunc("/moved-twice", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "/moved", http.StatusTemporaryRedirect)
	})
	mux.HandleFunc("/elsewhere", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "http://far.example/", http.StatusFound)
	})
	mux.HandleFunc("/endless", func(w http.ResponseWriter, _ *http.Request) {
		for {
			if _, err := w.Write(make([]byte, 4096)); err != nil {
				return
			}
		}
	})
	mux.HandleFunc("/short", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Length", "100")
		io.WriteString(w, "only this")
	})
	mux.HandleFunc("/reset", func(w http.ResponseWriter, _ *http.Request) {
		conn, _, err := http.NewResponseController(w).Hijack()
		if err != nil {
			panic(http.ErrAbortHandler) // HTTP/2: the stream is reset
		}
		if tcp, ok := conn.(*net.TCPConn); ok {
			tcp.SetLinger(0)
		}
		conn.Close()
	})
	mux.HandleFunc("/echo", func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		fmt.Fprintf(w, "%s %s %s %s", r.Method, r.URL.RequestURI(), r.Header.Get("X-Board"), body)
	})
	mux.HandleFunc("/told", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Server-Timing", "db;dur=12.5, board;dur=3")
		io.WriteString(w, "tide is in")
	})
	mux.HandleFunc("/berth", func(w http.ResponseWriter, r *http.Request) {
		seen, err := r.Cookie("berth")
		if err != nil {
			http.SetCookie(w, &http.Cookie{Name: "berth", Value: "7"})
			io.WriteString(w, "no berth yet")
			return
		}
		io.WriteString(w, "berth "+seen.Value)
	})
	return mux
}

// secure is the same over TLS, with both versions of HTTP, and the file of the authority that vouches for it.
func secure(t *testing.T) (s *httptest.Server, ca string) {
	t.Helper()
	s = httptest.NewUnstartedServer(answers())
	s.EnableHTTP2 = true
	s.Config.ErrorLog = log.New(io.Discard, "", 0) // of handshakes that are meant to fail
	s.StartTLS()
	t.Cleanup(s.Close)
	ca = filepath.Join(t.TempDir(), "ca.pem")
	if err := os.WriteFile(ca, pem.EncodeToMemory(&pem.Block{
		Type: "CERTIFICATE", Bytes: s.Certificate().Raw,
	}), 0o644); err != nil {
		t.Fatal(err)
	}
	return s, ca
}

// clear2 is the same over HTTP/2 in clear.
func clear2(t *testing.T) *httptest.Server {
	t.Helper()
	s := httptest.NewUnstartedServer(answers())
	s.Config.Protocols = new(http.Protocols)
	s.Config.Protocols.SetUnencryptedHTTP2(true)
	s.Start()
	t.Cleanup(s.Close)
	return s
}

func asking(url string, change func(*Settings)) *Settings {
	s := New().(*Settings)
	s.URL = url
	if change != nil {
		change(s)
	}
	return s
}

// closedPort is an address where nobody listens.
func closedPort(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return "http://" + l.Addr().String() + "/"
}

func TestConformance(t *testing.T) {
	s := harbour(t)
	overTLS, ca := secure(t)
	trusted := &TLS{CA: ca}
	limit := 100 * time.Millisecond
	for name, variant := range map[string]struct {
		server *httptest.Server
		least  means
		change func(*Settings)
	}{
		"full":             {s, byCrew, func(s *Settings) { s.Path = "full" }},
		"lean":             {s, byCrew, func(s *Settings) { s.Path = "lean" }},
		"lean, blocking":   {s, byLean, func(*Settings) {}},
		"full over TLS":    {overTLS, byCrew, func(s *Settings) { s.Path, s.TLS = "full", trusted }},
		"lean over TLS":    {overTLS, byCrew, func(s *Settings) { s.Path, s.TLS = "lean", trusted }},
		"HTTP/2 in clear":  {clear2(t), byCrew, func(s *Settings) { s.Protocol = http2 }},
		"HTTP/2 over TLS":  {overTLS, byCrew, func(s *Settings) { s.Protocol, s.TLS = http2, trusted }},
		"a pool":           {s, byCrew, func(s *Settings) { s.Connections = 2 }},
		"a pool of HTTP/2": {overTLS, byCrew, func(s *Settings) { s.Connections, s.Protocol, s.TLS = 2, http2, trusted }},
		"redirects":        {s, byCrew, func(s *Settings) { s.Redirects, s.Cookies = 2, true }},
	} {
		t.Run(name, func(t *testing.T) {
			asking := func(path string, change func(*Settings)) leveled {
				s := asking(variant.server.URL+path, change)
				variant.change(s)
				return leveled{s, variant.least}
			}
			closed := asking("", nil)
			closed.URL = strings.Replace(closedPort(t), "http:", strings.SplitAfter(variant.server.URL, ":")[0], 1)
			failures := map[shots.Class]plan.Settings{
				shots.Status:  asking("/missing", nil),
				shots.Refused: closed,
				shots.Reset:   asking("/reset", nil),
				shots.Length:  asking("/endless", func(s *Settings) { s.MaxBody = 1 << 20 }),
			}
			if variant.server == overTLS {
				unknown := asking("/tide", nil)
				unknown.TLS = nil
				failures[shots.TLS] = unknown
			}
			conformance.Run(t, conformance.Subject{
				Kind: Kind,
				Good: asking("/tide", nil), Body: "tide is in",
				Hangs: asking("/hang", nil),
				Slow:  asking("/hang", func(s *Settings) { s.Timeout = plan.Span(limit) }), Limit: limit,
				Failures: failures,
				Elsewhere: []plan.Settings{
					asking("://10.1.2.3", func(s *Settings) { s.URL = scheme(asking("/tide", nil).URL) + "://10.1.2.3:9/" }),
					asking("://far.example", func(s *Settings) {
						s.URL = scheme(asking("/tide", nil).URL) +
							"://far.example:9/"
					}),
				},
			})
		})
	}
}

func scheme(address string) string {
	before, _, _ := strings.Cut(address, ":")
	return before
}

// Nobody is reached by way of a redirect, a proxy or a target behind one.
func TestNobodyElseIsReached(t *testing.T) {
	s := harbour(t)
	conformance.Run(t, conformance.Subject{
		Kind: Kind, Good: asking(s.URL+"/tide", nil), Body: "tide is in", Hangs: asking(s.URL+"/hang", nil),
		Slow: asking(
			s.URL+"/hang", func(s *Settings) { s.Timeout = plan.Span(50 * time.Millisecond) },
		), Limit: 50 * time.Millisecond,
		Elsewhere: []plan.Settings{
			asking(s.URL+"/elsewhere", func(s *Settings) { s.Redirects = 1 }),
			asking(s.URL+"/tide", func(s *Settings) { s.Proxy = "http://10.1.2.3:9" }),
			asking("http://10.1.2.3:9/", func(o *Settings) { o.Proxy = s.URL }),
			asking("https://10.1.2.3:9/", func(o *Settings) { o.Proxy = s.URL }),
			asking("http://10.1.2.3:9/", func(o *Settings) { o.Connections = 2 }),
			asking("http://10.1.2.3:9/", func(o *Settings) { o.Batch = 2 }),
			asking("http://10.1.2.3:9/", func(o *Settings) { o.Path = "lean" }),
			asking("http://127.0.0.1.:9/", nil),
			asking("http://0.0.0.0:9/", nil),
			asking("http://2130706433:9/", nil),
			asking("http://[::ffff:10.1.2.3]:9/", nil),
		},
	})
}

// Both paths see the same of every kind of answer. It is long since its cases are listed in it.
func TestBothPathsSeeTheSame(t *testing.T) {
	mux := http.NewServeMux()
	mux.HandleFunc(
		"/length", func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, strings.Repeat("tide ", 100)) },
	)
	mux.HandleFunc("/chunks", func(w http.ResponseWriter, _ *http.Request) {
		for i := range 20 {
			fmt.Fprintf(w, "part %d;%s", i, strings.Repeat("x", i*97))
			w.(http.Flusher).Flush()
		}
	})
	mux.HandleFunc("/large", func(w http.ResponseWriter, _ *http.Request) { w.Write(make([]byte, 3<<20)) })
	mux.HandleFunc("/none", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNoContent) })
	mux.HandleFunc("/hints", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Link", "</style>")
		w.WriteHeader(http.StatusEarlyHints)
		io.WriteString(w, "after a hint")
	})
	mux.HandleFunc("/until-closed", func(w http.ResponseWriter, _ *http.Request) {
		conn, buf, err := http.NewResponseController(w).Hijack()
		if err == nil {
			buf.WriteString("HTTP/1.0 200 OK\r\nContent-Type: text/plain\r\n\r\nuntil the end")
			buf.Flush()
			conn.Close()
		}
	})
	mux.HandleFunc("/echo", func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		names := slices.Sorted(maps.Keys(r.Header))
		fmt.Fprintf(w, "%s %s %s %q %q", r.Method, r.RequestURI, r.Host, names, body)
	})
	server := httptest.NewServer(mux)
	t.Cleanup(server.Close)
	rows := filepath.Join(t.TempDir(), "rows.csv")
	if err := os.WriteFile(rows, []byte("tide\nlow\nhigh\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	tests := map[string]*Settings{
		"a length": asking(
			server.URL+"/length", nil,
		), "chunks": asking(server.URL+"/chunks", nil), "large": asking(server.URL+"/large", nil),
		"no content": asking(
			server.URL+"/none", nil,
		), "an interim answer": asking(server.URL+"/hints", nil), "until closed": asking(server.URL+"/until-closed", nil),
		"a head alone": asking(server.URL+"/length", func(s *Settings) { s.Method = "HEAD" }),
		"what is sent": asking(server.URL+"/echo?t={{tide}}", func(s *Settings) {
			s.Method, s.Body, s.Rows, s.Headers = "POST", "for {{tide}}", rows, map[string]plan.Word{
				"X-Board": "b", "Host": "harbour.test",
			}
		}),
		"new connections": asking(server.URL+"/echo", func(s *Settings) { s.Connections = plan.Fresh }),
		"not found":       asking(server.URL+"/nowhere", nil),
	}
	for name, s := range tests {
		t.Run(name, func(t *testing.T) {
			var seen [2][]shots.Shot
			for i, path := range []string{"full", "lean"} {
				own := *s
				own.Path = path
				seen[i] = shoot(t, &own, 3)
			}
			for i := range seen[0] {
				full, lean := seen[0][i], seen[1][i]
				if full.Class != lean.Class || full.Sent != lean.Sent || full.Received != lean.Received ||
					full.Length != lean.Length || full.Row != lean.Row || (connected(full) > 0) != (connected(lean) > 0) ||
					(full.Err == nil) != (lean.Err == nil) {
					t.Errorf("shot %d: full %+v %v\nlean %+v %v", i, full, full.Err, lean, lean.Err)
				}
				if a, b := full.View, lean.View; string(a.Body) != string(b.Body) || a.Outcome != b.Outcome ||
					a.Bytes != b.Bytes ||
					a.Type != b.Type {
					t.Errorf(
						"shot %d: full saw %s, %d bytes %.80q\nlean saw %s, %d bytes %.80q", i, a.Outcome, a.Bytes, a.Body,
						b.Outcome,
						b.Bytes, b.Body,
					)
				}
			}
		})
	}
}

// A kept connection that the server closed between two shots costs a new one and no failure, as on the full path.
func TestAKeptConnectionThatWasClosed(t *testing.T) {
	server := httptest.NewUnstartedServer(
		http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, "tide") }),
	)
	server.Start()
	t.Cleanup(server.Close)
	for _, path := range []string{"full", "lean"} {
		d, err := open(contender.Setup{Clock: clock.Start()}, asking(server.URL, func(s *Settings) { s.Path = path }),
			byCrew)
		if err != nil {
			t.Fatal(err)
		}
		c := d.Client(0, 1)
		for i := range 3 {
			var shot shots.Shot
			c.Shoot(t.Context(), &shot)
			if shot.Class != shots.OK || connected(shot) == 0 {
				t.Errorf("%s, shot %d: %s %v, connected in %s", path, i, shot.Class, shot.Err, connected(shot))
			}
			server.CloseClientConnections()
		}
		c.Close()
	}
}

// A heat of many connections: every shot is counted once, for the client and row that it was asked for.
func TestACrewOfMany(t *testing.T) {
	var asked sync.Map
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n, _ := asked.LoadOrStore(r.URL.Query().Get("t"), new(atomic.Int64))
		n.(*atomic.Int64).Add(1)
		io.WriteString(w, "tide")
	}))
	t.Cleanup(server.Close)
	rows := filepath.Join(t.TempDir(), "rows.csv")
	if err := os.WriteFile(rows, []byte("tide\na\nb\nc\nd\ne\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	d, err := open(contender.Setup{
		Clock: clock.Start(),
	}, asking(server.URL+"/?t={{tide}}", func(s *Settings) { s.Rows = rows }), byCrew)
	if err != nil {
		t.Fatal(err)
	}
	const clients, fired = 8, 1000
	crew, err := d.Crew(clients)
	if err != nil {
		t.Fatal(err)
	}
	defer crew.Close()
	left, connections := fired, 0
	per := map[int]int{}
	var last [clients]time.Duration
	err = crew.Drive(t.Context(), &contender.Job{
		Next: func(int) (time.Duration, time.Duration, bool) {
			left--
			return 0, 0, left >= 0
		},
		Done: func(i int, s *shots.Shot) {
			if s.Class != shots.OK || s.Start < last[i] || s.End <= s.Start || firstByte(*s) <= 0 || s.Received < 4 {
				t.Errorf("client %d: %+v %v", i, s, s.Err)
			}
			last[i] = s.End
			per[i]++
			if connected(*s) > 0 {
				connections++
			}
		},
	})
	if err != nil || connections != clients || len(per) != clients {
		t.Errorf("%d connections for %d clients, %v", connections, len(per), err)
	}
	total := 0
	asked.Range(func(_, n any) bool { total += int(n.(*atomic.Int64).Load()); return true })
	if total != fired {
		t.Errorf("the server was asked %d times; want %d", total, fired)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if err := crew.Drive(ctx, &contender.Job{
		Next: func(int) (time.Duration, time.Duration, bool) { return 0, 0, true }, Done: func(int, *shots.Shot) {},
	}); err == nil {
		t.Error("a crew goes on although it was interrupted")
	}
}

func shoot(t *testing.T, s *Settings, n int) (fired []shots.Shot) {
	t.Helper()
	return shootBy(t, s, byCrew, n)
}

func shootBy(t *testing.T, s *Settings, least means, n int) (fired []shots.Shot) {
	t.Helper()
	d, err := open(contender.Setup{Clock: clock.Start()}, s, least)
	if err != nil {
		t.Fatal(err)
	}
	c := d.Client(0, 1)
	defer c.Close()
	for range n {
		shot := shots.Shot{View: &shots.View{}}
		c.Shoot(t.Context(), &shot)
		fired = append(fired, shot)
	}
	return fired
}

func TestOutcomes(t *testing.T) {
	s := harbour(t)
	overTLS, _ := secure(t)
	plain, _ := secure(t)
	plain.TLS.NextProtos = []string{"http/1.1"}
	tests := []struct {
		name string
		s    *Settings
		want shots.Class
		says string
	}{
		{"a body cut short", asking(s.URL+"/short", nil), shots.Length, "unexpected EOF"},
		{"a redirect is not followed", asking(s.URL+"/moved", nil), shots.Status, "status 302 Found, expected 200 to 299"},
		{"another status can be expected", asking(s.URL+"/missing", func(s *Settings) { s.Expect = 404 }), shots.OK, ""},
		{
			"only that one then", asking(s.URL+"/tide", func(s *Settings) { s.Expect = 404 }), shots.Status,
			"status 200 OK, expected 404",
		},
		{"a certificate that nobody vouches for", asking(overTLS.URL, nil), shots.TLS, "certificate"},
		{"any certificate", asking(overTLS.URL+"/tide", func(s *Settings) { s.TLS = &TLS{Insecure: true} }), shots.OK, ""},
		{
			"a certificate for somebody else",
			asking(overTLS.URL+"/tide", func(s *Settings) { s.TLS = &TLS{Name: "quay.local"} }), shots.TLS, "certificate",
		},
		{"TLS where there is none", asking(strings.Replace(s.URL, "http:", "https:", 1), nil), shots.TLS, "TLS"},
		{
			"the same on the full path",
			asking(strings.Replace(s.URL, "http:", "https:", 1), func(s *Settings) { s.Path = "full" }), shots.TLS, "TLS",
		},
		{
			"no HTTP/2", asking(plain.URL+"/tide", func(s *Settings) { s.Protocol, s.TLS = http2, &TLS{Insecure: true} }),
			shots.TLS, "set protocol: http1",
		},
		{
			"a redirect is followed when said", asking(s.URL+"/moved-twice", func(s *Settings) { s.Redirects = 2 }), shots.OK,
			"",
		},
		{
			"and no further", asking(s.URL+"/moved-twice", func(s *Settings) { s.Redirects = 1 }), shots.Status,
			"status 302 Found",
		},
		{
			"nor to anywhere", asking(s.URL+"/elsewhere", func(s *Settings) { s.Redirects = 5 }), shots.Other,
			"add the line: allow: [far.example]",
		},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			shot := shoot(t, tt.s, 1)[0]
			if shot.Class != tt.want || tt.says != "" && !strings.Contains(fmt.Sprint(shot.Err), tt.says) {
				t.Errorf("class %s, %v; want %s, %q", shot.Class, shot.Err, tt.want, tt.says)
			}
		})
	}
}

func TestVersionComesFromAHeader(t *testing.T) {
	s := httptest.NewServer(
		http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.Header().Set("X-Build", " 2.1 ") }),
	)
	defer s.Close()
	for header, want := range map[string]string{"X-Build": "2.1", "x-build": "2.1", "X-None": "", "": ""} {
		if got := shoot(t, asking(s.URL, func(s *Settings) { s.Version = header }), 1)[0].View.Version; got != want {
			t.Errorf("version from %q = %q; want %q", header, got, want)
		}
	}
}

func TestConnectionsAreKeptOrNew(t *testing.T) {
	s := harbour(t)
	for mode, want := range map[plan.Connections]int{plan.Kept: 1, plan.Fresh: 5} {
		opened := 0
		for _, shot := range shoot(t, asking(s.URL+"/tide", func(s *Settings) { s.Connections = mode }), 5) {
			if shot.Class != shots.OK {
				t.Fatalf("%d: class %s, %v", mode, shot.Class, shot.Err)
			}
			if connected(shot) > 0 {
				opened++
			}
			if connected(shot) > shot.Latency() || firstByte(shot) <= 0 || firstByte(shot) > shot.Latency() {
				t.Errorf(
					"%d: connect %s, first byte %s, latency %s do not fit together", mode, connected(shot), firstByte(shot),
					shot.Latency(),
				)
			}
		}
		if opened != want {
			t.Errorf("%d: %d connections opened in 5 shots; want %d", mode, opened, want)
		}
	}
}

func TestRowsAreUsedInTurn(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(
		filepath.Join(dir, "rows.csv"), []byte("tide,board\n1 high,a&b\n2,c\n3,d\n"), 0o644,
	); err != nil {
		t.Fatal(err)
	}
	s := harbour(t)
	settings := asking(s.URL+"/echo?t={{tide}}", func(s *Settings) {
		s.Method, s.Rows, s.Body = "POST", filepath.Join(dir, "rows.csv"), "{{board}}"
		s.Headers = map[string]plan.Word{"X-Board": "{{ board }}"}
	})
	if faults := settings.Check(plan.Surroundings{}); len(faults) > 0 {
		t.Fatal(faults)
	}
	var got []string
	for _, shot := range shoot(t, settings, 4) {
		got = append(got, string(shot.View.Body))
	}
	want := []string{
		"POST /echo?t=1+high a&b a&b", "POST /echo?t=2 c c", "POST /echo?t=3 d d", "POST /echo?t=1+high a&b a&b",
	}
	if !slices.Equal(got, want) {
		t.Errorf("asked %q; want %q", got, want)
	}

	// Two clients share the rows without a counter: 1, 3, 2, 1 … and 2, 1, 3, 2 …
	d, err := open(contender.Setup{Clock: clock.Start()}, settings, byCrew)
	if err != nil {
		t.Fatal(err)
	}
	second := d.Client(1, 2)
	defer second.Close()
	for _, want := range []string{"t=2", "t=1", "t=3", "t=2"} {
		shot := shots.Shot{View: &shots.View{}}
		second.Shoot(t.Context(), &shot)
		if !strings.Contains(string(shot.View.Body), want) {
			t.Errorf("the second client asked %q; want %s", shot.View.Body, want)
		}
	}
}

func TestBytesOnTheWireAreCounted(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	const answer = "HTTP/1.1 200 OK\r\nContent-Length: 3\r\n\r\nebb"
	var got int
	var wg sync.WaitGroup
	wg.Go(func() {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		defer conn.Close()
		buf := make([]byte, 4096)
		got, _ = conn.Read(buf)
		io.WriteString(conn, answer)
	})
	shot := shoot(t, asking("http://"+l.Addr().String()+"/", nil), 1)[0]
	wg.Wait()
	l.Close()
	if shot.Received != int64(len(answer)) || shot.Sent != int64(got) || got == 0 {
		t.Errorf("sent %d, received %d; the other side saw %d and sent %d", shot.Sent, shot.Received, got, len(answer))
	}
}

// It is long since its cases are listed in it.
func TestCheckFindsWhatCannotBeSent(t *testing.T) {
	rows := filepath.Join(t.TempDir(), "rows.csv")
	if err := os.WriteFile(rows, []byte("tide\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	tests := []struct {
		name      string
		s         *Settings
		key, want string
	}{
		{"no address", asking("", nil), "", "nothing says where to ask"},
		{"no scheme", asking("localhost/x", nil), "url", "is not an address to ask"},
		{
			"header name", asking("http://localhost/",
				func(s *Settings) { s.Headers = map[string]plan.Word{"X Board": "a"} }),
			"headers.X Board", "is not a header name",
		},
		{
			"header value", asking("http://localhost/",
				func(s *Settings) { s.Headers = map[string]plan.Word{"X-B": "a\r\nb"} }),
			"headers.X-B", "cannot be sent",
		},
		{"no rows file", asking("http://localhost/", func(s *Settings) { s.Rows = "none.csv" }), "rows", "no such file"},
		{
			"no rows", asking("http://localhost/", func(s *Settings) { s.Rows = rows }), "rows",
			"has a header line and no rows",
		},
		{"another machine", asking("http://10.1.2.3/", nil), "url", "10.1.2.3 is not this machine"},
		{
			"two bodies", asking("http://localhost/", func(s *Settings) { s.Body, s.BodyFile = "a", "rows.csv" }), "",
			"a request has one body",
		},
		{
			"a body that is not there", asking("http://localhost/", func(s *Settings) { s.BodyFile = "none.json" }), "url",
			"no such file",
		},
		{
			"a part of nothing", asking("http://localhost/", func(s *Settings) { s.Parts = []Part{{Name: "a"}} }), "parts[0]",
			"a value or a file",
		},
		{
			"a user without a password", asking("http://localhost/", func(s *Settings) { s.Auth = &Auth{User: "quay"} }),
			"auth",
			"takes a user and a password",
		},
		{"at once without a batch", asking("http://localhost/", func(s *Settings) { s.AtOnce = 3 }), "at-once",
			"under way"},
		{
			"TLS in clear", asking("http://localhost/", func(s *Settings) { s.TLS = &TLS{Insecure: true} }), "tls",
			"there is no TLS",
		},
		{
			"no authority", asking("https://localhost/", func(s *Settings) { s.TLS = &TLS{CA: rows} }), "tls",
			"no certificate in PEM",
		},
		{
			"no proxy", asking("http://localhost/", func(s *Settings) { s.Proxy = "127.0.0.1:3128" }), "proxy",
			"is not a proxy",
		},
		{
			"a proxy elsewhere", asking("http://localhost/", func(s *Settings) { s.Proxy = "http://10.1.2.3:80" }), "proxy",
			"10.1.2.3 is not this machine",
		},
		{
			"lean HTTP/2", asking("http://localhost/", func(s *Settings) { s.Path, s.Protocol = "lean", http2 }), "path",
			"does not know HTTP/2",
		},
		{"no time", asking("http://localhost/", func(s *Settings) { s.Timeout = 0 }), "timeout",
			"a limit of no time at all"},
	}
	for _, tt := range tests {
		faults := tt.s.Check(plan.Surroundings{})
		if len(faults) != 1 || faults[0].Key != tt.key || !strings.Contains(faults[0].What, tt.want) {
			t.Errorf("%s: Check = %+v; want %s: %s", tt.name, faults, tt.key, tt.want)
		}
	}
	if faults := asking("http://10.1.2.3/", nil).Check(plan.Surroundings{Allow: []string{"10.1.2.3"}}); len(faults) > 0 {
		t.Errorf("an allowed host is refused: %v", faults)
	}
}

// A crew's clients begin and think as the job says, each by itself, and the crew ends when nobody needs to wait any
// longer.
func TestACrewThatThinks(t *testing.T) {
	server := harbour(t)
	clk := clock.Start()
	d, err := open(contender.Setup{Clock: clk}, asking(server.URL+"/tide", nil), byCrew)
	if err != nil {
		t.Fatal(err)
	}
	const clients = 5
	crew, err := d.Crew(clients)
	if err != nil {
		t.Fatal(err)
	}
	defer crew.Close()
	start, think := clk.Now(), 7*time.Millisecond
	next := make([]time.Duration, clients)
	for i := range next {
		next[i] = start + time.Duration(clients-i)*2*time.Millisecond
	}
	next[0] = 1 << 62 // takes no part
	left, fired := 40, make([]int, clients)
	err = crew.Drive(t.Context(), &contender.Job{
		Next: func(int) (time.Duration, time.Duration, bool) {
			left--
			return 0, 0, left >= 0
		},
		Ready: func(i int) time.Duration { return next[i] },
		Over:  func() bool { return left <= 0 },
		Done: func(i int, s *shots.Shot) {
			if s.Class != shots.OK || s.Start < next[i] {
				t.Errorf("client %d shot at %s, which was to wait until %s: %v", i, s.Start, next[i], s.Err)
			}
			fired[i]++
			next[i] = s.End + think
		},
	})
	if err != nil || fired[0] != 0 || slices.Contains(fired[1:], 0) || fired[1]+fired[2]+fired[3]+fired[4] != 40 {
		t.Errorf("shots by client %v, %v; want 40 of the last four", fired, err)
	}
}

// A server in this very process is answered by whom the runtime has a processor for: crews that wait leave it one,
// however few there are. Where they did not, each shot would take as long as a crew waits at most, 5 ms.
func TestCrewsLeaveRoomForOthers(t *testing.T) {
	for _, tt := range []struct{ processors, crews int }{{1, 1}, {1, 2}, {2, 1}, {2, 2}, {2, 3}} {
		t.Run(fmt.Sprintf("%d crews on %d", tt.crews, tt.processors), func(t *testing.T) {
			defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(tt.processors))
			settings, stop, err := floor(nil)
			if err != nil {
				t.Fatal(err)
			}
			defer stop()
			var held atomic.Int64
			var work sync.WaitGroup
			const fired = 30
			for range tt.crews {
				d, err := open(contender.Setup{Clock: clock.Start()}, settings.(*Settings), byCrew)
				if err != nil {
					t.Fatal(err)
				}
				crew, err := d.Crew(1)
				if err != nil {
					t.Fatal(err)
				}
				defer crew.Close()
				left := fired
				work.Go(func() {
					err := crew.Drive(t.Context(), &contender.Job{
						Next: func(int) (time.Duration, time.Duration, bool) {
							left--
							return 0, 0, left >= 0
						},
						Done: func(_ int, s *shots.Shot) {
							if s.Class != shots.OK {
								t.Error(s.Err)
							}
							if s.Latency() >= 5*time.Millisecond {
								held.Add(1)
							}
						},
					})
					if err != nil {
						t.Error(err)
					}
				})
			}
			work.Wait()
			if n := held.Load(); n > int64(fired*tt.crews/3) {
				t.Errorf("%d of %d shots waited for a processor", n, fired*tt.crews)
			}
		})
	}
}

// connected is how long opening a connection took, asked when the request had been handed over, firstByte when the
// answer came.
func connected(shot shots.Shot) time.Duration { return time.Duration(shot.Amounts[lean.Connecting]) }

func asked(shot shots.Shot) time.Duration { return connected(shot) + shot.Parts[lean.Send] }

func firstByte(shot shots.Shot) time.Duration { return time.Duration(shot.Amounts[lean.FirstByte]) }
