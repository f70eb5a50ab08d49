package worker

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
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
	operation = "operation"  // the time of one, as a thread sees it
	warmUp    = "warm-up"    // how long it was warmed up for; at the weigh-in alone
	threadGap = "thread gap" // by what share of the slowest thread's time the fastest was done before it
)

// What is counted of each shot, by its place in the shape.
const (
	cpu = iota // of the worker with what it started, between question and answer
	memory
	operations
	idle
	rest
)

var shape = shots.Shape{
	Amounts: []shots.Amount{
		cpu:        {Name: shots.CPU, Unit: units.Second},
		memory:     {Name: shots.Memory, Unit: units.Byte, Fold: shots.Most},
		operations: {Name: "operations", Unit: "operations", Rate: true},
		idle: {
			Name: shots.Idle, Unit: units.Second, Fold: shots.Most, Row: "CPU between heats at most", Site: shots.Takes,
		},
		rest: {Name: shots.Rest, Unit: units.Second, Fold: shots.Most},
	},
}

// Kind is this kind's registration.
var Kind = contender.Kind{
	Kind: plan.Kind{
		Name: "worker", Doc: "a function inside a program that is started once", New: New, Tells: true,
		Brings: []figure.Name{figure.Told(operation, units.Nanosecond), figure.Told(threadGap, units.Part)},
	},
	Open: func(s contender.Setup, settings plan.Settings) (contender.Driver, error) {
		return open(s, settings.(*Settings))
	},
	Shape: shape, Level: level, Descriptors: 8, Processes: 32, // the threads of its runtime
}

// driver holds the workers of a contender: one for each client, which stays from heat to heat.
type driver struct {
	settings *Settings
	launch   worker.Launch // but for what a process has of its own
	clock    *clock.Clock

	used    atomic.Int64 // nanoseconds of CPU in shots so far
	mu      sync.Mutex
	running map[int]*running // by client
}

func open(setup contender.Setup, s *Settings) (*driver, error) {
	dir := s.Dir
	if !filepath.IsAbs(dir) {
		dir = filepath.Join(setup.Dir, dir)
	}
	d := &driver{settings: s, clock: setup.Clock, running: map[int]*running{}, launch: worker.Launch{
		Dir: launch.Absolute(dir), Place: setup.Place(),
	}}
	if setup.PlanDir != "" {
		d.launch.Folders = []string{setup.PlanDir}
	}
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

// Client makes a client; its worker is the one that the i-th client had before.
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
}

// start starts a worker and has its function prepared.
func (d *driver) start(ctx context.Context) (r *running, err error) {
	r = &running{}
	if r.output, err = openOutput(d.settings.Stdout); err != nil {
		return nil, err
	}
	how := d.launch
	how.Stdout = r.output.file
	if r.Process, err = worker.Start(ctx, how); err != nil {
		r.output.close()
		return nil, &contender.Hint{
			Err: err, Try: "see what it does: paceduel worker check -- " + strings.Join(d.launch.Run, " "),
		}
	}
	if err = d.prepare(ctx, r); err != nil {
		r.Kill()
		r.output.close()
		return nil, &contender.Hint{
			Err: r.told(err),
			Try: "correct function, params or threads, or see what the worker does: paceduel worker check -- " +
				strings.Join(d.launch.Run, " "),
		}
	}
	r.tree = meter.NewTree(r.PID())
	r.used, r.asked = r.tree.CPU(), d.clock.Now()
	return r, nil
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
	r.made, err = r.Prepare(ctx, s.Function, params, s.Threads)
	return err
}

// told adds to an error what the worker printed on its standard error.
func (r *running) told(err error) error {
	if text := r.Said(); text != "" {
		return fmt.Errorf("%w; it printed: %s", err, text)
	}
	return err
}

func (r *running) end() {
	r.End()
	r.output.close()
}

// client has one worker, which is started at its first shot and again when it had to be ended.
type client struct {
	d     *driver
	i     int
	marks shots.Marks
	begun bool
	// What its worker used before its first shot while nothing was asked of it, and how long that was.
	idle, rest time.Duration
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
	before := r.tree.CPU()
	limited, cancel := context.WithTimeout(ctx, c.d.settings.Timeout.D())
	defer cancel()
	shot.Start = now()
	ran, err := r.Run(limited, c.d.settings.Operations, c.d.settings.Timeout.D())
	shot.End = now()
	if err != nil {
		c.d.put(c.i, nil)
		late := limited.Err() != nil
		state, gone := r.Kill()
		r.output.close()
		switch {
		case late:
			fail(shots.Timeout, fmt.Errorf("not done after %s, ended", c.d.settings.Timeout.D()))
		case gone:
			fail(shots.Exit, r.told(fmt.Errorf("the worker ended with %s in mid-shot", state)))
		default:
			fail(shots.Other, r.told(err))
		}
		return
	}
	after := r.tree.Held()
	c.enter(shot, r, &ran)
	shot.Count(cpu, int64(after.CPU-before))
	c.d.used.Add(int64(after.CPU - before))
	if !c.begun {
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
	c.marks.Clear()
	least, most := math.Inf(1), 0.0
	for i := range ran.Threads {
		least, most = min(least, ran.Threads[i].Busy), max(most, ran.Threads[i].Busy)
	}
	c.marks.Add([]byte(operation), units.Nanosecond, ran.PerOperation())
	if len(ran.Threads) > 1 && most > 0 {
		c.marks.Add([]byte(threadGap), units.Part, 1-least/most)
	}
	for _, name := range ran.AmountNames() {
		if name == operation || name == warmUp || name == threadGap {
			continue // what we tell ourselves
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
	if !v.Sample {
		c.marks.Add([]byte(warmUp), units.Second, r.made.Warmup/1e9)
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

// output is where a worker prints to.
type output struct {
	file, reader *os.File
	drained      chan struct{}
}

func openOutput(to string) (o *output, err error) {
	o = &output{}
	switch to {
	case "pipe":
		if o.reader, o.file, err = os.Pipe(); err == nil {
			o.drained = make(chan struct{})
			go func() {
				defer close(o.drained)
				io.Copy(io.Discard, o.reader)
			}()
		}
	case "file":
		if o.file, err = os.CreateTemp("", "paceduel-output-*"); err == nil {
			err = os.Remove(o.file.Name()) // nobody else needs its name
		}
	default:
		o.file, err = os.OpenFile(os.DevNull, os.O_WRONLY, 0)
	}
	if err != nil {
		return nil, fmt.Errorf("open what the worker prints to: %w", err)
	}
	return o, nil
}

// close closes it, once whoever printed has gone; one who left the group and holds a pipe open is not waited for.
func (o *output) close() {
	o.file.Close()
	if o.reader != nil {
		o.reader.SetReadDeadline(time.Now().Add(100 * time.Millisecond))
		<-o.drained
		o.reader.Close()
	}
}

var _ contender.Lasting = (*driver)(nil)
