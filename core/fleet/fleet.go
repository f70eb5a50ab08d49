package fleet

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"paceduel/core/bus"
	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/panics"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/rounds"
	"paceduel/core/units"
)

// Config is what whoever runs a duel needs to have it driven.
type Config struct {
	Link    *bus.Link // stays the caller's
	Program string    // our version
	Kinds   []contender.Kind
	// Wait is how long agents are waited for that the plan wants; 0: as long as it takes one to answer.
	Wait time.Duration
	// Tell, when set, is told in words what is waited for. It is called from the goroutine that called Open.
	Tell func(words string)
	// Shots says that shots are wanted one by one.
	Shots bool
}

// Fleet has the heats of one run driven by agents. It is a rounds.Hands.
type Fleet struct {
	cfg      Config
	run      string // that agents know this run by
	plan     *plan.Plan
	clock    *clock.Clock
	patience time.Duration
	glance   time.Duration
	members  []*member // in the order in which load is dealt
	jobs     int
	mayGoOn  bool
}

// member is an agent that works for the run.
type member struct {
	card   Card
	weight int
	clock  offset
	agent  result.Agent
}

// New makes a fleet that nobody belongs to yet.
func New(cfg Config) *Fleet {
	if cfg.Tell == nil {
		cfg.Tell = func(string) {}
	}
	return &Fleet{cfg: cfg}
}

// Open implements rounds.Hands.
func (f *Fleet) Open(ctx context.Context, o rounds.Opening) (*result.Load, error) {
	f.plan, f.clock, f.glance = o.Plan, o.Clock, max(o.Glance, 0)
	l := o.Plan.Load
	if l == nil {
		l = &plan.Load{}
	}
	f.patience, f.mayGoOn = l.Patience(), l.Lost == plan.GoOn
	var unique [4]byte
	rand.Read(unique[:])
	f.run = o.Run + "-" + hex.EncodeToString(unique[:])
	cards, err := f.gather(ctx, l)
	if err != nil {
		return nil, err
	}
	for _, c := range cards {
		m := &member{card: c, weight: l.Weight(c.Name)}
		m.agent = result.Agent{Name: c.Name, Place: c.Place, Host: c.Host}
		if len(l.Weights) > 0 {
			m.agent.Weight = m.weight
		}
		f.members = append(f.members, m)
	}
	if err := f.shareable(); err != nil {
		return nil, err
	}
	if err := f.each(ctx, f.members, nil, func(ctx context.Context, m *member) error {
		return f.insist(ctx, m, take, &takeAsk{f.asked(""), protocol, f.cfg.Program, o.Plan.Name}, &m.card)
	}); err != nil {
		return nil, err
	}
	if err := f.ready(ctx, &o); err != nil {
		return nil, err
	}
	load := &result.Load{Places: l.Places, Words: l.String()}
	for _, m := range f.members {
		load.Agents = append(load.Agents, m.agent)
	}
	return load, nil
}

// gather finds the agents that the plan wants, and waits for those that are not there yet.
func (f *Fleet) gather(ctx context.Context, l *plan.Load) ([]Card, error) {
	const quiet, again = 250 * time.Millisecond, 500 * time.Millisecond
	began, told := time.Now(), ""
	for {
		there, odd, err := List(ctx, f.cfg.Link, quiet)
		if err != nil {
			return nil, err
		}
		if names := namesakes(there); len(names) > 0 {
			return nil, fmt.Errorf("several agents are called %s; have all but one join under another name, with --name",
				units.List(names))
		}
		chosen, missing := choose(l, there)
		if len(missing) == 0 {
			return chosen, nil
		}
		words := strings.Join(append(missing, odd...), "; ")
		if time.Since(began) > f.cfg.Wait {
			return nil, fmt.Errorf("the agents that the plan wants are not there: %s; paceduel join lets a machine be one, "+
				"paceduel agents lists them", words)
		}
		if words != told {
			f.cfg.Tell("waiting for agents: " + words)
			told = words
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(again):
		}
	}
}

// shareable refuses a load that leaves somebody without a client.
func (f *Fleet) shareable() error {
	plans := []*plan.Plan{f.plan}
	if f.plan.Sweep != nil {
		for i := range f.plan.Sweep.Points {
			plans = append(plans, f.plan.Sweep.Points[i].Plan)
		}
	}
	for _, p := range plans {
		for _, place := range f.places() {
			here := f.at(place)
			clients := max(p.Pace.Clients, p.Pace.Most, 1)
			for i, m := range here {
				if deal(here).Part(i).Count(clients) == 0 {
					return fmt.Errorf("%s cannot be shared by %s: %s would have none; set as many, or name fewer agents",
						units.Plural(clients, "client"), units.Plural(len(here), "agent"), m.card.Name)
				}
			}
		}
	}
	return nil
}

// places are those that heats are driven from, each by itself; one empty place where all drive together.
func (f *Fleet) places() []string {
	if f.plan.Load == nil || len(f.plan.Load.Places) < 2 {
		return []string{""}
	}
	return f.plan.Load.Places
}

// at are the members at a place; all of them where it is empty.
func (f *Fleet) at(place string) (out []*member) {
	for _, m := range f.members {
		if place == "" || m.card.Place == place {
			out = append(out, m)
		}
	}
	return out
}

func (f *Fleet) asked(job string) asked { return asked{f.run, job} }

// fresh is the identifier of a new job.
func (f *Fleet) fresh(what string) string {
	f.jobs++
	return fmt.Sprintf("%s-%d", what, f.jobs)
}

// ready has every member read the plan, open its contenders and ask each of them once.
func (f *Fleet) ready(ctx context.Context, o *rounds.Opening) error {
	laid, sums, err := f.files(o.Plan)
	if err != nil {
		return err
	}
	job := f.fresh(open)
	sum := sumOf(o.Plan.Source, o.Plan.Sets, sums)
	var mirror bool
	var only []string
	for _, c := range o.Plan.Contenders {
		if mirror = mirror || c.Mirror; !c.Mirror && c.Name != o.Plan.Baseline {
			only = append(only, c.Name)
		}
	}
	err = f.each(ctx, f.members, nil, func(ctx context.Context, m *member) error {
		if m.clock, err = f.compare(ctx, m); err != nil {
			return err
		}
		for _, one := range laid {
			if err := f.hand(ctx, m, one); err != nil {
				return err
			}
		}
		here := f.at("")
		if len(f.places()) > 1 {
			here = f.at(m.card.Place)
		}
		q := &openAsk{
			asked: f.asked(job), File: filepath.Base(o.Plan.File), Source: o.Plan.Source, Sets: o.Plan.Sets, Only: only,
			Mirror: mirror, SHA256: sum, Seed: o.Seed, Ports: o.Ports, Weights: weights(here), Who: slices.Index(here, m),
			Glance: f.glance, Shots: f.cfg.Shots,
		}
		if err := f.insist(ctx, m, open, q, &answered{}); err != nil {
			return err
		}
		var got opened
		if err := f.carriedOut(ctx, m, job, &got); err != nil {
			return err
		}
		m.agent.Floor, m.agent.Within, m.agent.Trip = got.Floor, m.clock.within, m.clock.trip
		return heldTo(o.Touches, got.Touches)
	})
	if err != nil {
		return err
	}
	for _, m := range f.members {
		if o.Ready != nil {
			o.Ready(m.agent)
		}
	}
	return nil
}

// heldTo says in which way what somebody elsewhere was answered is other than what was here; nil where it is not.
func heldTo(here map[string]*result.Touch, there map[string]touched) error {
	for _, name := range slices.Sorted(maps.Keys(here)) {
		own, ok := there[name]
		if !ok || here[name] == nil {
			continue
		}
		if words := own.differs(touchOf(here[name])); words != "" {
			return fmt.Errorf("%s %s", name, words)
		}
	}
	return nil
}

// onePiece is a file of the plan as it is handed over.
type onePiece struct {
	name string
	data []byte
}

// files are those that agents need for a plan, with their hashes.
func (f *Fleet) files(p *plan.Plan) (list []onePiece, sums map[string]string, err error) {
	sums = map[string]string{}
	plans := []*plan.Plan{p}
	if p.Sweep != nil {
		for i := range p.Sweep.Points {
			plans = append(plans, p.Sweep.Points[i].Plan)
		}
	}
	for _, one := range plans {
		for i := range one.Contenders {
			c := &one.Contenders[i]
			at := slices.IndexFunc(f.cfg.Kinds, func(k contender.Kind) bool { return k.Name == c.Kind })
			if at < 0 || f.cfg.Kinds[at].Afar == nil {
				return nil, nil, fmt.Errorf("%s is a %s, and agents drive none; leave load: and --bus out", c.Name, c.Kind)
			}
			names, faults := f.cfg.Kinds[at].Afar(c.Settings)
			if len(faults) > 0 {
				return nil, nil, fmt.Errorf("%s: %s; %s", c.Name, faults[0].What, faults[0].Try)
			}
			for _, name := range names {
				if name = filepath.Clean(name); sums[name] != "" {
					continue
				}
				if !filepath.IsLocal(name) {
					return nil, nil,
						fmt.Errorf("%s uses %s, which does not lie in the plan's folder: agents cannot be handed it", c.Name,
							name)
				}
				data, err := readFile(filepath.Join(p.Dir, name))
				if err != nil {
					return nil, nil, fmt.Errorf("hand %s to agents: %w", name, err)
				}
				list = append(list, onePiece{name, data})
				sums[name] = hashOf(data)
			}
		}
	}
	return list, sums, nil
}

func readFile(path string) ([]byte, error) {
	info, err := os.Stat(path)
	switch {
	case err != nil:
		return nil, err
	case info.Size() > maxFile:
		return nil, fmt.Errorf("it has %s, more than the %s that agents take", units.Bytes(float64(info.Size())),
			units.Bytes(maxFile))
	}
	return os.ReadFile(path)
}

// hand hands a file over, part by part.
func (f *Fleet) hand(ctx context.Context, m *member, one onePiece) error {
	for at := 0; at == 0 || at < len(one.data); at += partSize {
		q := &fileAsk{
			f.asked(""), one.name, int64(len(one.data)), int64(at), one.data[at:min(at+partSize, len(one.data))],
		}
		if err := f.insist(ctx, m, file, q, &answered{}); err != nil {
			return err
		}
	}
	return nil
}

// Close implements rounds.Hands.
func (f *Fleet) Close() {
	const limit = 2 * time.Second
	ctx, cancel := context.WithTimeout(context.Background(), limit)
	defer cancel()
	var all sync.WaitGroup
	for _, m := range f.members {
		all.Go(func() {
			var fault error
			defer panics.Catch("let an agent go", &fault) // it lets the run go by itself
			f.ask(ctx, m, drop, f.asked(""), &answered{})
		})
	}
	all.Wait()
	f.members = nil
}

// Mend implements rounds.Hands.
func (f *Fleet) Mend(ctx context.Context, failed *rounds.HandsError) (lost []string, fatal error) {
	for _, name := range failed.Names {
		i := slices.IndexFunc(f.members, func(m *member) bool { return m.card.Name == name })
		if i < 0 {
			continue
		}
		m := f.members[i]
		err := f.settle(ctx, m)
		if ctx.Err() != nil {
			return lost, ctx.Err()
		}
		if err == nil {
			continue
		}
		lost = append(lost, name)
		if !f.mayGoOn {
			return lost, fmt.Errorf("%w; load: { lost: go on } goes on with the others", err)
		}
		f.members = slices.Delete(f.members, i, i+1)
		if len(f.at(m.card.Place)) == 0 && (len(f.places()) > 1 || len(f.members) == 0) {
			return lost, fmt.Errorf("%w, and nobody is left to drive in its place", err)
		}
	}
	return lost, nil
}

// settle makes sure that a member that answers again is ready for a heat: what it was at is over.
func (f *Fleet) settle(ctx context.Context, m *member) error {
	var card Card
	if err := f.insist(ctx, m, take, &takeAsk{f.asked(""), protocol, f.cfg.Program, f.plan.Name}, &card); err != nil {
		return err
	}
	if !card.Since.Equal(m.card.Since) {
		return fmt.Errorf("agent %s has forgotten the run", m.card.Name)
	}
	return nil
}
