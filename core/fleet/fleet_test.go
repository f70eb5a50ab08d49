package fleet

import (
	"context"
	"errors"
	"flag"
	"fmt"
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

	"paceduel/core/bus"
	"paceduel/core/contender/all"
	"paceduel/core/keeper"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/core/result"
	"paceduel/core/rounds"
)

func TestMain(m *testing.M) {
	keeper.Run()                   // does not return in the process that removes folders when we are killed
	hostMany()                     // does not return in the process that many agents share
	flag.Set("test.parallel", "6") // tests wait for most of their time
	os.Exit(m.Run())
}

// harbour is a bus with agents on it, and a service for them to ask.
type harbour struct {
	t    testing.TB
	bus  *bus.Server
	url  string
	hits atomic.Int64
	seen atomic.Pointer[func(*http.Request)] // is told of each request, when set
	flag atomic.Pointer[string]              // the file without which the service does not answer, when set
	// connect makes a link to a bus; nil: to the harbour's own.
	connect func() *bus.Link
}

func newHarbour(t testing.TB) *harbour {
	h := &harbour{t: t}
	s, err := bus.Listen(bus.Listening{Address: "127.0.0.1:0"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	h.bus = s
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h.hits.Add(1)
		if seen := h.seen.Load(); seen != nil {
			(*seen)(r)
		}
		if flag := h.flag.Load(); flag != nil {
			if _, err := os.Stat(*flag); err != nil {
				http.Error(w, "nobody is here", http.StatusServiceUnavailable)
				return
			}
		}
		fmt.Fprintln(w, "six berths")
	}))
	t.Cleanup(service.Close)
	h.url = service.URL
	return h
}

// fresh has the service stand as one does that is started for each heat, and returns the lines of a plan for that.
func (h *harbour) fresh() (lines string) {
	flag := filepath.Join(h.t.TempDir(), "stands")
	h.flag.Store(&flag)
	return fmt.Sprintf("footing: { before: { heat: [ 'touch %s' ] }, after: { heat: [ 'rm %s' ] } }\n", flag, flag)
}

// see has f told of each request from now on.
func (h *harbour) see(f func(*http.Request)) { h.seen.Store(&f) }

func (h *harbour) link(name string) *bus.Link {
	h.t.Helper()
	if h.connect != nil {
		return h.connect()
	}
	l, err := bus.Connect(h.t.Context(), bus.Access{URLs: []string{h.bus.URL()}, Name: name})
	if err != nil {
		h.t.Fatal(err)
	}
	h.t.Cleanup(l.Close)
	return l
}

// join has an agent serve until the test ends, or leave is called.
func (h *harbour) join(name, place string, change ...func(*Agent)) (leave func()) {
	h.t.Helper()
	a := NewAgent(AgentConfig{
		Name: name, Place: place, Program: "test", Kinds: all.Kinds(), Env: os.LookupEnv, Rules: DefaultRules(),
		Host: result.Host{Cores: 2, Kernel: "6.1", CPU: "harbour"},
	}, h.link(name))
	for _, c := range change {
		c(a)
	}
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- a.Serve(ctx) }()
	h.until("agent "+name+" is there", func() bool {
		cards, _, err := List(h.t.Context(), h.link("asking"), 50*time.Millisecond)
		return err == nil && slices.ContainsFunc(cards, func(c Card) bool { return c.Instance == a.id })
	})
	leave = func() {
		cancel()
		if err := <-ended; err != nil {
			h.t.Error(err)
		}
		ended <- nil
	}
	h.t.Cleanup(leave)
	return leave
}

// until waits until something has come about.
func (h *harbour) until(what string, come func() bool) {
	h.t.Helper()
	deadline := time.Now().Add(20 * time.Second)
	for !come() {
		if time.Now().After(deadline) {
			h.t.Fatalf("%s: not after 20 s", what)
		}
		time.Sleep(10 * time.Millisecond)
	}
}

// plan reads a plan of two contenders that are the same, with more lines.
func (h *harbour) plan(lines string, env map[string]string) *plan.Plan {
	h.t.Helper()
	return h.planOf("", lines, env)
}

// planOf reads such a plan with more in its course.
func (h *harbour) planOf(course, lines string, env map[string]string) *plan.Plan {
	h.t.Helper()
	dir := h.t.TempDir()
	text := "duel: Board\nbaseline: joined\ncourse: { http: { url: \"" + h.url + "/berths\" }" + course + " }\n" +
		"contenders: { joined: , plain: }\n" + lines
	p, err := read.Plan(filepath.Join(dir, "board.duel.yaml"), []byte(text), read.Options{
		Kinds: all.PlanKinds(), Lookup: func(name string) (string, bool) { v, ok := env[name]; return v, ok },
	})
	if err != nil {
		h.t.Fatal(err)
	}
	return p
}

// run runs a duel with the agents that are there.
func (h *harbour) run(p *plan.Plan, watch func(rounds.Event), change ...func(*Fleet)) (*result.Result, error) {
	h.t.Helper()
	return runOver(h.t.Context(), h.link("runs"), p, watch, change...)
}

// watching tells watch, where that is not nil, of each event that is sent to out; watched is closed when out has been.
func watching(watch func(rounds.Event)) (out chan rounds.Event, watched chan struct{}) {
	out, watched = make(chan rounds.Event), make(chan struct{})
	go func() {
		defer close(watched)
		for e := range out {
			if watch != nil {
				watch(e)
			}
		}
	}()
	return out, watched
}

// atLeisure has nobody blamed for what the machine does: it is all agents at once, and has other things to do.
func atLeisure(f *Fleet) { f.late, f.stood = time.Minute, time.Minute }

func runOver(
	ctx context.Context, link *bus.Link, p *plan.Plan, watch func(rounds.Event), change ...func(*Fleet),
) (*result.Result, error) {
	hands := New(Config{Link: link, Program: "test", Kinds: all.Kinds(), Wait: 2 * time.Second})
	atLeisure(hands)
	for _, c := range change {
		c(hands)
	}
	out, watched := watching(watch)
	r, err := rounds.Run(ctx, rounds.Config{Plan: p, Kinds: all.Kinds(), Program: "test", Seed: 7, Hands: hands}, out)
	<-watched
	return r, err
}

func TestADuelIsDrivenByAgents(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	h.join("quay-1", "")
	h.join("quay-2", "")
	var heard int
	r, err := h.run(h.plan("pace: { clients: 5, shots: 101, warmup: 7 }\nrounds: 3\nload: { agents: 2 }\n", nil),
		func(e rounds.Event) {
			if _, ok := e.(rounds.AgentReady); ok {
				heard++
			}
		})
	if err != nil {
		t.Fatal(err)
	}
	if len(r.Heats) != 6 || len(r.Load.Agents) != 2 || heard != 2 || len(r.Load.Agents[0].Floor) == 0 {
		t.Fatalf("%d heats, agents %+v", len(r.Heats), r.Load)
	}
	for i := range r.Heats {
		heat := &r.Heats[i]
		if !heat.Counts() || heat.OK != 101 || heat.Warmup != 7 || heat.Clients != 5 || heat.Failed() != 0 ||
			heat.Busy <= 0 {
			t.Errorf("heat %d: %d shots after %d, %d clients, %q", i, heat.OK, heat.Warmup, heat.Clients, heat.Stopped)
		}
		d, err := heat.Histogram()
		if err != nil || d.Total != 101 {
			t.Errorf("heat %d: %v", i, err)
		}
		if len(heat.Shares) != 2 || heat.Shares[0].OK+heat.Shares[1].OK != 101 || heat.Shares[0].OK != 51 {
			t.Errorf("heat %d: shares %+v", i, heat.Shares)
		}
		for _, dot := range heat.Dots {
			if dot.At < heat.At || dot.At > heat.At+heat.Wall+time.Millisecond {
				t.Errorf("heat %d from %v to %v has a shot at %v", i, heat.At, heat.At+heat.Wall, dot.At)
			}
		}
	}
	// one heat is 108 shots; each side asks at the weigh-in, and each agent measures its floor elsewhere
	if n := h.hits.Load(); n < 6*108 || n > 6*108+3*2*3 {
		t.Errorf("the service was asked %d times; want 648 and a few", n)
	}
}

// What is started for each heat stands while agents ask it before the first one, too, each contender by itself.
func TestAgentsAskWhatStands(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	h.join("quay-1", "near")
	h.join("quay-2", "far")
	p := h.plan(h.fresh()+"pace: { clients: 2, shots: 20, warmup: 2 }\nrounds: 2\nload: { places: [near, far] }\n", nil)
	r, err := h.run(p, nil)
	if err != nil {
		t.Fatal(err)
	}
	if len(r.Heats) != 8 || slices.ContainsFunc(r.Heats, func(h result.Heat) bool {
		return h.OK != 20 ||
			h.Failed() > 0
	}) {
		t.Errorf("%d heats, %s", len(r.Heats), whole(r, 2, 4, 0))
	}
	h.flag.Store(new(string)) // it does not come up: every agent says so
	_, err = h.run(h.plan("pace: { clients: 2, shots: 20 }\nrounds: 2\nload: { agents: 2 }\n", nil), nil)
	if err == nil || !strings.Contains(err.Error(), "did not pass the weigh-in") {
		t.Errorf("a service that is not there: %v", err)
	}
}

// Whoever runs the duel sees who waits while agents drive it.
func TestABystanderOfAgents(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	h.join("quay-1", "")
	h.join("quay-2", "")
	const held = 60 * time.Millisecond
	var quay sync.Mutex
	var passed atomic.Int64
	h.see(func(r *http.Request) {
		quay.Lock() // one at a time, and berths take long
		defer quay.Unlock()
		if r.URL.Path == "/pass" {
			passed.Add(1)
		} else {
			time.Sleep(held)
		}
	})
	p := h.planOf(fmt.Sprintf(", bystander: { http: { url: \"%s/pass\" }, rate: 200/s, quiet: 50ms }", h.url),
		"pace: { clients: 2, shots: 6 }\nrounds: 1\nload: { agents: 2 }\n", nil)
	r, err := h.run(p, nil)
	if err != nil {
		t.Fatal(err)
	}
	var due int64
	for i := range r.Heats {
		b := r.Heats[i].Bystander
		if b == nil || b.Quiet.Due < 5 || b.Quiet.OK != b.Quiet.Due || b.Meanwhile.OK != b.Meanwhile.Due ||
			b.Meanwhile.Longest < held*9/10 || r.Heats[i].OK != 6 {
			t.Fatalf("heat %d: %d shots, and beside them %+v", i, r.Heats[i].OK, b)
		}
		due += b.Quiet.Due + b.Meanwhile.Due
	}
	if n := passed.Load(); len(r.Heats) != 2 || n < due {
		t.Errorf("%d heats; the service let %d pass of %d that were due", len(r.Heats), n, due)
	}
}

func TestPlacesAreStates(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	h.join("near-1", "near")
	h.join("far-1", "far")
	h.join("far-2", "far")
	r, err := h.run(h.plan("pace: { clients: 4, shots: 40, warmup: 0 }\nrounds: 2\nload: { places: [near, far] }\n",
		nil), nil)
	if err != nil {
		t.Fatal(err)
	}
	if len(r.Heats) != 8 || !slices.Equal(r.States(), []string{"near", "far"}) {
		t.Fatalf("%d heats in %v", len(r.Heats), r.States())
	}
	for i := range r.Heats {
		want := map[string]int{"near": 1, "far": 2}[r.Heats[i].State]
		if len(r.Heats[i].Shares) != want || r.Heats[i].OK != 40 {
			t.Errorf("heat %d at %s: %d agents, %d shots", i, r.Heats[i].State, len(r.Heats[i].Shares), r.Heats[i].OK)
		}
	}
}

// Rows are dealt so that agents ask for all of them and none twice in a pass.
func TestRowsAreDealtWithoutOverlap(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	asked := make(chan string, 10_000)
	h.see(func(r *http.Request) { asked <- r.URL.Query().Get("vessel") })
	for i := range 3 {
		h.join(fmt.Sprintf("quay-%d", i), "")
	}
	p := h.plan("pace: { clients: 3, shots: 60, warmup: 0 }\nrounds: 1\n", nil)
	rows := "vessel\n"
	for i := range 60 {
		rows += fmt.Sprintf("v%02d\n", i)
	}
	if err := os.WriteFile(filepath.Join(p.Dir, "vessels.csv"), []byte(rows), 0o600); err != nil {
		t.Fatal(err)
	}
	text := strings.Replace(p.Source, "/berths\" }", "/berths?vessel={{vessel}}\", rows: vessels.csv }", 1)
	p, err := read.Plan(filepath.Join(p.Dir, "board.duel.yaml"), []byte(text), read.Options{Kinds: all.PlanKinds()})
	if err != nil {
		t.Fatal(err)
	}
	for range 2 { // one for each contender
		if _, err := h.run(p, nil); err != nil {
			t.Fatal(err)
		}
	}
	close(asked)
	counts := map[string]int{}
	for v := range asked {
		counts[v]++
	}
	weighed := counts["v00"] // asked at weigh-ins, too
	delete(counts, "v00")
	for v, n := range counts {
		if n != 4 {
			t.Errorf("%s was asked for %d times; want 4", v, n)
		}
	}
	if len(counts) != 59 || weighed < 4 {
		t.Errorf("%d rows were asked for; want 60", len(counts)+1)
	}
}

func TestWhoIsMissingIsNamed(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	h.join("quay-1", "near")
	tests := []struct{ load, want string }{
		{"{ agents: 3 }", "1 free agent of 3"},
		{"{ agents: [quay-1, quay-9] }", "agent quay-9 is not there"},
		{"{ places: [near, far] }", "0 free agents at far of 1"},
	}
	for _, tt := range tests {
		_, err := h.run(h.plan("pace: { clients: 4, shots: 40, warmup: 0 }\nrounds: 1\nload: "+tt.load+"\n", nil), nil)
		if err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("load %s: %v; want %q", tt.load, err, tt.want)
		}
	}
	if n := h.hits.Load(); n > 40 {
		t.Errorf("the service was asked %d times although nobody drove", n)
	}
}

func TestTwoOfOneName(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	h.join("quay-1", "")
	second := NewAgent(AgentConfig{Name: "quay-1", Program: "test"}, h.link("second"))
	if err := second.Serve(t.Context()); err == nil || !strings.Contains(err.Error(), "--name") {
		t.Errorf("a second quay-1: %v", err)
	}
}

// Whatever a plan says, an agent asks only whom its owner allows, as much as its owner allows, with what its owner
// lends.
func TestOwnersDecide(t *testing.T) {
	h := newHarbour(t)
	few := func(a *Agent) { a.cfg.Rules.Clients, a.cfg.Rules.Rate, a.cfg.Rules.Heat = 3, 50, time.Second }
	h.join("quay-1", "", few)
	host, port, _ := net.SplitHostPort(strings.TrimPrefix(h.url, "http://"))
	_ = host
	tests := []struct{ name, lines, want string }{
		{"clients", "pace: { clients: 4, shots: 40, warmup: 0 }\n", "4 clients at once are more than the 3"},
		{"a rate", "pace: { rate: 60/s, most: 2, for: 500ms, warmup: 100ms }\n", "60 shots a second are more than the 50"},
		{"a long heat", "pace: { clients: 2, for: 2s }\n", "heats of 2.5s are longer than the 1s"},
		{"elsewhere", "pace: { clients: 2, shots: 4, warmup: 0 }\nallow: [quay.example]\n",
			"join with --allow quay.example"},
	}
	for _, tt := range tests {
		_, err := h.run(h.plan(tt.lines+"rounds: 1\nload: { agents: 1 }\n", nil), nil)
		if err == nil || !strings.Contains(err.Error(), tt.want) || !strings.Contains(err.Error(), "agent quay-1") {
			t.Errorf("%s: %v; want %q", tt.name, err, tt.want)
		}
	}
	t.Setenv("HARBOUR_PORT", port)
	h.url = "http://127.0.0.1:${HARBOUR_PORT}"
	p := h.plan("pace: { clients: 2, shots: 4, warmup: 0 }\nrounds: 1\nload: { agents: 1 }\n",
		map[string]string{"HARBOUR_PORT": port})
	if _, err := h.run(p, nil); err == nil || !strings.Contains(err.Error(), "--lend NAME") {
		t.Errorf("a variable that was not lent: %v", err)
	}
	h.join("quay-2", "lent", func(a *Agent) { a.cfg.Rules.Lend = []string{"HARBOUR_PORT"} })
	p = h.plan("pace: { clients: 2, shots: 4, warmup: 0 }\nrounds: 1\nload: { agents: [quay-2] }\n",
		map[string]string{"HARBOUR_PORT": port})
	if r, err := h.run(p, nil); err != nil || r.Heats[0].OK != 4 {
		t.Errorf("one that was: %v", err)
	}
}

func TestAnotherVersion(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	h.join("quay-1", "", func(a *Agent) { a.cfg.Program = "older" })
	_, err := h.run(h.plan("pace: { clients: 2, shots: 4, warmup: 0 }\nrounds: 1\n", nil), nil)
	if err == nil || !strings.Contains(err.Error(), "is of version older, and the duel is run by version test") {
		t.Errorf("with another version: %v", err)
	}
}

// An agent works for one run at a time, and says so. The service answers the first run only when the second has ended,
// however long that takes: events are taken one by one, so that the last heats, at least, are held.
// An agent that begins after the others is named, and so is one whose process does not run for a while; a heat that
// comes out so again and again ends the run.
func TestAnAgentThatIsLate(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	h.join("quay-1", "")
	h.join("quay-2", "")
	for want, change := range map[string]func(*Fleet){
		"began": func(f *Fleet) { f.late = -time.Hour }, "did not run for": func(f *Fleet) { f.stood = -1 },
	} {
		r, err := h.run(h.plan("pace: { clients: 2, shots: 2 }\nrounds: 1\nload: { agents: 2 }\n", nil), nil, change)
		if err == nil || !strings.Contains(err.Error(), "agent quay-") || !strings.Contains(err.Error(), want) ||
			len(stopped(r)) < 2 {
			t.Errorf("%v; want one who %s; stopped: %q", err, want, stopped(r))
		}
	}
}

// A plan that no message holds is told for what it is: nobody is silent.
func TestAPlanThatIsTooLong(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	h.join("quay-1", "")
	p := h.plan("pace: { clients: 1, shots: 1 }\nrounds: 1\nload: { agents: 1, within: 1h }\n# "+
		strings.Repeat("x", bus.Most), nil)
	if _, err := h.run(p, nil); err == nil || !strings.Contains(err.Error(), bus.ErrTooLong.Error()) {
		t.Errorf("%v", err)
	}
}

func TestTwoRunsOverOneBus(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	begun, answer, over := make(chan struct{}), make(chan struct{}), make(chan error, 1)
	h.see(func(r *http.Request) {
		if !strings.HasPrefix(r.URL.Path, "/held") {
			return
		}
		select {
		case <-begun:
			<-answer
		default:
		}
	})
	h.join("quay-1", "")
	short := h.plan("pace: { clients: 2, shots: 4, warmup: 0 }\nrounds: 1\nload: { agents: 1 }\n", nil)
	h.url += "/held"
	held := h.plan("pace: { clients: 2, shots: 4, warmup: 0 }\nrounds: 3\nload: { agents: 1 }\n", nil)
	link := h.link("first")
	go func() {
		var once sync.Once
		_, err := runOver(t.Context(), link, held, func(e rounds.Event) {
			if _, ok := e.(rounds.HeatBegan); ok {
				once.Do(func() { close(begun) })
			}
		})
		over <- err
	}()
	<-begun
	_, err := h.run(short, nil)
	if err == nil || !strings.Contains(err.Error(), "quay-1 works for run") {
		t.Errorf("a second run: %v", err)
	}
	close(answer)
	if err := <-over; err != nil {
		t.Errorf("the first run: %v", err)
	}
	if _, err := h.run(short, nil); err != nil {
		t.Errorf("afterwards: %v", err)
	}
}

// An interrupt ends a heat elsewhere at once, and what was measured is kept.
func TestAnInterruptReachesAgents(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	h.join("quay-1", "")
	p := h.plan("pace: { clients: 2, for: 60s }\nrounds: 2\nload: { agents: 1 }\n", nil)
	ctx, cancel := context.WithCancel(t.Context())
	r, err := runOver(ctx, h.link("runs"), p, h.atHeat(1, cancel))
	if !errors.Is(err, context.Canceled) || r.Ending != result.Interrupted {
		t.Errorf("ended with %v, %s", err, r.Ending)
	}
	before := h.hits.Load()
	h.until("the agent is free", func() bool {
		cards, _, _ := List(t.Context(), h.link("asking"), 50*time.Millisecond)
		return len(cards) == 1 && cards[0].Run == ""
	})
	if after := h.hits.Load(); after > before+4 {
		t.Errorf("the service was asked %d times after the interrupt", after-before)
	}
}

// A heat ends when its owner has it, however long its shots take.
func TestAHeatTakesNoLongerThanTheOwnerAllows(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	h.join("quay-1", "", func(a *Agent) { a.cfg.Rules.Heat = 300 * time.Millisecond })
	var heats atomic.Int32
	h.see(func(r *http.Request) {
		if heats.Load() > 0 {
			<-r.Context().Done() // whoever asks has gone
		}
	})
	_, err := h.run(h.plan("pace: { clients: 2, shots: 4, warmup: 0 }\nrounds: 1\nload: { agents: 1 }\n", nil),
		func(e rounds.Event) {
			if _, ok := e.(rounds.HeatBegan); ok {
				heats.Add(1)
			}
		})
	if err == nil || !strings.Contains(err.Error(), "the heat takes longer than the 300ms that whoever owns the agent") ||
		heats.Load() != 1 {
		t.Errorf("a heat without an end: %v after %d heats", err, heats.Load())
	}
}
