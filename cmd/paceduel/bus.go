package main

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/pflag"

	"paceduel/core/bus"
	"paceduel/core/conduct"
	"paceduel/core/contender/all"
	"paceduel/core/fleet"
	"paceduel/core/plan"
	"paceduel/core/rounds"
)

// busOptions say how to get onto a bus, for whoever runs a duel and for agents.
type busOptions struct {
	at        string // servers, or that we are to be one; empty: no bus
	creds, ca string
	cert, key string
	wait      time.Duration
	token     string
}

const (
	listens     = "listen"
	listensWait = time.Minute      // for agents that join a bus of our own
	busWait     = 10 * time.Second // for those on one that is there
)

// runFlags are the options of whoever runs a duel.
func (o *busOptions) runFlags(f *pflag.FlagSet) {
	f.StringVar(&o.at, "bus", "", "have plans with load: driven by the agents on this bus: a NATS `SERVER`, as "+
		"nats://HOST:PORT or tls://HOST:PORT, several with commas, or \"listen [HOST:PORT]\" to be one")
	f.StringVar(&o.cert, "bus-cert", "", "with --bus listen: the server's certificate, a PEM `FILE`")
	f.StringVar(&o.key, "bus-key", "", "with --bus listen: its key, a PEM `FILE`")
	f.DurationVar(&o.wait, "bus-wait", 0, "how long agents are waited for that are not there yet, a `TIME` (default 10s, "+
		"with listen 1m)")
	o.accessFlags(f)
}

// accessFlags are those of everybody who connects to one.
func (o *busOptions) accessFlags(f *pflag.FlagSet) {
	f.StringVar(&o.creds, "bus-creds", "", "a `FILE` of credentials for the bus: a user's JWT and seed, or an NKey seed")
	f.StringVar(&o.ca, "bus-ca", "", "a PEM `FILE` of who signed the server's certificate (default: whom this machine "+
		"trusts)")
}

// joinListen makes one word of --bus listen HOST:PORT, as people write it.
func joinListen(args []string) []string {
	out := slices.Clone(args)
	for i := 0; i+2 < len(out); i++ {
		if out[i] == "--bus" && out[i+1] == listens && strings.Contains(out[i+2], ":") && !strings.HasPrefix(out[i+2],
			"-") {
			out[i+1] += " " + out[i+2]
			out = slices.Delete(out, i+2, i+3)
		}
	}
	return out
}

func (o *busOptions) access(name string) (bus.Access, error) {
	urls, err := bus.ReadURLs(o.at)
	return bus.Access{URLs: urls, Token: o.token, Credentials: o.creds, CA: o.ca, Name: name}, err
}

// onBus is a bus that is connected to; nil: none.
type onBus struct {
	link *bus.Link
	own  *bus.Server // nil: somebody else's
	wait time.Duration
}

// openBus connects to the bus that was named, or starts one; nil where none was.
func (s *settings) openBus(ctx context.Context, o busOptions) (b *onBus, err error) {
	if o.at == "" {
		return nil, nil
	}
	o.token, _ = s.env(bus.TokenVariable)
	b = &onBus{wait: o.wait}
	first, rest, _ := strings.Cut(o.at, " ")
	if first != listens {
		access, err := o.access("paceduel run")
		if err != nil {
			return nil, usageError{err}
		}
		if b.wait == 0 {
			b.wait = busWait
		}
		b.link, err = bus.Connect(ctx, access)
		return b, err
	}
	l := bus.Listening{Address: bus.DefaultListen, Token: o.token, Cert: o.cert, Key: o.key}
	if rest = strings.TrimSpace(rest); rest != "" {
		l.Address = rest
	}
	if err := l.Check(); err != nil {
		return nil, usageError{err}
	}
	if b.wait == 0 {
		b.wait = listensWait
	}
	if b.own, err = bus.Listen(l); err != nil {
		return nil, err
	}
	fmt.Fprintf(s.words.err, "paceduel: a bus at %s; agents join with: paceduel join %s\n", b.own.URL(), b.own.URL())
	if b.link, err = b.own.Connect(ctx, "paceduel run", o.token); err != nil {
		b.own.Close()
		return nil, err
	}
	return b, nil
}

// close may be called on nil.
func (b *onBus) close() {
	if b == nil {
		return
	}
	b.link.Close()
	if b.own != nil {
		b.own.Close()
	}
}

// elsewhere has a plan with load: driven by agents, or run whole by the one that sits beside its service.
func (b *onBus) elsewhere(p *plan.Plan, spec *conduct.Spec) {
	if b == nil || p.Load == nil {
		return
	}
	f := fleet.New(fleet.Config{
		Link: b.link, Program: version, Kinds: all.Kinds(), Wait: b.wait, Shots: spec.OnShots != nil,
	})
	if p.Load.Beside != "" {
		spec.Run = f.RunBeside
	} else {
		spec.Hands = f
	}
}

// needsBus is why plans cannot be run without a bus, or why they have no need of the one that was named; nil otherwise.
func needsBus(plans []*plan.Plan, named bool) error {
	driven := slices.ContainsFunc(plans, func(p *plan.Plan) bool { return p.Load != nil })
	switch {
	case driven && !named:
		return usageError{rounds.ErrNoBus}
	case named && !driven:
		return usageError{errors.New("--bus is for plans that agents drive, and none says load:; add it to the plan, or " +
			"--set load.agents=2")}
	}
	return nil
}

// staysThere is why something that was asked for cannot be had of plans that an agent runs beside a service; nil where
// all can.
func staysThere(plans []*plan.Plan, opt *runOptions) error {
	for _, p := range plans {
		switch {
		case p.Load == nil || p.Load.Beside == "":
		case opt.shots != "":
			return usageError{fmt.Errorf("--shots: shots one by one stay with agent %s, which runs %s beside its service",
				p.Load.Beside, p.Name)}
		case opt.goOn != "":
			return usageError{fmt.Errorf("--go-on: agent %s runs %s beside its service, and knows no earlier run",
				p.Load.Beside, p.Name)}
		}
	}
	return nil
}
