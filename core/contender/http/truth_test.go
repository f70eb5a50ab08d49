package http

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httptest"
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
)

// breaker is a server that keeps its own count: of every so many requests that arrive whole it resets the connection,
// or the stream, instead of answering.
type breaker struct {
	every           int64
	arrived, resets atomic.Int64
	url             string
}

func (b *breaker) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	io.Copy(io.Discard, r.Body)
	if n := b.arrived.Add(1); n%b.every != 0 {
		io.WriteString(w, "tide is in")
		return
	}
	b.resets.Add(1)
	conn, _, err := http.NewResponseController(w).Hijack()
	if err != nil {
		panic(http.ErrAbortHandler) // HTTP/2
	}
	under := conn
	if t, ok := conn.(interface{ NetConn() net.Conn }); ok {
		under = t.NetConn()
	}
	under.(*net.TCPConn).SetLinger(0)
	under.Close()
}

// start serves over what a test wants.
func (b *breaker) start(t *testing.T, tls, h2 bool) {
	t.Helper()
	s := httptest.NewUnstartedServer(b)
	s.Config.ErrorLog = log.New(io.Discard, "", 0)
	s.EnableHTTP2 = tls && h2
	if h2 && !tls {
		s.Config.Protocols = new(http.Protocols)
		s.Config.Protocols.SetUnencryptedHTTP2(true)
	}
	if tls {
		s.StartTLS()
	} else {
		s.Start()
	}
	t.Cleanup(s.Close)
	b.url = s.URL
}

// asks opens a driver for the length of a test.
func asks(t *testing.T, s *Settings) *driver {
	t.Helper()
	d, err := open(contender.Setup{Clock: clock.Start()}, s, byCrew)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	return d
}

// serve hands each connection to answer, on a goroutine of its own, and closes it after that. It returns its URL.
func serve(t *testing.T, answer func(net.Conn)) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				answer(conn)
			}()
		}
	}()
	return "http://" + l.Addr().String() + "/"
}

// A reset is a reset, by the server's own count, whatever is asked over whatever path: nothing arrives twice, and no
// two attempts become one latency.
func TestAResetIsAReset(t *testing.T) {
	for _, method := range []string{"GET", "POST"} {
		for _, way := range []struct {
			name    string
			tls, h2 bool
			change  func(*Settings)
		}{
			{"lean", false, false, func(s *Settings) { s.Path = "lean" }},
			{"full", false, false, func(s *Settings) { s.Path = "full" }},
			{"full, a pool", false, false, func(s *Settings) { s.Connections = 3 }},
			{"full, cookies", false, false, func(s *Settings) { s.Cookies = true }},
			{"lean, TLS", true, false, func(s *Settings) { s.Path = "lean" }},
			{"full, TLS", true, false, func(s *Settings) { s.Path = "full" }},
			{"HTTP/2", false, true, func(s *Settings) { s.Protocol = "http2" }},
			{"HTTP/2, TLS", true, true, func(s *Settings) { s.Protocol = "http2" }},
			{"HTTP/2, TLS, a pool", true, true, func(s *Settings) { s.Protocol, s.Connections = "http2", 2 }},
			{"a batch", false, false, func(s *Settings) { s.Batch, s.AtOnce = 2, 1 }},
		} {
			t.Run(method+" "+way.name, func(t *testing.T) {
				b := &breaker{every: 10}
				b.start(t, way.tls, way.h2)
				s := New().(*Settings)
				s.URL, s.Method = b.url, method
				if method == "POST" {
					s.Body = "a manifest"
				}
				if way.tls {
					s.TLS = &TLS{Insecure: true}
				}
				way.change(s)
				d := asks(t, s)
				const clients, each = 4, 100
				var ok, resets atomic.Int64
				var wg sync.WaitGroup
				for i := range clients {
					wg.Go(func() {
						c := d.Client(i, clients)
						defer c.Close()
						for range each {
							var shot shots.Shot
							c.Shoot(context.Background(), &shot)
							switch shot.Class {
							case shots.OK:
								ok.Add(1)
							case shots.Reset:
								resets.Add(1)
							default:
								t.Errorf("a shot ended as %s: %v", shot.Class, shot.Err)
							}
						}
					})
				}
				wg.Wait()
				requests := int64(clients * each * max(s.Batch, 1))
				if s.Batch > 0 { // a batch ends with all of its requests made
					if b.arrived.Load() != requests {
						t.Errorf("%d requests arrived; want %d", b.arrived.Load(), requests)
					}
					return
				}
				if b.arrived.Load() != requests || resets.Load() != b.resets.Load() || ok.Load()+resets.Load() != requests {
					t.Errorf(
						"of %d requests %d arrived; %d were reset by the server's count, %d by ours; %d were answered", requests,
						b.arrived.Load(), b.resets.Load(), resets.Load(), ok.Load(),
					)
				}
			})
		}
	}
}

// A connection that the server closed while nobody asked is replaced: every shot is answered, once, and what happened
// is counted.
func TestAConnectionThatWasClosedBetweenShots(t *testing.T) {
	for _, way := range []struct {
		name   string
		tls    bool
		change func(*Settings)
	}{
		{"lean", false, func(s *Settings) { s.Path = "lean" }}, {"full", false, func(s *Settings) { s.Path = "full" }},
		{
			"lean, TLS", true, func(s *Settings) { s.Path = "lean" },
		}, {"full, TLS", true, func(s *Settings) { s.Path = "full" }},
	} {
		for _, method := range []string{"GET", "POST"} {
			t.Run(way.name+" "+method, func(t *testing.T) {
				var arrived atomic.Int64
				closed := make(chan struct{}, 100)
				server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
					io.Copy(io.Discard, r.Body)
					arrived.Add(1)
					conn, buf, err := http.NewResponseController(w).Hijack()
					if err != nil {
						t.Error(err)
						return
					}
					fmt.Fprint(buf, "HTTP/1.1 200 OK\r\nContent-Length: 4\r\n\r\ntide")
					buf.Flush()
					conn.Close() // without having said so
					closed <- struct{}{}
				}))
				if way.tls {
					server.StartTLS()
				} else {
					server.Start()
				}
				defer server.Close()
				s := New().(*Settings)
				s.URL, s.Method = server.URL, method
				if method == "POST" {
					s.Body = "a manifest"
				}
				if way.tls {
					s.TLS = &TLS{Insecure: true}
				}
				way.change(s)
				d := asks(t, s)
				c := d.Client(0, 1)
				defer c.Close()
				const fired = 10
				replaced := 0
				for i := range fired {
					var shot shots.Shot
					c.Shoot(t.Context(), &shot)
					if shot.Class != shots.OK {
						t.Fatalf("shot %d ended as %s: %v", i+1, shot.Class, shot.Err)
					}
					if replaced += int(shot.Amounts[lean.Replaced]); i > 0 && connected(shot) == 0 {
						t.Errorf("shot %d opened no connection", i+1)
					}
					<-closed
					time.Sleep(2 * time.Millisecond) // until the end has come over the wire
				}
				if arrived.Load() != fired {
					t.Errorf("%d requests arrived; want %d", arrived.Load(), fired)
				}
				if lean := strings.HasPrefix(way.name, "lean"); lean && replaced != fired-1 {
					t.Errorf("%d connections were replaced; want %d", replaced, fired-1)
				}
			})
		}
	}
}

// Half a request may have arrived: a server that takes some of it and closes has not closed before.
func TestHalfARequestIsNotSentAgain(t *testing.T) {
	for _, path := range []string{"lean", "full"} {
		var heads atomic.Int64
		url := serve(t, func(conn net.Conn) {
			in := bufio.NewReader(conn)
			for n := 0; ; n++ {
				r, err := http.ReadRequest(in)
				if err != nil {
					return
				}
				if heads.Add(1); n == 1 { // the head alone, the second time
					conn.(*net.TCPConn).SetLinger(0)
					return
				}
				io.Copy(io.Discard, r.Body)
				fmt.Fprint(conn, "HTTP/1.1 200 OK\r\nContent-Length: 4\r\n\r\ntide")
			}
		})
		s := New().(*Settings)
		s.URL, s.Method, s.Body, s.Path = url, "POST", strings.Repeat("manifest ", 1<<20), path
		d := asks(t, s)
		c := d.Client(0, 1)
		defer c.Close()
		for i, want := range []shots.Class{shots.OK, shots.Reset, shots.OK} {
			var shot shots.Shot
			c.Shoot(t.Context(), &shot)
			if shot.Class != want {
				t.Errorf("%s: shot %d ended as %s, %v; want %s", path, i+1, shot.Class, shot.Err, want)
			}
		}
		if heads.Load() != 3 {
			t.Errorf("%s: %d requests arrived; want 3", path, heads.Load())
		}
	}
}

// What is asked once at the weigh-in ends as what is asked in heats does: an answer that one path would take and the
// other would not is taken, or refused, before anything is timed.
func TestTheWeighInTakesThePathOfTheHeats(t *testing.T) {
	for name, answer := range map[string]string{
		"HTTP/9.9":           "HTTP/9.9 200 OK\r\nContent-Length: 4\r\n\r\ntide",
		"HTTP/1.0":           "HTTP/1.0 200 OK\r\nContent-Length: 4\r\n\r\ntide",
		"lines end with LF":  "HTTP/1.1 200 OK\nContent-Length: 4\n\ntide",
		"no reason":          "HTTP/1.1 200\r\nContent-Length: 4\r\n\r\ntide",
		"two lengths":        "HTTP/1.1 200 OK\r\nContent-Length: 4\r\nContent-Length: 5\r\n\r\ntide",
		"a folded header":    "HTTP/1.1 200 OK\r\nX-A: b\r\n c\r\nContent-Length: 4\r\n\r\ntide",
		"a space in a name":  "HTTP/1.1 200 OK\r\nX A: b\r\nContent-Length: 4\r\n\r\ntide",
		"chunks with a word": "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n4;a=b\r\ntide\r\n0\r\n\r\n",
	} {
		for _, path := range []string{"", "lean", "full"} {
			t.Run(name+" "+path, func(t *testing.T) {
				url := serve(t, func(conn net.Conn) {
					for in := bufio.NewReader(conn); ; {
						if _, err := http.ReadRequest(in); err != nil {
							return
						}
						if _, err := io.WriteString(conn, answer); err != nil {
							return
						}
					}
				})
				s := New().(*Settings)
				s.URL, s.Path, s.Timeout = url, path, plan.Span(200*time.Millisecond) // the lean path waits for the CR
				d := asks(t, s)
				var alone shots.Shot
				one := d.Client(0, 1)
				defer one.Close()
				alone.View = &shots.View{} // as the weigh-in looks
				one.Shoot(t.Context(), &alone)
				inHeats := shots.Classes
				if crew, _ := d.Crew(1); crew != nil {
					defer crew.Close()
					begun := false
					err := crew.Drive(t.Context(), &contender.Job{
						Next: func(int) (time.Duration, time.Duration, bool) { first := !begun; begun = true; return 0, 0, first },
						Done: func(_ int, s *shots.Shot) { inHeats = s.Class },
					})
					if err != nil {
						t.Fatal(err)
					}
				} else {
					client := d.Client(0, 1)
					defer client.Close()
					var shot shots.Shot
					client.Shoot(t.Context(), &shot)
					inHeats = shot.Class
				}
				if alone.Class != inHeats {
					t.Errorf("%s at the weigh-in (%v), %s in heats", alone.Class, alone.Err, inHeats)
				}
			})
		}
	}
}
