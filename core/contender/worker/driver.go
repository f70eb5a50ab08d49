package worker

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"net"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/figure"
	"paceduel/core/keeper"
	"paceduel/core/launch"
	"paceduel/core/meter"
	"paceduel/core/plan"
	"paceduel/core/shots"
	"paceduel/core/units"
	"paceduel/core/worker"
)

// What a worker's shots tell of their own accord.
const (
	operation = "operation"        // the time of one, as a thread sees it
	cpuOf     = "CPU of operation" // of the worker with what it started
	perThread = "operations/s of a thread"
	threadGap = "thread gap" // by what share of the slowest thread's time the fastest was done before it
	// How a process came up, told by all shots of one that was started for its heat, and else at the weigh-in alone.
	start          = "start"           // from the creation of the process until its hello
	firstOperation = "first operation" // on the state that had just been made
	warmUp         = "warm-up"         // how long the function was warmed up for
)

// quantiles are those of single operations that are told where these are long enough to be timed by themselves.
var quantiles = []quantile{
	{"p50 of operation", 0.50}, {"p90 of operation", 0.90}, {"p99 of operation", 0.99}, {"p99.9 of operation", 0.999},
}

type quantile struct {
	name string
	q    float64
}

// own reports whether an amount is called like one that we tell ourselves.
func own(name string) bool {
	return slices.Contains([]string{operation, cpuOf, perThread, threadGap, start, firstOperation, warmUp}, name) ||
		slices.ContainsFunc(quantiles, func(q quantile) bool { return q.name == name })
}

// What is counted of each shot, by its place in the shape.
const (
	cpu = iota // of the worker with what it started, between question and answer
	memory
	operations
	printed
	idle
	rest
)

var shape = shots.Shape{
	Amounts: []shots.Amount{
		cpu:        {Name: shots.CPU, Unit: units.Second},
		memory:     {Name: shots.Memory, Unit: units.Byte, Fold: shots.Most},
		operations: {Name: "operations", Unit: "operations", Rate: true},
		printed:    {Name: "printed", Unit: units.Byte, Row: "printed/shot", Per: shots.PerShot, Site: shots.Answers},
		idle: {
			Name: shots.Idle, Unit: units.Second, Fold: shots.Most, Row: "CPU between heats at most", Site: shots.Takes,
		},
		rest: {Name: shots.Rest, Unit: units.Second, Fold: shots.Most},
	},
	ToldMore: []string{perThread},
}

// Kind is this kind's registration.
var Kind = contender.Kind{
	Kind: plan.Kind{
		Programs: true,
		Name:     "worker", Doc: "a function inside a program that is started for a heat or for the duel", New: New,
		Tells:  true,
		Brings: brings(),
	},
	Open: func(s contender.Setup, settings plan.Settings) (contender.Driver, error) {
		return open(s, settings.(*Settings))
	},
	Draft: &drafting,
	Shape: shape, Level: level, Descriptors: 8, Processes: 32, // the threads of its runtime
}

// brings are the figures of this kind alone.
func brings() []figure.Name {
	names := []figure.Name{
		figure.Told(operation, units.Nanosecond), figure.Told(cpuOf, units.Nanosecond),
		figure.ToldMore(perThread, units.PerSecond), figure.Told(threadGap, units.Part),
		figure.Told(firstOperation, units.Second), figure.Told(warmUp, units.Second),
	}
	for _, q := range quantiles {
		names = append(names, figure.Told(q.name, units.Nanosecond))
	}
	return names
}

// driver holds the workers of a contender: one for each client, which stays for a heat, or from heat to heat.
type driver struct {
	settings *Settings
	launch   worker.Launch // but for what a process has of its own
	clock    *clock.Clock
	printed  io.Writer                                   // takes what workers print while they work; nil for nobody
	pings    func(net.Conn)                              // takes the lines over which they answer pings; nil for nobody
	groups   func(*plan.Limits) (contender.Group, error) // nil: nobody is held to limits

	used    atomic.Int64 // nanoseconds of CPU in shots so far
	mu      sync.Mutex
	running map[int]*running // by client
}

func open(setup contender.Setup, s *Settings) (*driver, error) {
	dir := setup.Fill(s.Dir)
	if !filepath.IsAbs(dir) {
		dir = filepath.Join(setup.Dir, dir)
	}
	d := &driver{
		settings: s, clock: setup.Clock, groups: setup.Group, running: map[int]*running{}, printed: setup.Printed,
		pings:  setup.Pings,
		launch: worker.Launch{Dir: launch.Absolute(dir), Place: setup.Place(), Pings: setup.Pings != nil},
	}
	d.launch.Folders = setup.Folders(d.launch.Dir)
	for _, w := range s.Run {
		d.launch.Run = append(d.launch.Run, setup.Fill(string(w)))
	}
	if _, err := d.launch.Program(); err != nil {
		return nil, contender.Advised(err)
	}
	more := []string{string(keeper.RunMark())}
	for name, value := range s.Env {
		more = append(more, name+"="+setup.Fill(string(value)))
	}
	d.launch.Env = launch.Environment(d.launch.Dir, more...)
	return d, nil
}

// Used implements contender.Lasting.
func (d *driver) Used() time.Duration { return time.Duration(d.used.Load()) }

// Begin implements contender.Housed: each client's worker is there before the heat.
func (d *driver) Begin(ctx context.Context, n int) (starts []contender.Start, err error) {
	if d.settings.StartsAnew() {
		d.Close() // those that the weigh-in asked
	}
	for i := range n {
		if d.of(i) != nil {
			continue
		}
		r, err := d.start(ctx)
		if err != nil {
			return starts, err
		}
		d.put(i, r)
		if d.settings.StartsAnew() {
			starts = append(starts, contender.Start{Created: d.clock.Now() - time.Since(r.Created),
				Ready: d.clock.Now() - time.Since(r.Greeted)})
		}
	}
	return starts, nil
}

// End implements contender.Housed.
func (d *driver) End() {
	if d.settings.StartsAnew() {
		d.Close()
	}
}

// watchEvery is how often what a worker holds is looked at.
const watchEvery = 50 * time.Millisecond

// Resident implements contender.Housed.
func (d *driver) Resident() (out contender.Resident) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if len(d.running) != 1 {
		return out
	}
	for _, r := range d.running {
		out.PID, out.Every = r.PID(), watchEvery
		if r.group != nil {
			out.CPU, out.Killed, out.Limits = r.group.CPU, r.group.Killed, d.settings.Limits.Words()
		}
	}
	return out
}

// Client makes a client; its worker is the one that was begun, or that the i-th client had before.
func (d *driver) Client(i, _ int) contender.Client { return &client{d: d, i: i} }

// Close ends all workers at once: one that does not want to end holds up no other.
func (d *driver) Close() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	var ending sync.WaitGroup
	for _, r := range d.running {
		ending.Go(r.end)
	}
	ending.Wait()
	clear(d.running)
	return nil
}

func (d *driver) of(client int) *running {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.running[client]
}

func (d *driver) put(client int, r *running) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if r == nil {
		delete(d.running, client)
		return
	}
	d.running[client] = r
}

// running is a worker with its function prepared.
type running struct {
	*worker.Process
	made   worker.Prepared
	tree   *meter.Tree
	used   time.Duration // CPU up to its last answer
	asked  time.Duration // when that was, on the clock
	output *output
	group  contender.Group // nil without limits
	killed int64           // of the group's processes, for wanting more memory; known once it has been released
}

// release gives back what the worker had besides its process, which has ended.
func (r *running) release() {
	r.output.close()
	if r.group != nil {
		r.killed = r.group.Killed()
		r.group.Remove()
	}
}

// start starts a worker and has its function prepared.
func (d *driver) start(ctx context.Context) (r *running, err error) {
	r = &running{}
	if r.output, err = openOutput(d.settings.Stdout, d.settings.Size, d.printed); err != nil {
		return nil, err
	}
	how := d.launch
	how.Stdout = r.output.file
	if limits := d.settings.Limits; limits != nil && d.groups != nil {
		if r.group, err = d.groups(limits); err != nil {
			r.output.close()
			return nil, err
		}
		how.In = r.group
	}
	if r.Process, err = worker.Start(ctx, how); err != nil {
		r.release()
		return nil, d.startless(r, err, "see what it does: ")
	}
	if err = d.prepare(ctx, r); err != nil {
		r.Kill()
		r.release()
		return nil, d.startless(r, d.told(r, err), "correct function, params or threads, or see what the worker does: ")
	}
	if d.pings != nil {
		d.pings(r.Pings())
	}
	r.tree = meter.NewTree(r.PID())
	r.used, r.asked = r.tree.CPU(), d.clock.Now()
	return r, nil
}

// startless is the error of a worker that could not be started or prepared, with what can be done about it.
func (d *driver) startless(r *running, err error, try string) error {
	if r.killed > 0 {
		return &contender.Hint{Err: d.killed(), Try: "raise limits:, or have it want less"}
	}
	return &contender.Hint{Err: err, Try: try + "paceduel worker check -- " + strings.Join(d.launch.Run, " ")}
}

// killed says that a worker wanted more memory than it may have.
func (d *driver) killed() error {
	return fmt.Errorf("it was killed for memory: it wanted more than %s", d.settings.Limits.Words())
}

func (d *driver) prepare(ctx context.Context, r *running) error {
	s := d.settings
	f := r.Hello.Find(s.Function)
	if f == nil {
		names := make([]string, len(r.Hello.Functions))
		for i := range r.Hello.Functions {
			names[i] = r.Hello.Functions[i].Name
		}
		return fmt.Errorf("the worker has no function %s; it has %s", s.Function, strings.Join(names, ", "))
	}
	if most := max(f.Threads, 1); s.Threads > most {
		return fmt.Errorf("its function %s runs on %s at most, and threads is %d", f.Name, units.Plural(most, "thread"),
			s.Threads)
	}
	params, err := s.params(f)
	if err != nil {
		return err
	}
	if err = r.Chat(); err != nil {
		return err
	}
	r.made, err = r.Prepare(ctx, s.Function, params, s.Threads)
	return err
}

// told adds to an error of a worker that has ended why that was, as far as it is known, and what it printed on its
// standard error.
func (d *driver) told(r *running, err error) error {
	if r.killed > 0 {
		return d.killed()
	}
	if text := r.Said(); text != "" {
		return fmt.Errorf("%w; it printed: %s", err, text)
	}
	return err
}

func (r *running) end() {
	r.End()
	r.release()
}

// client has one worker, which is started at its first shot and again when it had to be ended.
type client struct {
	d     *driver
	i     int
	marks shots.Marks
	begun bool
	// What its worker used before its first shot while nothing was asked of it, and how long that was.
	idle, rest time.Duration
	within     []shots.Stretch
}

// Shoot has the worker do the operations of one shot.
func (c *client) Shoot(ctx context.Context, shot *shots.Shot) {
	now := c.d.clock.Now
	shot.Start = now()
	shot.End = shot.Start
	fail := func(class shots.Class, err error) {
		if ctx.Err() != nil {
			class, err = shots.Cut, ctx.Err()
		}
		shot.Class, shot.Err, shot.End = class, err, now()
		if shot.View != nil {
			shot.View.Done, shot.View.Outcome = c.d.settings.Summary(), "failed"
		}
	}
	if ctx.Err() != nil {
		fail(shots.Cut, ctx.Err())
		return
	}
	r := c.d.of(c.i)
	if r == nil {
		var err error
		if r, err = c.d.start(ctx); err != nil {
			fail(classOf(err), err)
			return
		}
		c.d.put(c.i, r)
	}
	r.tree.Find()
	before, printedBefore := r.tree.CPU(), r.output.length()
	shot.Start = now() // before the limit starts to count, so that a timeout lasts at least as long
	limited, cancel := context.WithTimeout(ctx, c.d.settings.Timeout.D())
	defer cancel()
	ran, err := c.run(limited, r)
	ended := now()
	shot.End = ended
	if err != nil {
		c.d.put(c.i, nil)
		late := limited.Err() != nil
		state, gone := r.Kill()
		r.release()
		switch {
		case late:
			fail(shots.Timeout, fmt.Errorf("not done after %s, ended", c.d.settings.Timeout.D()))
		case gone:
			fail(shots.Exit, c.d.told(r, fmt.Errorf("the worker ended with %s in mid-shot", state)))
		default:
			fail(shots.Other, c.d.told(r, err))
		}
		shot.End = ended // not when it was seen how
		return
	}
	after := r.tree.Held()
	shot.Count(cpu, int64(after.CPU-before))
	c.enter(shot, r, &ran)
	shot.Count(printed, r.output.length()-printedBefore)
	c.d.used.Add(int64(after.CPU - before))
	if !c.begun && !c.d.settings.StartsAnew() { // one that was just started has not rested
		c.begun, c.idle, c.rest = true, max(before-r.used, 0), shot.Start-r.asked
	}
	shot.Count(idle, int64(c.idle))
	shot.Count(rest, int64(c.rest))
	shot.Count(memory, after.Resident)
	r.used, r.asked = r.tree.CPU(), now()
	if shot.View != nil {
		c.describe(shot, r, &ran)
	}
}

// run has the worker do one shot's operations, or as many as its time holds.
func (c *client) run(ctx context.Context, r *running) (worker.Ran, error) {
	s := c.d.settings
	if s.For > 0 {
		return r.RunFor(ctx, s.For.D())
	}
	return r.Run(ctx, s.Operations, s.Timeout.D())
}

// classOf is the class of a worker that could not be started or prepared.
func classOf(err error) shots.Class {
	if contender.IsOwnLimit(err) || errors.Is(err, syscall.EAGAIN) {
		return shots.Limits
	}
	return shots.NoStart
}

// enter takes over what the worker told of its run.
func (c *client) enter(shot *shots.Shot, r *running, ran *worker.Ran) {
	shot.Aside = max(shot.End-shot.Start-time.Duration(math.Ceil(ran.Elapsed)), 0)
	shot.Received, shot.Length = int64(len(r.made.Result)), int64(len(r.made.Result))
	shot.Count(operations, ran.Operations)
	shot.Within = c.stretches(shot, ran)
	c.marks.Clear()
	least, most := math.Inf(1), 0.0
	for i := range ran.Threads {
		least, most = min(least, ran.Threads[i].Busy), max(most, ran.Threads[i].Busy)
	}
	c.marks.Add([]byte(operation), units.Nanosecond, ran.PerOperation())
	if len(ran.Threads) > 1 && most > 0 {
		c.marks.Add([]byte(perThread), units.PerSecond, 1e9/ran.PerOperation())
		c.marks.Add([]byte(threadGap), units.Part, 1-least/most)
	}
	for _, q := range quantiles {
		if ns, ok := ran.Quantile(q.q); ok {
			c.marks.Add([]byte(q.name), units.Nanosecond, ns)
		}
	}
	c.marks.Add([]byte(cpuOf), units.Nanosecond, float64(shot.Amounts[cpu])/float64(ran.Operations))
	if c.d.settings.StartsAnew() {
		c.tellOfStart(r)
	}
	for _, name := range ran.AmountNames() {
		if own(name) {
			continue
		}
		switch a := ran.Amounts[name]; a.Unit {
		case "ns":
			c.marks.Add([]byte(name), units.Second, a.Value/1e9)
		case "bytes":
			c.marks.Add([]byte(name), units.Byte, a.Value)
		case "":
			c.marks.Add([]byte(name), units.Unit(name), a.Value)
		default:
			c.marks.Add([]byte(name), units.Unit(a.Unit), a.Value)
		}
	}
	shot.Told = c.marks.List()
}

// maxStretches is how many batches of a shot are drawn.
const maxStretches = 400

// stretches are the batches of a run, some of many.
func (c *client) stretches(shot *shots.Shot, ran *worker.Ran) []shots.Stretch {
	c.within = c.within[:0]
	began := shot.End - time.Duration(ran.Elapsed)
	for i := range ran.Threads {
		t := &ran.Threads[i]
		sum := 0.0
		for _, m := range t.Means {
			sum += m
		}
		every := max(len(t.Means)*len(ran.Threads)/maxStretches, 1)
		past := 0.0
		for j, m := range t.Means {
			if past += m; j%every == 0 && sum > 0 {
				c.within = append(c.within, shots.Stretch{
					At:      began + time.Duration(t.Busy*past/sum),
					Latency: time.Duration(float64(shot.Latency()) * m * float64(len(t.Means)) / sum),
				})
			}
		}
	}
	if len(c.within) < 2 { // it says no more than the shot
		return nil
	}
	return c.within
}

// tellOfStart tells how its process came up, but for its start where that is a figure of the table.
func (c *client) tellOfStart(r *running) {
	if !c.d.settings.StartsAnew() {
		c.marks.AddTime([]byte(start), r.Greeted.Sub(r.Created))
	}
	if r.made.First > 0 {
		c.marks.Add([]byte(firstOperation), units.Second, r.made.First/1e9)
	}
	c.marks.Add([]byte(warmUp), units.Second, r.made.Warmup/1e9)
}

// describe shows the function's result, by which contenders are held to the same work, and how it was made ready.
func (c *client) describe(shot *shots.Shot, r *running, ran *worker.Ran) {
	v := shot.View
	v.Done, v.Version = c.d.settings.Summary(), strings.TrimSpace(r.Hello.Runtime+" "+r.Hello.Version)
	v.Outcome = "returned a result"
	if ran.PerOperation() < emptyShare*r.made.Empty {
		v.Notes = append(v.Notes, fmt.Sprintf(
			"an operation takes %s, no more than one of an empty loop (%s): it may do nothing",
			units.Nanosecond.Write(ran.PerOperation()), units.Nanosecond.Write(r.made.Empty)))
	}
	if !r.made.Settled {
		v.Notes = append(v.Notes, "its times had not settled after a warm-up of "+units.Seconds(r.made.Warmup/1e9))
	}
	if !v.Sample && !c.d.settings.StartsAnew() {
		c.tellOfStart(r)
		shot.Told = c.marks.List()
	}
	if r.made.Result == nil {
		v.Outcome = "returned nothing"
		v.Notes = append(v.Notes, "what returns nothing cannot be held to the others' work")
		return
	}
	v.Bytes, v.Known, v.Type = int64(len(r.made.Result)), true, "application/json"
	v.Body = r.made.Result[:min(len(r.made.Result), v.Room())]
}

// emptyShare is from how many empty loops' time on a function is believed to do something.
const emptyShare = 1.5

// Rewind implements contender.Client: there are no rows.
func (c *client) Rewind() {}

// Close leaves the worker to the next heat.
func (c *client) Close() {}

var _ contender.Housed = (*driver)(nil)
