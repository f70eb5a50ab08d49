package fleet

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"paceduel/core/bus"
	"paceduel/core/cell"
	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/files"
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
	mayGoOn  bool
	opening  rounds.Opening
	pieces   []onePiece    // files of the plan that agents are handed
	sum      string        // of plan and files
	lead     time.Duration // that agents need at least to hear of a moment before it
	every    time.Duration // how often agents are told that the run goes on
	resting  func()        // ends that

	late      time.Duration // that an agent may begin after the others
	stood     time.Duration // for how long an agent's process may not run within a heat
	comparing chan struct{} // room for those whose clocks are compared

	mu      sync.Mutex
	members []*member // in the order in which load is dealt
	jobs    int       // that were given a name
}

// member is an agent that works for the run. Whoever is asked at the same time sees the same card: an agent that comes
// back as another process is a member of its own.
type member struct {
	card   Card // not modified once others may ask the member
	weight int
	clock  offset
	agent  result.Agent
	heard  atomic.Int64 // when it last answered, in Unix nanoseconds
}

// New makes a fleet that nobody belongs to yet.
func New(cfg Config) *Fleet {
	return &Fleet{cfg: cfg, comparing: make(chan struct{}, comparedAtOnce), late: lateLimit, stood: stoodLimit,
		every: touchEvery}
}

// Open implements rounds.Hands.
func (f *Fleet) Open(ctx context.Context, o rounds.Opening) (*result.Load, error) {
	f.plan, f.clock, f.glance, f.opening = o.Plan, o.Clock, max(o.Glance, 0), o
	l := f.load()
	f.patience, f.mayGoOn = l.Patience(), l.Lost == plan.GoOn
	f.run = f.unique(o.Run)
	cards, err := f.gather(ctx, l, o.Waits)
	if err != nil {
		return nil, err
	}
	var members []*member
	for _, c := range cards {
		members = append(members, newMember(c, l))
	}
	f.set(members)
	if err := f.shareable(); err != nil {
		return nil, err
	}
	if f.pieces, f.sum, err = f.files(o.Plan); err != nil {
		return nil, err
	}
	if err := f.each(ctx, members, nil, f.engage); err != nil {
		return nil, err
	}
	f.resting = f.keepInTouch()
	out := &result.Load{Places: l.Places, Words: l.String()}
	if err := f.ready(ctx, members, members); err != nil {
		return nil, err
	}
	for _, m := range members {
		out.Agents = append(out.Agents, m.agent)
		if o.Ready != nil {
			o.Ready(m.agent)
		}
	}
	return out, nil
}

// load is what the plan says of who drives it.
func (f *Fleet) load() *plan.Load {
	if f.plan.Load == nil {
		return &plan.Load{}
	}
	return f.plan.Load
}

// unique is a name that no other run has, for agents to know this one by.
func (f *Fleet) unique(run string) string {
	var more [4]byte
	rand.Read(more[:])
	return run + "-" + hex.EncodeToString(more[:])
}

func newMember(c Card, l *plan.Load) *member {
	m := &member{card: c, weight: l.Weight(c.Name)}
	m.agent = result.Agent{Name: c.Name, Place: c.Place, Host: c.Host}
	if len(l.Weights) > 0 {
		m.agent.Weight = m.weight
	}
	return m
}

func (f *Fleet) set(members []*member) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.members = members
}

// everybody is a copy of the list of members.
func (f *Fleet) everybody() []*member {
	f.mu.Lock()
	defer f.mu.Unlock()
	return slices.Clone(f.members)
}

// engage has a member work for the run.
func (f *Fleet) engage(ctx context.Context, m *member) error {
	card, err := f.taken(ctx, m)
	if err == nil {
		m.card.Run, m.card.Since = card.Run, card.Since
	}
	return err
}

// taken asks a member to work for the run, which it may do already.
func (f *Fleet) taken(ctx context.Context, m *member) (*Card, error) {
	var card Card
	err := f.insist(ctx, m, take, &takeAsk{f.asked(""), protocol, f.cfg.Program, f.plan.Name}, &card)
	if err == nil && (card.Name != m.card.Name || card.Instance != m.card.Instance) {
		err = fmt.Errorf("agent %s answers for another", m.card.Name)
	}
	return &card, err
}

// touchEvery is how often an agent hears of a run that asks nothing of it, as while a service starts or a run is
// paused.
const touchEvery = 3 * time.Second

// keepInTouch lets agents know now and then that the run goes on, until the function that it returns is called.
func (f *Fleet) keepInTouch() (stop func()) {
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		var fault error // agents that hear nothing let the run go, which is told
		defer panics.Catch("keep in touch with agents", &fault)
		beat := time.NewTicker(f.every)
		defer beat.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-beat.C:
			}
			for _, m := range f.everybody() {
				if time.Since(time.Unix(0, m.heard.Load())) > f.every {
					f.ask(ctx, m, tick, f.asked(""), &tickAnswer{})
				}
			}
		}
	}()
	return func() {
		cancel()
		<-ended
	}
}

// gather finds the agents that the plan wants, and waits for those that are not there yet.
func (f *Fleet) gather(ctx context.Context, l *plan.Load, tell func(string)) ([]Card, error) {
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
		if words != told && tell != nil {
			tell("waiting for agents: " + words)
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
	for _, p := range f.plan.Plans() {
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
	if places := f.load().Places; len(places) > 1 {
		return places
	}
	return []string{""}
}

// at are the members at a place; all of them where it is empty.
func (f *Fleet) at(place string) (out []*member) {
	for _, m := range f.everybody() {
		if place == "" || m.card.Place == place {
			out = append(out, m)
		}
	}
	return out
}

func (f *Fleet) asked(job string) asked { return asked{f.run, job} }

// fresh is the identifier of a new job.
func (f *Fleet) fresh(what string) string {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.jobs++
	return fmt.Sprintf("%s-%d", what, f.jobs)
}

// ready has some read the plan, open its contenders and ask each of them once, while it stands; they are to be among
// those that drive.
func (f *Fleet) ready(ctx context.Context, some, drive []*member) error {
	job := f.fresh(open)
	if err := f.each(ctx, some, nil, func(ctx context.Context, m *member) error {
		return f.open(ctx, m, drive, job)
	}); err != nil {
		return err
	}
	if err := f.weighIn(ctx, some, job); err != nil {
		return err
	}
	return f.each(ctx, some, nil, func(ctx context.Context, m *member) error {
		var got opened
		if err := f.carriedOut(ctx, m, job, &got); err != nil {
			return err
		}
		m.agent.Floor, m.agent.Within, m.agent.Trip = got.Floor, m.clock.within, m.clock.trip
		m.agent.Cannot = got.Cannot[:min(len(got.Cannot), maxFiles)]
		return heldTo(f.opening.Touches, got.Touches)
	})
}

// weighIn has contenders stand one after the other, as long as agents that open a plan ask them.
func (f *Fleet) weighIn(ctx context.Context, some []*member, job string) error {
	footed := f.opening.Footed
	if footed == nil { // what is asked stands by itself
		footed = func(ctx context.Context, _ cell.Cell, do func(context.Context) error) error { return do(ctx) }
	}
	for k, at := range rounds.Asked(f.opening.Plan) {
		var mu sync.Mutex
		var asking []*member
		come := func(least int) func(*waitAnswer) (bool, error) { // those that cannot go on are over, and say so in the end
			return func(a *waitAnswer) (bool, error) { return standingAt(a.Phase) >= least, nil }
		}
		if err := f.each(ctx, some, nil, func(ctx context.Context, m *member) error {
			a, err := f.watch(ctx, m, job, come(k))
			if err != nil {
				return err
			}
			if standingAt(a.Phase) == k {
				mu.Lock()
				defer mu.Unlock()
				asking = append(asking, m)
			}
			return nil
		}); err != nil {
			return err
		}
		if len(asking) == 0 { // none came so far
			continue
		}
		if err := footed(ctx, at, func(ctx context.Context) error {
			return f.each(ctx, asking, nil, func(ctx context.Context, m *member) error {
				if err := f.insist(ctx, m, touch, &touchAsk{f.asked(job), k}, &answered{}); err != nil {
					return err
				}
				_, err := f.watch(ctx, m, job, come(k+1))
				return err
			})
		}); err != nil {
			return err
		}
	}
	return nil
}

// open has a member read the plan and open its contenders.
func (f *Fleet) open(ctx context.Context, m *member, members []*member, job string) (err error) {
	o := &f.opening
	if m.clock, err = f.compare(ctx, m, fewestReadings); err != nil {
		return err
	}
	for _, one := range f.pieces {
		if err := f.handOver(ctx, m, one); err != nil {
			return err
		}
	}
	here := members
	if len(f.places()) > 1 {
		here = slices.DeleteFunc(slices.Clone(members), func(o *member) bool { return o.card.Place != m.card.Place })
	}
	q := &openAsk{
		asked: f.asked(job), File: filepath.Base(o.Plan.File), Source: o.Plan.Source, Sets: o.Plan.Sets, SHA256: f.sum,
		Seed: o.Seed, Ports: o.Ports, Weights: weights(here), Who: slices.Index(here, m), Glance: f.glance,
		Shots: f.cfg.Shots,
	}
	q.Only, q.Mirror = takesPart(o.Plan)
	return f.insist(ctx, m, open, q, &answered{})
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

// files are those that agents need for a plan, and the hash of plan and files.
func (f *Fleet) files(p *plan.Plan) (list []onePiece, sum string, err error) {
	sums := map[string]string{}
	for _, one := range p.Plans() {
		for i := range one.Contenders {
			c := &one.Contenders[i]
			at := slices.IndexFunc(f.cfg.Kinds, func(k contender.Kind) bool { return k.Name == c.Kind })
			if at < 0 || f.cfg.Kinds[at].Afar == nil {
				return nil, "", fmt.Errorf("%s is a %s, and agents drive none; leave load: and --bus out", c.Name, c.Kind)
			}
			names, faults := f.cfg.Kinds[at].Afar(c.Settings)
			if len(faults) > 0 {
				return nil, "", fmt.Errorf("%s: %s; %s", c.Name, faults[0].What, faults[0].Try)
			}
			for _, name := range names {
				if name = filepath.Clean(name); sums[name] != "" {
					continue
				}
				if !filepath.IsLocal(name) {
					return nil, "",
						fmt.Errorf("%s uses %s, which does not lie in the plan's folder: agents cannot be handed it", c.Name,
							name)
				}
				data, err := files.Read(filepath.Join(p.Dir, name), maxFile)
				if err != nil {
					return nil, "", fmt.Errorf("hand %s to agents: %w", name, err)
				}
				list = append(list, onePiece{name, data})
				sums[name] = hashOf(data)
			}
		}
	}
	return list, sumOf(p.Source, p.Sets, sums), nil
}

// handOver hands a file over, part by part.
func (f *Fleet) handOver(ctx context.Context, m *member, one onePiece) error {
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

// goodbye is how long agents are told that the run is over; who does not hear of it lets it go by itself.
const goodbye = 400 * time.Millisecond

// Close implements rounds.Hands.
func (f *Fleet) Close() {
	if f.resting != nil {
		f.resting()
		f.resting = nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), goodbye)
	defer cancel()
	f.each(ctx, f.everybody(), nil, func(ctx context.Context, m *member) error {
		f.ask(ctx, m, drop, f.asked(""), &answered{})
		return nil
	})
	f.set(nil)
}

// Mend implements rounds.Hands.
func (f *Fleet) Mend(ctx context.Context, failed *rounds.HandsError) (lost []string, fatal error) {
	for _, name := range failed.Names {
		members := f.everybody()
		i := slices.IndexFunc(members, func(m *member) bool { return m.card.Name == name })
		if i < 0 {
			continue
		}
		m := members[i]
		err := f.settle(ctx, m)
		if err != nil && ctx.Err() == nil {
			if f.backAnew(ctx, members, i) {
				continue
			}
		}
		switch {
		case ctx.Err() != nil:
			return lost, ctx.Err()
		case err == nil:
			continue
		}
		lost = append(lost, name)
		if !f.mayGoOn {
			return lost, fmt.Errorf("%s; load: { lost: go on } goes on with the others", blame(m, err))
		}
		f.set(slices.Delete(members, i, i+1))
		if len(f.everybody()) == 0 || len(f.places()) > 1 && len(f.at(m.card.Place)) == 0 {
			return lost, fmt.Errorf("%s, and nobody is left to drive in its place", blame(m, err))
		}
	}
	return lost, nil
}

// settle makes sure that a member that answers again is ready for a heat: what it was at is over.
func (f *Fleet) settle(ctx context.Context, m *member) error {
	card, err := f.taken(ctx, m)
	if err != nil {
		return err
	}
	if !card.Since.Equal(m.card.Since) {
		return fmt.Errorf("agent %s has forgotten the run", m.card.Name)
	}
	return f.insist(ctx, m, rest, f.asked(""), &answered{})
}

// backAnew reports whether an agent that is lost, the i-th of the members, has come back as another process under its
// name, and takes that in its place.
func (f *Fleet) backAnew(ctx context.Context, members []*member, i int) bool {
	cards, _, err := List(ctx, f.cfg.Link, 250*time.Millisecond)
	if err != nil {
		return false
	}
	lost := &members[i].card
	for _, c := range cards {
		if c.Name != lost.Name || c.Place != lost.Place || c.Run != "" && c.Run != f.run {
			continue
		}
		back := newMember(c, f.load())
		if f.engage(ctx, back) != nil {
			continue
		}
		now := slices.Clone(members)
		now[i] = back
		f.set(now)
		if f.ready(ctx, []*member{back}, now) == nil {
			return true
		}
		f.set(members)
		f.ask(ctx, back, drop, f.asked(""), &answered{})
	}
	return false
}
