package relay

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/coder/websocket"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/plan"
	"paceduel/core/shots"
)

// yard is a stand-in of which deeds are asked, and that brings about effects in every way, after a known delay.
type yard struct {
	*httptest.Server
	dir   string
	delay time.Duration
	lose  atomic.Int64 // every so manieth effect is lost
	twice atomic.Int64 // every so manieth comes twice
	asked atomic.Int64

	mu    sync.Mutex
	done  map[string]bool
	heard []chan string
	wg    sync.WaitGroup
}

func newYard(t testing.TB, delay time.Duration) *yard {
	t.Helper()
	y := &yard{delay: delay, dir: t.TempDir(), done: map[string]bool{}}
	y.Server = httptest.NewServer(http.HandlerFunc(y.serve))
	t.Cleanup(func() {
		y.CloseClientConnections()
		y.wg.Wait()
		y.Close()
	})
	return y
}

func (y *yard) serve(w http.ResponseWriter, r *http.Request) {
	switch r.URL.Path {
	case "/deed":
		body, _ := io.ReadAll(r.Body)
		key, call, _ := strings.Cut(string(body), " ")
		n, lose, twice := y.asked.Add(1), y.lose.Load(), y.twice.Load()
		if lose == 0 || n%lose != 0 {
			y.wg.Go(func() {
				<-time.After(y.delay)
				y.bring(key, call)
				if twice > 0 && n%twice == 0 {
					y.bring(key, call)
				}
			})
		}
		fmt.Fprint(w, "taken")
	case "/state":
		y.mu.Lock()
		defer y.mu.Unlock()
		state := "open"
		if y.done[r.FormValue("of")] {
			state = "done"
		}
		fmt.Fprintf(w, `{"state":%q}`, state)
	case "/events":
		w.Header().Set("Content-Type", "text/event-stream")
		w.(http.Flusher).Flush()
		y.hear(r.Context(), func(key string) {
			fmt.Fprintf(w, "event: done\ndata: {\"of\":%q}\n\n", key)
			w.(http.Flusher).Flush()
		})
	case "/socket":
		conn, err := websocket.Accept(w, r, nil)
		if err != nil {
			return
		}
		defer conn.CloseNow()
		ctx := conn.CloseRead(r.Context())
		y.hear(ctx, func(key string) { conn.Write(ctx, websocket.MessageText, []byte("done "+key)) })
	case "/gone":
		http.Error(w, "gone", http.StatusGone)
	}
}

// hear tells what is done until whoever listens goes away.
func (y *yard) hear(ctx context.Context, tell func(key string)) {
	c := make(chan string, 1<<14)
	y.mu.Lock()
	y.heard = append(y.heard, c)
	y.mu.Unlock()
	for {
		select {
		case key := <-c:
			tell(key)
		case <-ctx.Done():
			return
		}
	}
}

// bring brings about the effects of a deed in all ways.
func (y *yard) bring(key, call string) {
	y.mu.Lock()
	y.done[key] = true
	for _, c := range y.heard {
		c <- key
	}
	f, err := os.OpenFile(filepath.Join(y.dir, "yard.log"), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
	if err == nil {
		fmt.Fprintf(f, "started %s\ndone %s\n", key, key)
		f.Close()
	}
	y.mu.Unlock()
	os.WriteFile(filepath.Join(y.dir, key+".json"), []byte(`{"state":"done"}`), 0o644)
	if call != "" {
		if answer, err := http.Post(call+"/done", "text/plain", strings.NewReader(key)); err == nil {
			answer.Body.Close()
		}
	}
}

func (y *yard) settings(effects map[string]Effect) *Settings {
	s := New().(*Settings)
	s.Request = &Request{URL: y.URL + "/deed", Body: keyMark + " " + urlMark}
	s.Effects = effects
	return s
}

func (y *yard) open(t testing.TB, s *Settings) *driver {
	t.Helper()
	if faults := s.Check(plan.Surroundings{Dir: y.dir}); len(faults) > 0 {
		t.Fatalf("%v", faults)
	}
	d, err := open(contender.Setup{Dir: y.dir, Clock: clock.Start()}, s)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	return d
}

func told(shot *shots.Shot) map[string]time.Duration {
	out := map[string]time.Duration{}
	for _, m := range shot.Told {
		out[m.Name] = time.Duration(m.Value * 1e9)
	}
	return out
}
