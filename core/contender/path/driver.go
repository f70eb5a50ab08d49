package path

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/keeper"
	"paceduel/core/launch"
	"paceduel/core/plan"
	"paceduel/core/shots"
)

// Kind is this kind's registration.
var Kind = contender.Kind{
	Kind: plan.Kind{Name: "path", Doc: "a file copied or sent, by one of the kernel's ways", New: New},
	Open: func(s contender.Setup, settings plan.Settings) (contender.Driver, error) {
		return open(s, settings.(*Settings))
	},
	Draft: &drafting,
	Shape: shape, Descriptors: 8, Processes: 8, // its worker and sink, with the threads of their runtime
	Floor: func([]plan.Settings) (plan.Settings, func(), error) {
		dir, err := os.MkdirTemp("", "paceduel-path-")
		if err != nil {
			return nil, nil, err
		}
		s := New().(*Settings)
		s.From, s.To = resolve(dir, "byte"), resolve(dir, "copy") // the least there is to move
		if err := os.WriteFile(s.From, []byte{0}, 0o600); err != nil {
			return nil, nil, err
		}
		return s, func() { os.RemoveAll(dir) }, nil
	},
}

// driver holds what all clients of a contender share.
type driver struct {
	settings *Settings
	job      job
	clock    *clock.Clock
	place    launch.Place
	keeper   *keeper.Keeper
	program  string        // this one
	offset   time.Duration // of our clock from the kernel's
	used     atomic.Int64  // nanoseconds of CPU of workers in shots so far
}

// Used implements contender.Lasting: a client's worker ends with it, which is after the heat.
func (d *driver) Used() time.Duration { return time.Duration(d.used.Load()) }

func open(setup contender.Setup, s *Settings) (*driver, error) {
	d := &driver{settings: s, clock: setup.Clock, place: setup.Place(), job: job{
		Way: s.Way, From: launch.Absolute(resolve(setup.Dir, s.From)), Block: int(s.Block),
		Direct: s.Direct, Sync: s.Sync, AtOnce: max(s.AtOnce, 1),
	}}
	if !s.Socket {
		d.job.To = launch.Absolute(resolve(setup.Dir, s.To))
		rel, err := filepath.Rel(setup.Workspace, d.job.To)
		d.job.Replace = setup.Workspace != "" && err == nil && filepath.IsLocal(rel)
	}
	var err error
	if d.program, err = os.Executable(); err != nil {
		return nil, fmt.Errorf("find this program, to start its worker: %w", err)
	}
	if d.keeper, err = keeper.Shared(); err != nil {
		return nil, err
	}
	if err := d.probe(); err != nil {
		return nil, err
	}
	d.offset = time.Duration(monotonic()) - d.clock.Now()
	return d, nil
}

// probe tries the way on one block, so that what the file systems cannot do is said before anything is timed. A source
// that is not there yet, since a workspace is laid later, is left to the weigh-in.
func (d *driver) probe() error {
	if d.job.To == "" {
		return nil
	}
	if err := d.job.vacant(); err != nil {
		return err
	}
	if _, err := os.Stat(d.job.From); err != nil {
		return nil
	}
	trial, err := os.CreateTemp(dirOf(d.job.To), ".paceduel-probe-*")
	if err != nil {
		return &contender.Hint{
			Err: fmt.Errorf("write where %s is to be: %w", d.job.To, err), Try: "name another target (to:)",
		}
	}
	trial.Close()
	os.Remove(trial.Name()) // it is made anew, as a target is
	defer os.Remove(trial.Name())
	m := mover{job: d.job, most: int64(d.job.Block)}
	m.To, m.AtOnce, m.Sync = trial.Name(), 1, false
	if err = m.ready(); err == nil {
		_, _, err = m.move()
	}
	for _, b := range m.buffers {
		unix.Munmap(b)
	}
	if err != nil {
		return advised(fmt.Errorf("try %s on one block: %w", d.job.Way, err), err)
	}
	return nil
}

// vacant refuses a target that somebody else has put there: a shot writes its file anew, and removes it.
func (j *job) vacant() error {
	if j.To == "" || j.Replace {
		return nil
	}
	switch info, err := os.Lstat(j.To); {
	case err == nil && !info.Mode().IsRegular():
		return &contender.Hint{Err: fmt.Errorf("%s is there and no file", j.To), Try: "name a file that is not there yet"}
	case err == nil:
		return &contender.Hint{
			Err: fmt.Errorf("%s is there already and would be overwritten", j.To),
			Try: "remove it, name a file that is not there yet, or give the contender a workspace (footing:)",
		}
	}
	return nil // what cannot be looked at cannot be written either, which is said then
}

func dirOf(path string) string { return path[:strings.LastIndex(path, "/")+1] }

// Client makes a client, which writes to a target of its own where there are several.
func (d *driver) Client(i, n int) contender.Client {
	own := d.job
	if n > 1 && own.To != "" {
		own.To += "." + strconv.Itoa(i+1)
	}
	return &client{d: d, job: own}
}

// Close implements contender.Driver.
func (d *driver) Close() error { return nil }

// client has one worker, which is started at its first shot and again when it had to be ended.
type client struct {
	d   *driver
	job job

	worker, sink *process
	forget       func() // has the keeper forget the target; nil while there is none of ours
	line         *os.File
	in           *json.Decoder
	out          *json.Encoder
}

// process is one that we started, in a group and a seat of its own.
type process struct {
	cmd  *exec.Cmd
	seat *keeper.Seat
}

func (d *driver) start(as string, streams int, files []*os.File) (*process, error) {
	seat, err := d.keeper.Seat()
	if err != nil {
		return nil, err
	}
	cmd := exec.Command(d.program)
	cmd.Dir = "/"
	cmd.Env = launch.Environment("/", string(keeper.RunMark()), workerEnv+"="+as+" "+strconv.Itoa(streams))
	cmd.ExtraFiles = files
	if err := launch.Start(cmd, d.place, seat); err != nil {
		seat.Release()
		return nil, fmt.Errorf("start the %s: %w", as, err)
	}
	return &process{cmd, seat}, nil
}

// end ends the process, whatever it is doing, and waits for it.
func (p *process) end() {
	if p == nil {
		return
	}
	p.kill()
	p.cmd.Wait()
	p.seat.Clear()
	p.seat.Release()
}

func (p *process) kill() { syscall.Kill(-p.cmd.Process.Pid, syscall.SIGKILL) }

// begin starts worker and sink where they do not run, and tells the worker its job.
func (c *client) begin(ctx context.Context) error {
	if c.worker != nil {
		return nil
	}
	err := c.claim()
	if err == nil {
		err = c.launch()
	}
	if err == nil {
		var r report
		if r, err = c.ask(ctx, order{Job: &c.job}); err == nil && r.Err != "" {
			err = errors.New(r.Err)
		}
	}
	if err != nil {
		c.end()
	}
	return err
}

// claim makes sure that the target is nobody else's, and has it removed whatever happens to us.
func (c *client) claim() error {
	if c.job.To == "" || c.job.Replace {
		return nil
	}
	if err := c.job.vacant(); err != nil {
		return err
	}
	c.forget = c.d.keeper.RemoveAfter(c.job.To)
	return nil
}

// leave removes what was written, where it does not go with a workspace.
func (c *client) leave() {
	if c.forget == nil {
		return
	}
	if info, err := os.Lstat(c.job.To); err == nil && info.Mode().IsRegular() {
		os.Remove(c.job.To)
	}
	c.forget()
	c.forget = nil
}

// launch starts sink and worker. Their ends of all lines are closed here when it returns: else nobody would see that
// they have gone.
func (c *client) launch() error {
	var mine, others []*os.File
	defer func() {
		for _, f := range append(mine, others...) {
			f.Close()
		}
	}()
	ours, theirs, err := pair()
	if err != nil {
		return err
	}
	c.line, c.in, c.out = ours, json.NewDecoder(ours), json.NewEncoder(ours)
	mine = append(mine, theirs)
	streams := 0
	if c.job.To == "" {
		streams = c.job.AtOnce
	}
	for range 2 * streams {
		a, b, err := pair()
		if err != nil {
			return err
		}
		mine, others = append(mine, a), append(others, b)
	}
	if streams > 0 {
		if c.sink, err = c.d.start(asSink, streams, others); err != nil {
			return err
		}
	}
	c.worker, err = c.d.start(asWorker, streams, mine)
	return err
}

// pair makes two ends of a local socket.
func pair() (a, b *os.File, err error) {
	fds, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, nil, fmt.Errorf("make a local socket: %w", err)
	}
	return os.NewFile(uintptr(fds[0]), "socket"), os.NewFile(uintptr(fds[1]), "socket"), nil
}

func (c *client) end() {
	c.worker.end()
	c.sink.end()
	c.worker, c.sink = nil, nil
	c.leave()
	if c.line != nil {
		c.line.Close()
		c.line = nil
	}
}

// ask hands an order to the worker and waits for its report. It kills the worker when ctx ends.
func (c *client) ask(ctx context.Context, o order) (r report, err error) {
	worker := c.worker
	forget := context.AfterFunc(ctx, worker.kill)
	defer forget()
	if err = c.out.Encode(&o); err == nil {
		err = c.in.Decode(&r)
	}
	if err != nil {
		err = fmt.Errorf("the worker ended: %w", err)
	}
	return r, err
}

// Shoot has the file moved once.
func (c *client) Shoot(ctx context.Context, shot *shots.Shot) {
	shot.Start = c.d.clock.Now()
	shot.End = shot.Start
	fail := func(class shots.Class, err error) {
		shot.Class, shot.Err = class, err
		shot.End = max(shot.End, c.d.clock.Now())
	}
	if ctx.Err() != nil {
		fail(shots.Cut, ctx.Err())
		return
	}
	if err := c.begin(ctx); err != nil {
		if ctx.Err() != nil {
			fail(shots.Cut, ctx.Err())
			return
		}
		fail(classOf(err, shots.NoStart), err)
		return
	}
	shot.Start = c.d.clock.Now()
	limited, cancel := context.WithTimeout(ctx, c.d.settings.Timeout.D())
	defer cancel()
	whole := shot.View != nil && !shot.View.Sample
	r, err := c.ask(limited, order{Measure: shot.Measure, Hash: whole && c.job.To == ""})
	if err != nil {
		c.end()
		switch {
		case ctx.Err() != nil:
			fail(shots.Cut, ctx.Err())
		case limited.Err() != nil:
			fail(shots.Timeout, fmt.Errorf("not done after %s, ended", c.d.settings.Timeout.D()))
		default:
			fail(shots.Signal, err)
		}
		return
	}
	if r.Start > 0 {
		shot.Start, shot.End = time.Duration(r.Start)-c.d.offset, time.Duration(r.End)-c.d.offset
	}
	c.count(&r, shot)
	switch {
	case ctx.Err() != nil:
		fail(shots.Cut, ctx.Err())
	case r.Err != "":
		errno := syscall.Errno(r.Errno)
		fail(classOf(errno, shots.Other), advised(errors.New(r.Err), errno))
	}
	if shot.View != nil {
		c.describe(&r, shot, whole)
	}
}

// classOf is the class of a failure: ours where it is a limit of ours.
func classOf(err error, otherwise shots.Class) shots.Class {
	if contender.IsOwnLimit(err) || errors.Is(err, syscall.EAGAIN) {
		return shots.Limits
	}
	return otherwise
}

func (c *client) count(r *report, shot *shots.Shot) {
	shot.Received, shot.Length = r.Moved, r.Moved
	shot.Count(cpu, r.User+r.System)
	c.d.used.Add(r.User + r.System)
	shot.Count(kernel, r.System)
	shot.Count(memory, r.Peak)
	shot.Count(waits, r.Waits)
	shot.Count(preemptions, r.Preempt)
	shot.Count(faults, r.Faults)
	shot.Count(reads, r.Reads)
	shot.Count(writes, r.Writes)
	shot.Count(calls, r.Calls)
	shot.Count(data, r.Moved)
}

// describe shows what arrived: how much it was, and its hash, by which contenders are held to the same work.
func (c *client) describe(r *report, shot *shots.Shot, whole bool) {
	v := shot.View
	v.Done, v.Outcome = c.d.settings.Summary(), fmt.Sprintf("%d bytes moved", r.Moved)
	if shot.Class != shots.OK {
		v.Outcome = "failed"
		return
	}
	if !whole {
		return // reading the target again would change what is in memory at the next shot
	}
	sum := r.Hash
	if c.job.To != "" {
		var err error
		if sum, err = hashOf(c.job.To); err != nil {
			v.Outcome = "what was written cannot be read: " + err.Error()
			return
		}
	}
	v.Body = fmt.Appendf(nil, "%d bytes, sha256 %s\n", r.Moved, sum)
	v.Bytes, v.Known = int64(len(v.Body)), true
}

func hashOf(path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, f); err != nil {
		return "", err
	}
	return fmt.Sprintf("%x", sum.Sum(nil)), nil
}

// Rewind implements contender.Client: there are no rows.
func (c *client) Rewind() {}

// Close ends the worker. What it wrote goes, but for a workspace, where others look at it.
func (c *client) Close() { c.end() }

var _ contender.Lasting = (*driver)(nil)
