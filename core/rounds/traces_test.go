package rounds_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"paceduel/core/contender"
	httpkind "paceduel/core/contender/http"
	"paceduel/core/judge"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/core/result"
	"paceduel/core/rounds"
)

// instrumented is a stand-in for a service that sends spans: of each sampled request a page with three look-ups of
// known lengths, one after another or together, and a known number of queries within each.
type instrumented struct {
	*httptest.Server
	sink    string // where spans go; empty: nowhere
	sending sync.WaitGroup
	mu      sync.Mutex
	plain   int // requests that were not sampled
	sampled int
}

// What a page takes there, in ms: its look-ups, and what comes after.
var lookups = []struct {
	name string
	took int
}{{"vessel", 2}, {"berth", 3}, {"tide", 4}}

func instrument(t *testing.T, sink string) *instrumented {
	t.Helper()
	s := &instrumented{sink: sink}
	s.Server = httptest.NewServer(http.HandlerFunc(s.serve))
	t.Cleanup(func() {
		s.Close()
		s.sending.Wait()
	})
	return s
}

func (s *instrumented) serve(w http.ResponseWriter, r *http.Request) {
	began := time.Now()
	together := r.URL.Path == "/together"
	whole := 9 * time.Millisecond
	if together {
		whole = 4 * time.Millisecond
	}
	time.Sleep(whole + time.Millisecond) // stands for the look-ups, which take so long
	parent := strings.Split(r.Header.Get("Traceparent"), "-")
	s.mu.Lock()
	if len(parent) != 4 || parent[3] != "01" {
		s.plain++
		s.mu.Unlock()
		fmt.Fprint(w, "page")
		return
	}
	s.sampled++
	id := s.sampled
	s.mu.Unlock()
	var list []map[string]any
	add := func(n int, of, name string, from, to time.Duration) string {
		own := fmt.Sprintf("%08x%08x", id, n)
		list = append(list, map[string]any{
			"traceId": parent[1], "spanId": own, "parentSpanId": of, "name": name,
			"startTimeUnixNano": fmt.Sprint(began.Add(from).UnixNano()), "endTimeUnixNano": fmt.Sprint(began.Add(to).UnixNano()),
		})
		return own
	}
	page := add(1, parent[2], "GET /page", 0, whole)
	at := time.Duration(0)
	for i, l := range lookups {
		took := time.Duration(l.took) * time.Millisecond
		own := add(10*(i+1), page, l.name, at, at+took)
		for q := range 4 {
			add(10*(i+1)+q+1, own, "select "+l.name, at+time.Duration(q)*took/4, at+time.Duration(q+1)*took/4)
		}
		if !together {
			at += took
		}
	}
	text, _ := json.Marshal(map[string]any{"resourceSpans": []any{map[string]any{
		"resource": map[string]any{}, "scopeSpans": []any{map[string]any{"spans": list}},
	}}})
	if s.sink != "" {
		s.sending.Go(func() { // when the answer is out, as exporters do
			if answer, err := http.Post(s.sink+"/v1/traces", "application/json", bytes.NewReader(text)); err == nil {
				answer.Body.Close()
			}
		})
	}
	fmt.Fprint(w, "page")
}

// freePort is an address of this machine that nobody listens on.
func freePort(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().String()
}

// runTraced runs a duel of two ways of the stand-in.
func runTraced(t *testing.T, s *instrumented, traces, pace string) *result.Result {
	t.Helper()
	src := fmt.Sprintf("duel: T\nbaseline: in-turn\ncourse: { traces: %s }\npace: %s\nrounds: 5\ncontenders:\n"+
		"  in-turn: { http: { url: %q } }\n  together: { http: { url: %q } }\n", traces, pace, s.URL+"/in-turn",
		s.URL+"/together")
	p, err := read.Plan(t.TempDir()+"/p.duel.yaml", []byte(src), read.Options{Kinds: []plan.Kind{httpkind.Kind.Kind}})
	if err != nil {
		t.Fatal(err)
	}
	out := make(chan rounds.Event)
	go func() {
		for range out {
		}
	}()
	r, err := rounds.Run(t.Context(), rounds.Config{Plan: p, Kinds: []contender.Kind{httpkind.Kind}, Seed: 1}, out)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// What a service tells of itself agrees with what it is known to do: steps, counts and sums exactly, times within 2 %
// or 100 µs.
func TestTracesTellWhatHappened(t *testing.T) {
	sink := freePort(t)
	s := instrument(t, "http://"+sink)
	r := runTraced(t, s, "{ of: 8, listen: \""+sink+"\" }", "{ repeat: 24 }")
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	for i := range r.Heats {
		h := &r.Heats[i]
		if h.Traced == nil || h.Traced.Lost > 0 || h.Traced.Sampled < 6 || h.Traced.Sampled > 12 || h.Inside == nil ||
			h.Traced.Spans < 16*h.Traced.Sampled || h.Traced.Foreign+h.Traced.Late+h.Traced.Doubled+h.Traced.Broken > 0 {
			t.Fatalf("round %d of %s: %+v", h.Round, h.Contender, h.Traced)
		}
	}
	if s.plain == 0 || s.sampled == 0 {
		t.Errorf("%d sampled, %d not", s.sampled, s.plain)
	}
	near := func(what string, got, want float64) {
		if off := math.Abs(got - want); off > max(0.02*want, 100e-6) {
			t.Errorf("%s took %g s; want %g", what, got, want)
		}
	}
	all := v.Inner(r)
	if len(all) != 2 {
		t.Fatalf("%d contenders are known inside", len(all))
	}
	for i, in := range all {
		if len(in.Steps) != 7 || in.Steps[0].Path != "GET /page" {
			t.Fatalf("%s: %d steps, the first %s", in.Name(), len(in.Steps), in.Steps[0].Path)
		}
		for j := range in.Steps {
			step := &in.Steps[j]
			for _, l := range lookups {
				took := float64(l.took) / 1e3
				if step.Name == l.name {
					near(in.Name()+" "+step.Name, step.Total.V, took)
				}
				if step.Name == "select "+l.name && (step.Count != 4 || step.AtOnce != 1) {
					t.Errorf("%s: %g x %s, %d at once", in.Name(), step.Count, step.Name, step.AtOnce)
				}
			}
		}
		// What is outside of the page is the way there and back; within it the path is exact.
		page := in.Steps[0].OnPath.V
		rest := in.Length.V - page
		near(in.Name()+", added up", in.Added.V, 9e-3)
		near(in.Name()+" page", page, []float64{9e-3, 4e-3}[i])
		near(in.Name()+" together", in.Together.V-rest, 1e-3) // the longest select
	}
	if m := v.Moved[0]; m.Moves[0].Name != "GET /page" || m.Moves[0].How != judge.Shrank {
		t.Errorf("%+v", m)
	}
	// Steps are figures for whoever names them, and no others.
	for i := range v.Faces[0].Figures {
		if strings.Contains(v.Faces[0].Figures[i].Figure.Label(), "select") {
			t.Errorf("%s is judged unasked", v.Faces[0].Figures[i].Figure)
		}
	}
}

// A service that sends nothing, since nobody told it where to, is named.
func TestSpansThatNeverCome(t *testing.T) {
	sink := freePort(t)
	r := runTraced(t, instrument(t, ""), "{ share: 50%, listen: \""+sink+"\" }", "{ repeat: 2 }")
	v, err := judge.Judge(r)
	if err != nil {
		t.Fatal(err)
	}
	found := 0
	for _, c := range v.Cautions {
		if c.Kind == judge.LostSpans {
			found++
		}
	}
	if found != 2 || len(v.Insides) != 0 || r.Heats[0].Traced.Sampled != 1 {
		t.Errorf("%d cautions, %+v", found, r.Heats[0].Traced)
	}
}
