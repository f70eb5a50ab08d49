package rounds_test

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"paceduel/core/clock"
	"paceduel/core/contender/all"
	"paceduel/core/plan/read"
	"paceduel/core/result"
	"paceduel/core/rounds"
)

// openingHands get ready by opening one hand, and drive nothing.
type openingHands struct {
	rounds.Hands
	cfg rounds.HandConfig
}

var errDrivesNothing = errors.New("it drives nothing")

func (h openingHands) Open(ctx context.Context, o rounds.Opening) (*result.Load, error) {
	h.cfg.Ports = o.Ports
	hand, _, err := rounds.OpenHand(ctx, h.cfg)
	hand.Close()
	if err == nil {
		err = errDrivesNothing
	}
	return nil, err
}

func (openingHands) Close() {}

// In a sweep a contender may have a service at each point; who drives it from elsewhere asks that of the point.
func TestAHandAsksTheServiceOfThePoint(t *testing.T) {
	var mu sync.Mutex
	asked := map[string][]string{} // what each service was asked for, by its port
	var ports []string
	for range 3 {
		s := httptest.NewUnstartedServer(nil)
		port := s.Listener.Addr().String()
		port = port[strings.LastIndex(port, ":")+1:]
		s.Config.Handler = http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
			mu.Lock()
			defer mu.Unlock()
			asked[port] = append(asked[port], r.URL.Path)
		})
		s.Start()
		defer s.Close()
		ports = append(ports, port)
	}
	slices.Sort(ports)
	p, err := read.Plan("b.duel.yaml", []byte(fmt.Sprintf(`duel: Board
baseline: joined
course:
  service: { running: { port: 1 } }
  http: { url: "http://127.0.0.1:${PORT}/{{quay}}" }
contenders: { joined: , plain: }
pace: { clients: 1, shots: 4, warmup: 0 }
sweep: { over: { quay: { values: [%s], sets: service.running.port } } }
load: { agents: 1 }
`, strings.Join(ports, ", "))), read.Options{Kinds: all.PlanKinds()})
	if err != nil {
		t.Fatal(err)
	}
	cfg := rounds.Config{Plan: p, Kinds: all.Kinds(), Program: "test", Seed: 7}
	own := cfg
	cfg.Hands = openingHands{cfg: rounds.HandConfig{Config: own, Clock: clock.Start()}}
	out := make(chan rounds.Event)
	go func() {
		for range out {
		}
	}()
	if _, err := rounds.Run(t.Context(), cfg, out); !errors.Is(err, errDrivesNothing) {
		t.Fatal(err)
	}
	mu.Lock()
	defer mu.Unlock()
	for _, port := range ports {
		// by each of two contenders, here and by the hand
		if got := asked[port]; len(got) < 4 || slices.ContainsFunc(got,
			func(path string) bool { return path != "/"+port }) {
			t.Errorf("the service at port %s was asked for %q", port, got)
		}
	}
}

// failingHands do their part of no heat.
type failingHands struct {
	rounds.Hands
	final bool
	drove int
}

func (h *failingHands) Open(context.Context, rounds.Opening) (*result.Load, error) {
	return &result.Load{Agents: []result.Agent{{Name: "quay-1"}}}, nil
}

func (h *failingHands) Drive(context.Context, *rounds.Handed) (*rounds.Driven, error) {
	h.drove++
	return nil, &rounds.HandsError{Names: []string{"quay-1"}, What: "agent quay-1 began 300 ms late", Final: h.final}
}

func (h *failingHands) Mend(context.Context, *rounds.HandsError) ([]string, error) { return nil, nil }

func (h *failingHands) Close() {}

// Rounds that agents did not do their part of are done again as often as were planned, five times at least, and no more
// often; once where it would come again.
func TestRoundsAreNotDoneAgainForEver(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "six") }))
	defer s.Close()
	for _, tt := range []struct {
		name   string
		rounds int
		final  bool
		drove  int
		want   string
	}{
		{"few rounds", 2, false, 6, "6 rounds had to be done again"},
		{"many", 8, false, 9, "9 rounds had to be done again"},
		{"of no use", 8, true, 1, "began 300 ms late"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			p, err := read.Plan("b.duel.yaml", []byte(fmt.Sprintf("duel: Board\nbaseline: joined\n"+
				"course: { http: { url: '%s/' } }\ncontenders: { joined: , plain: }\n"+
				"pace: { clients: 1, shots: 4, warmup: 0 }\nrounds: %d\nload: { agents: 1 }\n", s.URL, tt.rounds)),
				read.Options{Kinds: all.PlanKinds()})
			if err != nil {
				t.Fatal(err)
			}
			hands := &failingHands{final: tt.final}
			out := make(chan rounds.Event)
			go func() {
				for range out {
				}
			}()
			r, err := rounds.Run(t.Context(), rounds.Config{
				Plan: p, Kinds: all.Kinds(), Program: "test", Seed: 7, Hands: hands,
			}, out)
			if err == nil || !strings.Contains(err.Error(), tt.want) || hands.drove != tt.drove || r.Ending != result.Failed {
				t.Errorf("%v, %s after %d heats; want %q after %d", err, r.Ending, hands.drove, tt.want, tt.drove)
			}
		})
	}
}

// What driving costs at least is found out with a server in this process, which has to run meanwhile: on one processor,
// too, no shot takes as long as whoever drives waits at most.
func TestTheFloorOnOneProcessor(t *testing.T) {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))
	floors, err := rounds.MeasureFloors(t.Context(), all.Kinds())
	if err != nil || len(floors) == 0 {
		t.Fatal(floors, err)
	}
	for _, f := range floors {
		if each := f.Wall / time.Duration(max(f.Shots, 1)); each > 4*time.Millisecond || f.Failed > 0 {
			t.Errorf("a shot of kind %s that costs nothing takes %s, and %d failed", f.Kind, each, f.Failed)
		}
	}
}
