package fleet

import (
	"context"
	"io"
	"net"
	"net/http"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"paceduel/core/bus"
	"paceduel/core/contender/all"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/rounds"
)

// long leaves a test out where tests are to be short: it waits for what is lost.
func long(t *testing.T) {
	t.Helper()
	if testing.Short() {
		t.Skip("it waits for what is lost")
	}
}

// cable is a way to a server that can be cut and mended.
type cable struct {
	ln net.Listener
	to string

	mu    sync.Mutex
	isCut bool
	conns []net.Conn
}

func newCable(t testing.TB, to string) *cable {
	t.Helper()
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	c := &cable{ln: ln, to: strings.TrimPrefix(to, "nats://")}
	t.Cleanup(func() { ln.Close(); c.cut() })
	go func() {
		for {
			near, err := ln.Accept()
			if err != nil {
				return
			}
			far, err := net.Dial("tcp", c.to)
			c.mu.Lock()
			if err != nil || c.isCut {
				near.Close()
				if far != nil {
					far.Close()
				}
				c.mu.Unlock()
				continue
			}
			c.conns = append(c.conns, near, far)
			c.mu.Unlock()
			go func() { io.Copy(near, far); near.Close() }()
			go func() { io.Copy(far, near); far.Close() }()
		}
	}()
	return c
}

func (c *cable) url() string { return "nats://" + c.ln.Addr().String() }

func (c *cable) cut() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.isCut = true
	for _, conn := range c.conns {
		conn.Close()
	}
	c.conns = nil
}

func (c *cable) mend() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.isCut = false
}

// joinOver has an agent serve over a way of its own; kill ends it as if its machine had been switched off.
func (h *harbour) joinOver(c *cable, name, place string, change ...func(*Agent)) (kill func()) {
	h.t.Helper()
	link, err := bus.Connect(h.t.Context(), bus.Access{URLs: []string{c.url()}})
	if err != nil {
		h.t.Fatal(err)
	}
	a := NewAgent(AgentConfig{
		Name: name, Place: place, Program: "test", Kinds: all.Kinds(), Env: os.LookupEnv, Rules: DefaultRules(),
	}, link)
	for _, one := range change {
		one(a)
	}
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() { defer close(ended); a.Serve(ctx) }()
	var once sync.Once
	kill = func() {
		once.Do(func() {
			c.cut()
			link.Close()
			cancel()
			<-ended
		})
	}
	h.t.Cleanup(kill)
	h.until("agent "+name+" is there", func() bool {
		cards, _, err := List(h.t.Context(), h.link("asking"), 50*time.Millisecond)
		return err == nil && slices.ContainsFunc(cards, func(c Card) bool { return c.Instance == a.id })
	})
	return kill
}

// atHeat calls do once, when the service is asked for the first time in the n-th heat of a run: however busy the
// machine is, agents are in the middle of that heat then.
func (h *harbour) atHeat(n int32, do func()) func(rounds.Event) {
	var heats atomic.Int32
	var once sync.Once
	h.see(func(*http.Request) {
		if heats.Load() == n {
			once.Do(func() { go do() })
		}
	})
	return func(e rounds.Event) {
		if _, ok := e.(rounds.HeatBegan); ok {
			heats.Add(1)
		}
	}
}

const faulty = "pace: { clients: 4, for: 300ms, warmup: 0 }\nrounds: 3\n"

// whole reports what is wrong with a run in which a round had to be done again at most so often: as many rounds are
// complete as were planned.
func whole(r *result.Result, rounds, heatsEach, again int) string {
	complete := 0
	byRound := map[int]int{}
	for i := range r.Heats {
		if r.Heats[i].Counts() {
			byRound[r.Heats[i].Round]++
		}
	}
	for _, n := range byRound {
		if n == heatsEach {
			complete++
		}
	}
	switch {
	case complete != rounds:
		return "not as many rounds are complete as were planned"
	case len(r.Order) > rounds+again:
		return "more rounds were done again than had to be"
	}
	return ""
}

// stopped are the reasons for which heats were stopped.
func stopped(r *result.Result) (why []string) {
	for i := range r.Heats {
		if r.Heats[i].Stopped != "" {
			why = append(why, r.Heats[i].Stopped)
		}
	}
	return why
}

func TestAnAgentIsKilled(t *testing.T) {
	long(t)
	for _, tt := range []struct{ name, lost string }{{"go on", ", lost: go on"}, {"stop", ""}} {
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			h := newHarbour(t)
			h.join("quay-1", "")
			kill := h.joinOver(newCable(t, h.bus.URL()), "quay-2", "")
			r, err := h.run(h.plan(faulty+"load: { agents: 2, within: 1s"+tt.lost+" }\n", nil), h.atHeat(3, kill))
			why := stopped(r)
			if len(why) != 1 || !strings.Contains(why[0], "agent quay-2 has not answered for 1") {
				t.Errorf("stopped heats: %q", why)
			}
			if tt.lost == "" {
				if err == nil || !strings.Contains(err.Error(), "lost: go on") || r.Ending != result.Failed {
					t.Errorf("the run ended with %v, %s", err, r.Ending)
				}
				return
			}
			if err != nil || whole(r, 3, 2, 1) != "" || r.Agent("quay-2").LostIn != 2 {
				t.Errorf("%v, %s, lost in round %d", err, whole(r, 3, 2, 1), r.Agent("quay-2").LostIn)
			}
			if last := &r.Heats[len(r.Heats)-1]; len(last.Shares) != 1 || last.Clients != 4 {
				t.Errorf("the last heat was driven by %d agents", len(last.Shares))
			}
		})
	}
}

// An agent that is cut off finishes its heat, keeps what came of it, and hands it over when it is back.
func TestAnAgentIsCutOffAndBack(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	h.join("quay-1", "")
	c := newCable(t, h.bus.URL())
	h.joinOver(c, "quay-2", "")
	r, err := h.run(h.plan(faulty+"load: { agents: 2, within: 4s }\n", nil), h.atHeat(3, func() {
		c.cut()
		time.AfterFunc(900*time.Millisecond, c.mend)
	}))
	if err != nil || whole(r, 3, 2, 0) != "" || len(stopped(r)) > 0 {
		t.Errorf("%v, %s, stopped: %q", err, whole(r, 3, 2, 0), stopped(r))
	}
}

// One that is away for longer than anybody waits stops the heat; when it is back the round is done again with it.
func TestAnAgentIsAwayForLong(t *testing.T) {
	long(t)
	t.Parallel()
	h := newHarbour(t)
	h.join("quay-1", "")
	c := newCable(t, h.bus.URL())
	h.joinOver(c, "quay-2", "")
	r, err := h.run(h.plan(faulty+"load: { agents: 2, within: 2s }\n", nil), h.atHeat(3, func() {
		c.cut()
		time.AfterFunc(3*time.Second, c.mend)
	}))
	if err != nil || whole(r, 3, 2, 1) != "" || len(stopped(r)) != 1 || r.Agent("quay-2").LostIn != 0 {
		t.Errorf("%v, %s, stopped: %q", err, whole(r, 3, 2, 1), stopped(r))
	}
	if last := &r.Heats[len(r.Heats)-1]; len(last.Shares) != 2 {
		t.Errorf("the last heat was driven by %d agents", len(last.Shares))
	}
}

// An agent that was killed and joins again under its name is taken on again, while all are told that the run goes on.
func TestAnAgentIsStartedAnew(t *testing.T) {
	long(t)
	t.Parallel()
	h := newHarbour(t)
	h.join("quay-1", "")
	kill := h.joinOver(newCable(t, h.bus.URL()), "quay-2", "")
	r, err := h.run(h.plan(h.fresh()+faulty+"load: { agents: 2, within: 1s }\n", nil), h.atHeat(3, func() {
		kill()
		h.joinOver(newCable(t, h.bus.URL()), "quay-2", "")
	}), func(f *Fleet) { f.every = time.Millisecond })
	if err != nil || whole(r, 3, 2, 1) != "" || len(r.Heats[len(r.Heats)-1].Shares) != 2 {
		t.Errorf("%v, %s, stopped: %q", err, whole(r, 3, 2, 1), stopped(r))
	}
}

// A bus that goes away in the middle of a heat ends nothing that is measured.
func TestTheBusIsRestarted(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	h.join("quay-1", "")
	h.join("quay-2", "")
	address := strings.TrimPrefix(h.bus.URL(), "nats://")
	r, err := h.run(h.plan(faulty+"load: { agents: 2, within: 3s }\n", nil), h.atHeat(3, func() {
		h.bus.Close()
		time.Sleep(700 * time.Millisecond)
		s, err := bus.Listen(bus.Listening{Address: address})
		if err != nil {
			t.Error(err)
			return
		}
		h.bus = s
		t.Cleanup(s.Close)
	}))
	if err != nil || whole(r, 3, 2, 0) != "" || len(stopped(r)) > 0 {
		t.Errorf("%v, %s, stopped: %q", err, whole(r, 3, 2, 0), stopped(r))
	}
}

// A clock that goes off by 80 ms within a heat is told; one that is always ahead is not: it is compared, not trusted.
func TestClocksThatAreOff(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	var jump atomic.Int64
	h.join("quay-1", "")
	h.join("quay-2", "", func(a *Agent) { a.off = func() time.Duration { return time.Duration(jump.Load()) } })
	r, err := h.run(h.plan(faulty+"load: { agents: 2 }\n", nil), h.atHeat(3, func() {
		jump.Store(int64(80 * time.Millisecond)) // clocks have been compared once
	}))
	if err != nil || len(r.Heats) != 6 {
		t.Fatal(err, len(r.Heats))
	}
	off := &r.Heats[2].Shares[1]
	if off.Drift < 60*time.Millisecond || off.Drift > 81*time.Millisecond || off.Within < 39*time.Millisecond {
		t.Errorf("a clock that went off by 80 ms is told as %v off, within %v", off.Drift, off.Within)
	}
	for i := range r.Heats {
		for j := range r.Heats[i].Shares {
			if s := &r.Heats[i].Shares[j]; s != off && s.Drift > time.Millisecond {
				t.Errorf("heat %d, %s: %v off, within %v", i, s.Agent, s.Drift, s.Within)
			}
		}
	}
}

// An agent that hears nothing of its run any more is free for others.
func TestARunThatIsGoneIsForgotten(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	var agent *Agent
	h.join("quay-1", "", func(a *Agent) { agent = a })
	link := h.link("runs")
	f := New(Config{Link: link, Program: "test", Kinds: all.Kinds()})
	m := newMember(*agent.card(), &plan.Load{})
	f.run, f.plan, f.patience = "1128-0000abc", h.plan(faulty, nil), time.Second
	if err := f.engage(t.Context(), m); err != nil || agent.card().Run == "" {
		t.Fatal(err)
	}
	dir := agent.run.dir
	agent.run.mu.Lock()
	agent.run.heard = time.Now().Add(-forgotten - time.Second)
	agent.run.mu.Unlock()
	h.until("the run is let go", func() bool { return agent.card().Run == "" })
	h.until("its folder is gone", func() bool { _, err := os.Stat(dir); return os.IsNotExist(err) })
}
