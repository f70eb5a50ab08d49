// Package footing gives every run the same start: a pristine copy of its input, caches dropped or filled, steps before
// and after, quiet time, processors.
//
// Whatever it does lies outside any timing and is itself measured, so that a plan's cost can be seen. Originals are
// only read. What this machine cannot do is said before a run starts and kept with its result; nothing is pretended.
// Performing shots is left to drivers, their order to package rounds.
package footing

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"paceduel/core/bystander"
	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/guard"
	"paceduel/core/keeper"
	"paceduel/core/launch"
	"paceduel/core/meter"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/shots"
	"paceduel/core/traces"
	"paceduel/core/units"
)

// Footing is the footing of one run. It belongs to one goroutine.
type Footing struct {
	plan      *plan.Plan
	clock     *clock.Clock
	bases     map[string]string  // where workspaces lie, by the folder that the plan names
	locks     []*os.File         // one for each
	forget    []func()           // has the keeper forget it, one for each
	grounds   map[string]*Ground // by contender
	duel      scope              // of the steps for the whole duel
	round     scope              // of those for a round
	able      Abilities          // of this machine
	restore   func()             // our own processors
	fences    []*launch.Fence    // around originals of workspaces
	originals *originals         // nil where nobody can reach them
	harm      error              // what was done to them
	traces    *traces.Receiver   // nil where nobody sends spans
	cgroups   *meter.Hierarchy   // nil where none can be made, or none is needed
	Costs     []result.Cost      // of the steps for duel and rounds
	// OnService, when set, is told what becomes of services, by whoever prepares or ends a heat.
	OnService func(News)
}

// Open makes the grounds of a plan's contenders. Nothing is copied before Begin. The caller closes it.
func Open(p *plan.Plan, clk *clock.Clock) (*Footing, error) {
	f := &Footing{plan: p, clock: clk, bases: map[string]string{}, grounds: map[string]*Ground{}, restore: func() {}}
	for i := range p.Contenders {
		c := &p.Contenders[i]
		g := &Ground{f: f, name: c.Name, said: c.Ground, dir: p.Dir}
		if w := c.Ground.Workspace; w != nil {
			base, err := f.base(w.At)
			if err != nil {
				f.Close()
				return nil, err
			}
			g.dir = filepath.Join(base, fmt.Sprintf("%d-%s", i+1, plan.Slug(c.Name)))
			g.workspace = &workspace{dir: g.dir, base: base, fixtures: c.Ground.Fixtures(p.Dir)}
			for _, s := range c.Ground.Stores {
				g.workspace.stores = append(g.workspace.stores, filepath.Clean(s))
			}
		}
		var err error
		if g.port, err = portOf(c.Ground.Service); err != nil {
			f.Close()
			return nil, err
		}
		if err = g.settle(i); err != nil {
			f.Close()
			return nil, err
		}
		if b := c.Ground.Bystander; b != nil && b.Line != nil {
			g.ticks = bystander.NewTicks(clk, b.Line)
		} else if b != nil && b.Ping {
			g.pings = bystander.NewPings(clk)
		}
		f.grounds[c.Name] = g
	}
	if err := f.listen(); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// DefaultPlace is where workspaces are kept unless the plan says otherwise: the user's cache folder, which usually lies
// on a disk and beside the user's files, so that blocks can be shared with them and pages be dropped; else the folder
// for temporary files.
func DefaultPlace() string {
	if dir, err := os.UserCacheDir(); err == nil {
		return filepath.Join(dir, "paceduel")
	}
	return os.TempDir()
}

func (f *Footing) base(at string) (string, error) {
	place := DefaultPlace()
	if at != "" {
		place = at
		if !filepath.IsAbs(at) {
			place = filepath.Join(f.plan.Dir, at)
		}
	}
	if dir, ok := f.bases[place]; ok {
		return dir, nil
	}
	dir, lock, err := openBase(place)
	if err != nil && at == "" {
		dir, lock, err = openBase(os.TempDir()) // a home that cannot be written
	}
	if err != nil {
		return "", err
	}
	if dir, err = filepath.Abs(dir); err != nil {
		return "", fmt.Errorf("find a place for workspaces: %w", err)
	}
	if k, err := keeper.Shared(); err == nil {
		f.forget = append(f.forget, k.RemoveAfter(dir))
	}
	f.bases[place] = dir
	f.locks = append(f.locks, lock)
	return dir, nil
}

// Close ends what steps left running and removes the workspaces. It may be called twice.
func (f *Footing) Close() {
	f.restore()
	f.restore = func() {}
	defer f.traces.Close() // services may send until they end
	for _, g := range f.grounds {
		g.heat.end()
		g.run.end()
		if g.service != nil {
			g.service.stop()
			g.service = nil
		}
	}
	f.round.end()
	f.duel.end()
	keeper.EndStrays() // whatever their environment says: nothing of this run goes on
	for _, fence := range f.fences {
		fence.Close()
	}
	f.fences = nil
	for place, dir := range f.bases {
		removeAll(dir)
		delete(f.bases, place)
	}
	for _, forget := range f.forget {
		forget()
	}
	f.forget = nil
	for _, l := range f.locks {
		l.Close()
	}
	f.locks = nil
}

// Of is the ground of the contender of that name.
func (f *Footing) Of(name string) *Ground { return f.grounds[name] }

// States are the states that contenders are run in, at least one.
func (f *Footing) States() []plan.State { return f.plan.CacheStates() }

// Begin starts the duel: our own processors, the steps before it, and a first copy of every workspace, since programs
// may lie in them. cannot lists in words what the plan asks for and this machine cannot do.
func (f *Footing) Begin(ctx context.Context) (cannot []string, err error) {
	f.able, cannot = f.weigh(ctx)
	if cpus := launch.Usable(f.plan.Footing.OwnCPUs); len(cpus) > 0 {
		if f.restore, err = pinOurselves(cpus); err != nil {
			return cannot, err
		}
	}
	for _, line := range f.plan.Footing.Before.Duel {
		if err := f.shared(ctx, &f.duel, "before duel", line, 0); err != nil {
			return cannot, err
		}
	}
	why, err := f.guardOriginals(ctx)
	if why != "" {
		cannot = append(cannot, why)
	}
	if err != nil {
		return cannot, err
	}
	for _, c := range f.plan.Contenders {
		g := f.grounds[c.Name]
		if g.workspace != nil {
			if err := g.cost(result.Cost{When: "duel", What: "first copy of " + sources(&g.said)}, func() (string, error) {
				return "", g.workspace.lay(ctx, false)
			}); err != nil {
				return cannot, err
			}
		}
		if err := g.fillData(ctx); err != nil {
			return cannot, err
		}
		f.Costs = append(f.Costs, g.take(c.Name, "")...)
	}
	return cannot, nil
}

// End performs the steps after the duel; also after an interrupt, so ctx should not be the ended one.
func (f *Footing) End(ctx context.Context) error {
	defer f.duel.end()
	for _, c := range f.plan.Contenders {
		g := f.grounds[c.Name]
		g.dismiss(plan.EveryRound) // of a round that was cut
		g.dismiss(plan.EveryDuel)
		f.Costs = append(f.Costs, g.take(c.Name, "")...)
	}
	if err := f.originals.check(ctx, ""); err != nil && f.harm == nil {
		f.harm = err
	}
	for _, line := range f.plan.Footing.After.Duel {
		if err := f.shared(ctx, &f.duel, "after duel", line, 0); err != nil {
			return err
		}
	}
	return nil
}

// Round performs the steps before a round, which is counted from 1; done performs those after it.
func (f *Footing) Round(ctx context.Context, round int) (done func(context.Context) error, err error) {
	all := func(ctx context.Context, when string, lines plan.Lines) error {
		for _, line := range lines {
			if err := f.shared(ctx, &f.round, when, line, round); err != nil {
				return err
			}
		}
		return nil
	}
	done = func(ctx context.Context) error {
		defer f.round.end()
		for _, c := range f.plan.Contenders {
			g := f.grounds[c.Name]
			g.dismiss(plan.EveryRound)
			for _, cost := range g.take(c.Name, "") {
				add(&f.Costs, cost)
			}
		}
		closing, cancel := takingDown(ctx)
		defer cancel()
		return all(closing, "after round", f.plan.Footing.After.Round)
	}
	return done, all(ctx, "before round", f.plan.Footing.Before.Round)
}

// Harm is what was done to originals of workspaces, which no run goes on after; nil when nothing was seen.
func (f *Footing) Harm() error { return f.harm }

// takeDownLimit is how long steps afterwards may take once the run was interrupted.
const takeDownLimit = 10 * time.Second

// takingDown is the context of steps afterwards: what was set up is taken down after an interrupt, too, within a limit.
func takingDown(ctx context.Context) (context.Context, context.CancelFunc) {
	if ctx.Err() == nil {
		return ctx, func() {}
	}
	return context.WithTimeout(context.WithoutCancel(ctx), takeDownLimit)
}

// shared performs a step that belongs to no contender.
func (f *Footing) shared(ctx context.Context, s *scope, when, line string, round int) error {
	began := f.clock.Now()
	// It stands where originals are, and may be what makes them.
	said, err := s.step(ctx, when, line, f.plan.Dir, f.environment("", "", round, f.plan.Dir), launch.Place{})
	add(&f.Costs, result.Cost{When: when, What: line, Times: 1, Took: f.clock.Now() - began, Said: said})
	return err
}

// environment is what a step may want to know of the run.
func (f *Footing) environment(contender string, state plan.State, round int, dir string) []string {
	return []string{"PACEDUEL_PLAN_DIR=" + launch.Absolute(f.plan.Dir), "PACEDUEL_CONTENDER=" +
		contender, "PACEDUEL_STATE=" + string(state),
		fmt.Sprintf("PACEDUEL_ROUND=%d", round), "PACEDUEL_DIR=" + launch.Absolute(dir)}
}

// Ground is where one contender stands. It belongs to one goroutine.
type Ground struct {
	f         *Footing
	name      string
	said      plan.Ground
	dir       string
	workspace *workspace                 // nil without one
	fence     *launch.Fence              // around what it is copied from; nil without one
	port      string                     // of the service; empty without one
	data      string                     // the folder of its data; empty without one
	as        *launch.User               // whom it runs as; nil: as we do
	tracing   *contender.Tracing         // nil where no shot is traced
	ticks     *bystander.Ticks           // that its bystander waits for; nil: none
	pings     *bystander.Pings           // that its bystander sends; nil: none
	lines     *traces.Lines              // that tell of steps; nil where none do
	service   *service                   // nil while there is none
	running   int                        // process of a service that somebody else runs; 0 without
	starts    []result.Start             // of the heat
	land      func() error               // waits for a rushed start; nil without
	output    atomic.Pointer[lastOutput] // of the latest service
	heat, run scope
	state     plan.State
	round     int
	primed    bool          // pages were read in since the workspace was laid
	costs     []result.Cost // since they were last taken
	check     Check
}

// Check is what was seen of the state that a plan asks for. Shares are the worst seen, 0 to 1.
type Check struct {
	ColdLeft    float64  // of the pages, still in memory before a cold run
	WarmMissing float64  // of the pages, not in memory before a warm run
	Unfilled    []string // stores that were empty before a warm run
}

// Setup is what the contender's driver is opened with, as far as its ground says.
func (g *Ground) Setup() contender.Setup {
	s := contender.Setup{
		Dir: g.dir, PlanDir: g.f.plan.Dir, Tree: g.said.Tree, Clock: g.f.clock, CPUs: g.said.CPUs, Nice: g.said.Nice,
		Port:  g.port,
		Fence: g.fence, Guard: guard.New(g.f.plan.Allow), Data: g.data, As: g.as,
	}
	if g.f.cgroups != nil {
		s.Group = func(l *plan.Limits) (contender.Group, error) {
			return g.f.cgroups.NewGroup(meter.Limits{Memory: int64(l.Memory), CPU: float64(l.CPU)})
		}
	}
	if g.workspace != nil {
		s.Workspace = g.dir
	}
	s.Traces = g.tracing
	if g.ticks != nil {
		s.Printed = g.ticks
	}
	if g.pings != nil {
		s.Pings = g.pings.Take
	}
	return s
}

// Dir is where relative paths of the contender start.
func (g *Ground) Dir() string { return g.dir }

// PerRun reports whether anything is to be done before or after each run.
func (g *Ground) PerRun() bool {
	return len(g.said.Before.Run) > 0 || len(g.said.After.Run) > 0 || g.said.Idle > 0 || g.state.IsCold() ||
		g.state.IsWarm() ||
		g.workspace != nil && g.said.Workspace.Fresh == plan.EveryRun || g.said.Service != nil &&
		g.said.Service.Fresh == plan.EveryRun
}

// BeginHeat prepares a heat in a state. EndHeat is called also when it fails.
func (g *Ground) BeginHeat(ctx context.Context, state plan.State, round int) error {
	g.state, g.round, g.primed, g.costs, g.check, g.starts = state, round, false, nil, Check{}, nil
	if err := g.meet(); err != nil {
		return err
	}
	if g.workspace != nil && g.said.Workspace.Fresh == plan.EveryHeat {
		if err := g.lay(ctx, "heat", false); err != nil {
			return err
		}
	}
	for _, line := range g.said.Before.Heat {
		if err := g.step(ctx, &g.heat, "before heat", line); err != nil {
			return err
		}
	}
	fresh := g.said.Service != nil && g.said.Service.Running == nil && g.said.Service.Fresh == plan.EveryHeat
	if g.state.IsWarm() && (fresh || !g.PerRun()) {
		if err := g.prime(ctx); err != nil {
			return err
		}
	}
	if g.state.IsCold() && fresh { // it starts cold, too, not only its shots
		if err := g.cool(ctx, "heat"); err != nil {
			return err
		}
	}
	for _, level := range []string{plan.EveryDuel, plan.EveryRound} {
		if err := g.serve(ctx, level, false); err != nil {
			return err
		}
	}
	return g.serve(ctx, plan.EveryHeat, false)
}

// BeforeRun prepares one run; warmUp says that it is not judged.
func (g *Ground) BeforeRun(ctx context.Context, warmUp bool) error {
	if g.workspace != nil && g.said.Workspace.Fresh == plan.EveryRun {
		if err := g.lay(ctx, "run", g.state.IsWarm()); err != nil {
			return err
		}
	}
	for _, line := range g.said.Before.Run {
		if err := g.step(ctx, &g.run, "before run", line); err != nil {
			return err
		}
	}
	var err error
	switch {
	case g.state.IsCold():
		err = g.cool(ctx, "run")
	case g.state.IsWarm():
		if err = g.prime(ctx); err == nil && !warmUp {
			g.look()
		}
	}
	if err == nil {
		err = g.serve(ctx, plan.EveryRun, warmUp)
	}
	if err != nil || g.said.Idle == 0 {
		return err
	}
	return g.cost(result.Cost{When: "run", What: "nothing for " + g.said.Idle.D().String()}, func() (string, error) {
		wait := time.NewTimer(g.said.Idle.D())
		defer wait.Stop()
		select {
		case <-wait.C:
			return "", nil
		case <-ctx.Done():
			return "", ctx.Err()
		}
	})
}

// AfterRun performs the steps after one run, which was that shot, and ends what was started for it.
func (g *Ground) AfterRun(ctx context.Context, shot *shots.Shot) error {
	defer g.run.end()
	if s := g.said.Service; s != nil && s.Fresh == plan.EveryRun {
		g.answered(shot)
	}
	g.dismiss(plan.EveryRun)
	closing, cancel := takingDown(ctx)
	defer cancel()
	for _, line := range g.said.After.Run {
		if err := g.step(closing, &g.run, "after run", line); err != nil {
			return err
		}
	}
	return nil
}

// Seen is what a heat's footing came to.
type Seen struct {
	Costs   []result.Cost
	Check   Check
	Changes *result.Changes // since the last fresh copy; nil without a workspace
	Starts  []result.Start  // of the contender's service
	Strays  int             // processes that had left their groups and were ended
}

// EndHeat looks at what changed, performs the steps after the heat and ends what was started for it.
func (g *Ground) EndHeat(ctx context.Context) (Seen, error) {
	defer g.heat.end()
	defer g.run.end()
	var err error
	var seen Seen
	landed := g.landing() // of a heat that was not driven
	g.heard()
	g.dismiss(plan.EveryRun) // of a run that was cut
	g.dismiss(plan.EveryHeat)
	if g.round == 0 { // the weigh-in belongs to no round
		g.dismiss(plan.EveryRound)
	}
	if g.service != nil && g.service.died() != nil {
		g.service.seat.Release()
		g.service = nil // the next heat gets a new one
	}
	if g.workspace != nil {
		seen.Changes, err = g.workspace.changes(ctx)
	}
	err = cmp.Or(landed, err)
	closing, cancel := takingDown(ctx)
	defer cancel()
	for _, line := range g.said.After.Heat {
		if stepErr := g.step(closing, &g.heat, "after heat", line); err == nil {
			err = stepErr
		}
	}
	g.run.end()
	g.heat.end()
	seen.Strays = g.f.endStrays()
	if harm := g.f.originals.check(closing, g.name); harm != nil && g.f.harm == nil {
		g.f.harm = harm
	}
	seen.Costs, seen.Check, seen.Starts = g.take(g.name, g.state), g.check, g.starts
	return seen, err
}

// endStrays ends what left its group and threw away its mark, while there is nothing of the run that it may belong to.
func (f *Footing) endStrays() int {
	if len(f.duel.groups)+len(f.round.groups) > 0 {
		return 0
	}
	for _, g := range f.grounds {
		if g.service != nil {
			return 0
		}
	}
	return keeper.EndStrays()
}

// Written lists the files that were added or changed since the last fresh copy; nil without a workspace.
func (g *Ground) Written(ctx context.Context) ([]File, error) {
	if g.workspace == nil {
		return nil, nil
	}
	return g.workspace.written(ctx)
}

// take hands out the costs so far and starts anew.
func (g *Ground) take(name string, state plan.State) []result.Cost {
	costs := g.costs
	for i := range costs {
		costs[i].Contender = name
		if state != plan.AsFound {
			costs[i].State = string(state)
		}
	}
	g.costs = nil
	return costs
}

// cost performs do and adds what it took to the costs.
func (g *Ground) cost(c result.Cost, do func() (said string, err error)) error {
	began := g.f.clock.Now()
	said, err := do()
	c.Times, c.Took, c.Said = 1, g.f.clock.Now()-began, said
	add(&g.costs, c)
	return err
}

// add enters a cost, together with those of the same step.
func add(costs *[]result.Cost, c result.Cost) {
	i := slices.IndexFunc(
		*costs, func(o result.Cost) bool { return o.Contender == c.Contender && o.When == c.When && o.What == c.What },
	)
	if i < 0 {
		*costs = append(*costs, c)
		return
	}
	old := &(*costs)[i]
	old.Times += c.Times
	old.Took += c.Took
	old.Said = c.Said
}

func (g *Ground) step(ctx context.Context, s *scope, when, line string) error {
	return g.cost(result.Cost{When: when, What: line}, func() (string, error) {
		return s.step(ctx, when, line, g.dir, g.f.environment(g.name, g.state, g.round, g.dir), launch.At(nil, 0, g.fence))
	})
}

func (g *Ground) lay(ctx context.Context, when string, keepStores bool) error {
	g.primed = false
	return g.cost(result.Cost{When: when, What: "fresh copy of " + sources(&g.said)}, func() (string, error) {
		if err := g.workspace.lay(ctx, keepStores); err != nil {
			return "", err
		}
		how := "copied"
		if g.workspace.cloned {
			how = "blocks shared"
		}
		return fmt.Sprintf(
			"%s, %s, %s", units.Plural(g.workspace.files, "file"), units.Bytes(float64(g.workspace.bytes)), how,
		), nil
	})
}

func sources(g *plan.Ground) string { return units.List(g.Workspace.From) }

// paths puts relative paths where the contender stands.
func (g *Ground) paths(rel []string) (out []string) {
	for _, path := range rel {
		if path = g.Setup().Fill(path); !filepath.IsAbs(path) {
			path = filepath.Join(g.dir, path)
		}
		out = append(out, path)
	}
	return out
}

// cool makes caches cold for a run, or for a service that is about to start: the contender's own are emptied, the pages
// of files leave memory.
func (g *Ground) cool(ctx context.Context, when string) error {
	if len(g.said.Stores) > 0 {
		if err := g.cost(result.Cost{When: when, What: "empty " + units.List(g.said.Stores)}, func() (string, error) {
			return "", emptyStores(g.paths(g.said.Stores))
		}); err != nil {
			return err
		}
	}
	if g.f.plan.Footing.Machine && g.f.able.DropMachine == "" {
		if err := g.cost(result.Cost{
			When: when, What: "drop the machine's caches",
		}, func() (string, error) { return "", dropMachine() }); err != nil {
			return err
		}
	}
	if len(g.said.Pages) == 0 {
		return nil
	}
	return g.cost(result.Cost{When: when, What: "drop pages of " + pagesWords(&g.said)}, func() (string, error) {
		if err := dropPages(ctx, g.paths(g.said.Pages)); err != nil {
			return "", err
		}
		left, err := residency(ctx, g.paths(g.said.Pages))
		g.check.ColdLeft = max(g.check.ColdLeft, left)
		return fmt.Sprintf("%s still in memory", units.Share(left)), err
	})
}

// prime reads pages into memory once after each fresh copy.
func (g *Ground) prime(ctx context.Context) error {
	if g.primed || len(g.said.Pages) == 0 {
		return nil
	}
	g.primed = true
	return g.cost(result.Cost{
		When: primedFor(&g.said), What: "read pages of " + pagesWords(&g.said),
	}, func() (string, error) {
		if err := readPages(ctx, g.paths(g.said.Pages)); err != nil {
			return "", err
		}
		in, err := residency(ctx, g.paths(g.said.Pages))
		return fmt.Sprintf("%s in memory", units.Share(in)), err
	})
}

// primedFor is how often pages have to be read in: after each fresh copy, at least once a heat.
func primedFor(g *plan.Ground) string {
	if g.Workspace != nil && g.Workspace.Fresh == plan.EveryRun {
		return "run"
	}
	return "heat"
}

// look sees whether what is to be warm is.
func (g *Ground) look() {
	for _, store := range g.paths(g.said.Stores) {
		entries, err := os.ReadDir(store)
		if name := strings.TrimPrefix(store, g.dir+"/"); (err != nil || len(entries) == 0) &&
			!slices.Contains(g.check.Unfilled, name) {
			g.check.Unfilled = append(g.check.Unfilled, name)
		}
	}
	if len(g.said.Pages) > 0 {
		if in, err := residency(context.Background(), g.paths(g.said.Pages)); err == nil && in > 0 {
			g.check.WarmMissing = max(g.check.WarmMissing, 1-in)
		}
	}
}

func pagesWords(g *plan.Ground) string {
	if slices.Equal(g.Pages, []string{"."}) {
		return "the workspace"
	}
	return units.List(g.Pages)
}

// emptyStores removes what is in the folders; one that is not there is empty already.
func emptyStores(dirs []string) error {
	for _, dir := range dirs {
		err := clearExcept(dir, "", nil)
		if err != nil && !errors.Is(err, os.ErrNotExist) && !errors.Is(err, unix.ENOTDIR) {
			return fmt.Errorf("empty %s: %w", dir, err)
		}
		if errors.Is(err, unix.ENOTDIR) {
			if err := os.Remove(dir); err != nil {
				return fmt.Errorf("empty %s: %w", dir, err)
			}
		}
	}
	return nil
}

// Timed stands where the step is the run itself, the only one that is timed.
const Timed = "timed"

// Steps lists in order what will be done for a contender in a state, without cost: for reading before a run. It is long
// since it lists the steps in their order.
func Steps(p *plan.Plan, c *plan.Contender, state plan.State) (out []result.Cost) {
	say := func(when, what string) {
		cost := result.Cost{Contender: c.Name, When: when, What: p.Mask(what)}
		if state != plan.AsFound {
			cost.State = string(state)
		}
		out = append(out, cost)
	}
	all := func(when string, lines plan.Lines) {
		for _, l := range lines {
			say(when, l)
		}
	}
	g := &c.Ground
	all("before duel", p.Footing.Before.Duel)
	if g.Workspace != nil {
		say("duel", "first copy of "+sources(g))
	}
	if g.Service != nil {
		all("before duel", g.Service.Data)
	}
	all("before round", p.Footing.Before.Round)
	if g.Workspace != nil && g.Workspace.Fresh == plan.EveryHeat {
		say("heat", "fresh copy of "+sources(g))
	}
	all("before heat", g.Before.Heat)
	serve := func(before, level string) {
		if g.Service != nil && g.Service.Running == nil && g.Service.Fresh == level {
			if before == "" {
				all("before "+level, g.Service.Prepare)
			}
			say(before+level, map[string]string{"": "start ", "after ": "stop "}[before]+g.Service.Summary())
		}
	}
	prime := func(when string) {
		if state.IsWarm() && len(g.Pages) > 0 && primedFor(g) == when {
			say(when, "read pages of "+pagesWords(g))
		}
	}
	cool := func(when string) {
		if !state.IsCold() {
			return
		}
		if len(g.Stores) > 0 {
			say(when, "empty "+units.List(g.Stores))
		}
		if p.Footing.Machine {
			say(when, "drop the machine's caches")
		}
		if len(g.Pages) > 0 {
			say(when, "drop pages of "+pagesWords(g))
		}
	}
	prime("heat")
	if g.Service != nil && g.Service.Running == nil && g.Service.Fresh == plan.EveryHeat {
		cool("heat")
	}
	serve("", plan.EveryDuel)
	serve("", plan.EveryRound)
	serve("", plan.EveryHeat)
	if g.Workspace != nil && g.Workspace.Fresh == plan.EveryRun {
		say("run", "fresh copy of "+sources(g))
	}
	all("before run", g.Before.Run)
	prime("run")
	cool("run")
	serve("", plan.EveryRun)
	if g.Idle > 0 {
		say("run", "nothing for "+g.Idle.D().String())
	}
	say(Timed, c.Settings.Summary())
	serve("after ", plan.EveryRun)
	all("after run", g.After.Run)
	serve("after ", plan.EveryHeat)
	all("after heat", g.After.Heat)
	serve("after ", plan.EveryRound)
	all("after round", p.Footing.After.Round)
	serve("after ", plan.EveryDuel)
	all("after duel", p.Footing.After.Duel)
	return out
}
