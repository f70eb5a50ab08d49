package main

import (
	"context"
	"strings"
	"sync"
	"time"

	"paceduel/core/bus"
	"paceduel/core/conduct"
	"paceduel/core/contender/all"
	"paceduel/core/fleet"
	"paceduel/core/meter"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/rounds"
	"paceduel/harbour"
)

// theWayOut is how long one way from the harbour to its roads takes, in the demo.
const theWayOut = 4 * time.Millisecond

// demoAgents are a bus and two agents within this program: one beside the harbour, one far from it. They are there from
// the first run on that wants them, so that nobody else waits for them.
type demoAgents struct {
	url string // of the harbour
	env lookup

	mu      sync.Mutex
	bus     *bus.Server
	links   []*bus.Link
	straits *harbour.Straits
	leave   context.CancelFunc
	serving sync.WaitGroup
}

// summoned are hands that come when they are called for.
type summoned struct {
	rounds.Hands
	agents *demoAgents
}

func (d *demoAgents) elsewhere(p *plan.Plan, spec *conduct.Spec) {
	if p.Load != nil {
		spec.Hands = &summoned{agents: d}
	}
}

// Open has the agents be there first.
func (s *summoned) Open(ctx context.Context, o rounds.Opening) (*result.Load, error) {
	link, err := s.agents.summon(ctx)
	if err != nil {
		return nil, err
	}
	s.Hands = fleet.New(fleet.Config{Link: link, Program: version, Kinds: all.Kinds(), Wait: busWait})
	return s.Hands.Open(ctx, o)
}

// Close lets them go, where they came.
func (s *summoned) Close() {
	if s.Hands != nil {
		s.Hands.Close()
	}
}

// summon starts bus and agents, and returns a link for whoever runs a duel.
func (d *demoAgents) summon(ctx context.Context) (*bus.Link, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.bus != nil {
		return d.links[0], nil
	}
	s, err := bus.Listen(bus.Listening{Address: "127.0.0.1:0"})
	if err != nil {
		return nil, err
	}
	d.bus = s
	if d.straits, err = harbour.Cross(strings.TrimPrefix(d.url, "http://"), theWayOut); err != nil {
		return nil, err
	}
	own, err := s.Connect(ctx, "paceduel demo", "")
	if err != nil {
		return nil, err
	}
	d.links = append(d.links, own)
	floors, err := rounds.MeasureFloors(ctx, all.Kinds())
	if err != nil {
		return nil, err
	}
	serving, leave := context.WithCancel(context.Background())
	d.leave = leave
	for _, a := range []struct{ name, place, url string }{
		{"quayside", "near", d.url}, {"roadstead", "far", "http://" + d.straits.Address()},
	} {
		link, err := s.Connect(ctx, "agent "+a.name, "")
		if err != nil {
			return nil, err
		}
		d.links = append(d.links, link)
		cfg := fleet.AgentConfig{
			Name: a.name, Place: a.place, Program: version, Guest: true, Kinds: all.Kinds(), Rules: fleet.DefaultRules(),
			Host: result.Host(meter.ReadHost()), Floor: floors,
			Env: func(name string) (string, bool) {
				if name == "HARBOUR" {
					return a.url, true
				}
				return d.env(name)
			},
		}
		cfg.Rules.Lend = []string{"HARBOUR"}
		d.serving.Go(func() {
			fleet.NewAgent(cfg, link).Serve(serving) // who is not there is missed by the run
		})
	}
	return own, nil
}

func (d *demoAgents) close() {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.leave != nil {
		d.leave()
	}
	d.serving.Wait()
	for _, l := range d.links {
		l.Close()
	}
	if d.bus != nil {
		d.bus.Close()
	}
	if d.straits != nil {
		d.straits.Close()
	}
}
