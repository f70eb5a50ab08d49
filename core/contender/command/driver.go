package command

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"runtime"
	"slices"
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
	"paceduel/core/marks"
	"paceduel/core/plan"
	"paceduel/core/shots"
	"paceduel/core/spans"
	"paceduel/core/units"
)

// Kind is this kind's registration.
var Kind = contender.Kind{
	Kind: plan.Kind{Name: "command", Doc: "an external program, run again and again", New: New, Programs: true},
	Open: func(s contender.Setup, settings plan.Settings) (contender.Driver, error) {
		return open(s, settings.(*Settings))
	},
	Draft: &drafting,
	Shape: shape, Descriptors: 12, Processes: 3, // a thread that waits, one that reads, and the process itself
	Floor: func([]plan.Settings) (plan.Settings, func(), error) {
		s := New().(*Settings)
		s.Run = []plan.Word{"true"} // the program that does nothing
		return s, func() {}, nil
	},
}

// What is counted of each run, by its place in the shape.
const (
	cpu = iota // user and system time of the process and the children it waited for
	kernel
	memory
	waits
	preemptions
	faults
	reads
	writes
	lines
)

var shape = shots.Shape{
	OwnProcess: true,
	Amounts: []shots.Amount{
		cpu:    {Name: shots.CPU, Unit: units.Second},
		kernel: {Name: "kernel", Unit: units.Second, Row: "of it in the kernel", Per: shots.PerShot, Site: shots.Takes},
		memory: {Name: shots.Memory, Unit: units.Byte, Fold: shots.Most},
		waits:  {Name: "waits", Unit: "waits", Row: "waits a run", Per: shots.PerShot, Site: shots.Uses},
		preemptions: {
			Name: "preemptions", Unit: "preemptions", Row: "preemptions a run", Per: shots.PerShot, Site: shots.Uses,
		},
		faults: {Name: "page faults", Unit: "faults", Row: "page faults a run", Per: shots.PerShot, Site: shots.Uses},
		reads: {
			Name: "disk reads", Unit: units.Byte, Row: "read from disk a run", Per: shots.PerShot, Site: shots.Uses,
		},
		writes: {
			Name: "disk writes", Unit: units.Byte, Row: "written to disk a run", Per: shots.PerShot, Site: shots.Uses,
		},
		lines: {
			Name: "output lines", Unit: "lines", Row: "output lines a run", Per: shots.PerShot, Site: shots.Answers,
		},
	},
}

// driver holds what all clients of a contender share; but for untraceable it is not modified after open.
type driver struct {
	settings *Settings
	clock    *clock.Clock
	program  string
	argv     []string
	dir      string   // absolute
	folders  []string // in which programs are looked for
	stdin    string
	fill     func(string) string
	env      []string
	keeper   *keeper.Keeper
	place    launch.Place
	// untraceable says that tracing is not allowed here, so that memory is not known.
	untraceable atomic.Bool
}

func open(setup contender.Setup, s *Settings) (*driver, error) {
	d := &driver{settings: s, clock: setup.Clock, fill: setup.Fill, stdin: os.DevNull}
	d.dir = launch.Absolute(resolve(setup.Dir, setup.Fill(s.Dir)))
	if s.Stdin != "" {
		d.stdin = resolve(setup.Dir, setup.Fill(s.Stdin))
	}
	d.argv = []string{"/bin/sh", "-c", setup.Fill(s.Shell)}
	if s.Shell == "" {
		d.argv = d.argv[:0]
		for _, w := range s.Run {
			d.argv = append(d.argv, setup.Fill(string(w)))
		}
	}
	d.folders = setup.Folders(d.dir)
	var err error
	if d.program, err = launch.Program(d.argv[0], d.folders...); err != nil {
		return nil, contender.Advised(err)
	}
	d.place = setup.Place()
	d.untraceable.Store(elevated(d.program))
	d.env = environment(d.dir, s.Env, setup.Fill)
	if d.keeper, err = keeper.Shared(); err != nil {
		return nil, err
	}
	return d, nil
}

func environment(dir string, over map[string]plan.Word, fill func(string) string) []string {
	more := []string{string(keeper.RunMark())}
	for name, value := range over {
		more = append(more, name+"="+fill(string(value)))
	}
	return launch.Environment(dir, more...)
}

func (d *driver) Client(int, int) contender.Client {
	return &client{
		d: d, marks: marks.New(d.settings.Marks, "stdout"), steps: marks.NewSteps(d.settings.Lines),
		guard: newGuard(d.clock), long: newLongWatch(d.clock),
	}
}

func (d *driver) Close() error { return nil }

// client runs one process at a time. Its files are opened at the first shot and reused.
type client struct {
	d      *driver
	ready  bool
	seat   *keeper.Seat
	stdin  *os.File // where the plan names none: the null device
	stdout *os.File // the null device, or the file that output goes to
	stderr *os.File // an unnamed file in memory, emptied before every shot
	guard  *guard
	runs   int
	marks  *marks.Reader // nil without marks
	told   shots.Marks
	steps  *marks.Steps // nil where it prints no lines with a time
	long   *longWatch
	// yielded is when it last let others run.
	yielded time.Duration
}

// sweepEvery is how many runs pass between two looks for what they left in sessions of their own.
const sweepEvery = 16

func (c *client) prepare() error {
	if c.ready {
		return nil
	}
	var err error
	if c.seat == nil {
		if c.seat, err = c.d.keeper.Seat(); err != nil {
			return err
		}
	}
	switch c.d.settings.Stdout {
	case "file":
		if c.stdout, err = os.CreateTemp("", "paceduel-output-*"); err == nil {
			err = os.Remove(c.stdout.Name()) // nobody else needs its name
		}
	default:
		c.stdout, err = os.OpenFile(os.DevNull, os.O_WRONLY, 0)
	}
	if err != nil {
		return err
	}
	if c.stderr, err = memoryFile(); err != nil {
		return err
	}
	c.ready = true
	return nil
}

func memoryFile() (*os.File, error) {
	fd, err := unix.MemfdCreate("paceduel-output", unix.MFD_CLOEXEC)
	if err != nil {
		return nil, fmt.Errorf("keep output in memory: %w", err)
	}
	return os.NewFile(uintptr(fd), "output"), nil
}

func (c *client) Rewind() {}

func (c *client) Close() {
	c.guard.close()
	c.long.alarm.close()
	for _, f := range []**os.File{&c.stdin, &c.stdout, &c.stderr} {
		if *f != nil {
			(*f).Close()
			*f = nil
		}
	}
	if c.seat != nil {
		c.seat.Release()
		c.seat = nil
	}
	c.ready = false
}

// Shoot runs the program once. It is long since a run is one sequence, in which nothing may be done that is not needed.
func (c *client) Shoot(ctx context.Context, shot *shots.Shot) {
	fail := func(class shots.Class, err error) {
		shot.Class, shot.Err = class, err
		if shot.End == 0 {
			shot.End = c.d.clock.Now()
		}
	}
	shot.Start = c.d.clock.Now()
	if ctx.Err() != nil {
		fail(shots.Cut, ctx.Err())
		return
	}
	err := c.prepare()
	if err == nil {
		err = c.openInput()
	}
	if err != nil {
		fail(startFailed(err), err)
		return
	}
	out, err := c.output(shot.View)
	if err != nil {
		fail(startFailed(err), err)
		return
	}
	defer out.close(c.stdout)
	// Its place is shared with the processes that wrote to it.
	if said, err := c.stderr.Seek(0, io.SeekCurrent); err != nil || said > 0 {
		c.stderr.Truncate(0)
		c.stderr.Seek(0, io.SeekStart)
	}

	attr := &syscall.ProcAttr{
		Dir: c.d.dir, Env: c.d.env, Files: []uintptr{c.stdin.Fd(), out.file.Fd(), c.stderr.Fd()},
		Sys: &syscall.SysProcAttr{Setpgid: true},
	}
	if out.terminal != nil {
		attr.Files[2] = attr.Files[1]
		attr.Sys = &syscall.SysProcAttr{Setsid: true, Setctty: true, Ctty: 1} // a session is a group of its own
	}
	c.yield()
	begin()
	ended, done := ending{}, false
	if shot.Measure && !c.d.untraceable.Load() {
		// Who creates a process traces it.
		if outside := c.d.place.Do(func() { ended, done = c.traced(ctx, attr, shot) }); outside != nil || !done {
			done = false
			c.d.untraceable.Store(true)
		}
	}
	if !done {
		pid, err := c.start(c.d.place, attr, shot)
		if err != nil {
			end()
			fail(startFailed(err), fmt.Errorf("run %s: %w", c.d.program, err))
			return
		}
		ended = c.await(ctx, pid, shot)
	}
	runtime.KeepAlive(out.file) // its number was handed over, not itself
	end()
	if c.runs++; c.runs%sweepEvery == 1 || shot.View != nil || shot.Measure {
		if left := c.d.sweep(); !ended.killed {
			shot.LeftBehind += left
		}
	}
	out.finish(shot)
	if c.d.settings.Stdin != "" {
		if read, err := c.stdin.Seek(0, io.SeekCurrent); err == nil {
			shot.Sent = read
		}
	}
	if out.terminal != nil {
		c.stderr.Write(out.kept.Bytes()) // its last words are on the terminal
	}
	c.judge(ctx, ended, shot, fail)
	if c.marks != nil && shot.Class == shots.OK {
		c.readMarks(out, shot)
	}
	if c.steps != nil && shot.Class == shots.OK {
		c.readSteps(out, shot)
	}
	if shot.View != nil {
		c.describe(ended, out, shot)
		shot.View.Terminal = out.terminal != nil
		if !shot.View.Sample {
			shot.View.Version = c.version(ctx)
		}
	}
}

// turn is how long a client goes on without letting Go's scheduler have a word.
const turn = 8 * time.Millisecond

// yield lets others run now and then, before a run. From a goroutine that does not for 10 ms the runtime takes the
// processor while it waits for a process to end, and then looks out for others like it every 20 µs: that was a seventh
// of what a short run cost us.
func (c *client) yield() {
	if now := c.d.clock.Now(); now-c.yielded > turn {
		runtime.Gosched()
		c.yielded = now
	}
}

// startFailed is the class of a run that could not begin. A process that may not be created for want of processes says
// that it should be tried again.
func startFailed(err error) shots.Class {
	if contender.IsOwnLimit(err) || errors.Is(err, syscall.EAGAIN) {
		return shots.Limits
	}
	return shots.NoStart
}

// openInput opens standard input anew where a file is named: the workspace may hold another copy since the last run.
func (c *client) openInput() (err error) {
	if c.stdin != nil && c.d.settings.Stdin == "" {
		return nil
	}
	if c.stdin != nil {
		c.stdin.Close()
	}
	c.stdin, err = os.Open(c.d.stdin)
	return err
}

// start creates the process at its place and stamps the shot.
func (c *client) start(at launch.Place, attr *syscall.ProcAttr, shot *shots.Shot) (pid int, err error) {
	return at.Start(func() (int, error) {
		return c.seat.Begin(func() (int, error) {
			shot.Start = c.d.clock.Now()
			// Package os would also open a file for the process, which costs more than the program that does nothing.
			return syscall.ForkExec(c.d.program, c.d.argv, attr)
		})
	})
}

const versionLimit = 5 * time.Second

// version asks the tool for its version, outside any timing. A tool that does not tell it has none.
func (c *client) version(ctx context.Context) string {
	if len(c.d.settings.Version) == 0 {
		return ""
	}
	words := make([]string, len(c.d.settings.Version))
	for i, w := range c.d.settings.Version {
		words[i] = c.d.fill(string(w))
	}
	ctx, cancel := context.WithTimeout(ctx, versionLimit)
	defer cancel()
	told, err := memoryFile() // a file, so that nobody who holds on to it is waited for
	if err != nil {
		return ""
	}
	defer told.Close()
	cmd := exec.CommandContext(ctx, words[0], words[1:]...)
	if found, err := launch.Program(words[0], c.d.folders...); err == nil {
		cmd.Path, cmd.Err = found, nil
	}
	cmd.Dir, cmd.Env, cmd.Stdout, cmd.Stderr = c.d.dir, c.d.env, told, told
	if err := launch.Start(cmd, c.d.place, c.seat); err != nil {
		return ""
	}
	err = cmd.Wait()
	syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) // whatever it left running
	c.seat.Clear()
	if err != nil {
		return ""
	}
	text := headOf(told, shots.MaxViewBytes)
	line, _, _ := strings.Cut(strings.TrimSpace(string(text)), "\n")
	return line
}

// ending is how a process came to its end.
type ending struct {
	status syscall.WaitStatus
	usage  syscall.Rusage // of the process and the children it waited for
	killed bool           // by us, for its time limit or ctx
	err    error
}

// await sees the exit, reaps the leader and then ends what is left of its group.
func (c *client) await(ctx context.Context, pid int, shot *shots.Shot) (e ending) {
	c.guard.over(ctx, pid, shot.Start+c.d.settings.Timeout.D())
	c.long.begin(pid, shot.Start)
	var info unix.Siginfo
	for {
		err := unix.Waitid(unix.P_PID, pid, &info, unix.WEXITED|unix.WNOWAIT, nil)
		if err != unix.EINTR {
			break
		}
	}
	shot.End = c.d.clock.Now()
	shot.Course = c.long.end(shot.Start)
	e.killed = c.guard.gone()
	if !c.d.keeper.Adopts() {
		syscall.Kill(-pid, syscall.SIGKILL) // while the number is still ours
	}
	c.seat.Clear()
	for {
		_, err := syscall.Wait4(pid, &e.status, 0, &e.usage)
		if err == nil {
			break
		}
		if err != syscall.EINTR {
			e.err = err
			return e
		}
	}
	left, usage := keeper.EndGroup(pid)
	keeper.AddUsage(&e.usage, usage)
	if !e.killed {
		shot.LeftBehind += left
	}
	return e
}

func (c *client) judge(ctx context.Context, e ending, shot *shots.Shot, fail func(shots.Class, error)) {
	if e.err != nil {
		fail(shots.Other, fmt.Errorf("wait for %s: %w", c.d.program, e.err))
		return
	}
	status := e.status
	spend(shot, &e.usage)
	switch {
	case e.killed && ctx.Err() != nil:
		fail(shots.Cut, ctx.Err())
	case e.killed:
		fail(shots.Timeout, fmt.Errorf("not done after %s, ended", c.d.settings.Timeout.D()))
	case status.Signaled():
		fail(shots.Signal, fmt.Errorf("ended by signal %s%s", status.Signal(), c.lastWords()))
	case status.ExitStatus() != c.d.settings.Expect:
		fail(shots.Exit, fmt.Errorf("exit code %d, expected %d%s", status.ExitStatus(), c.d.settings.Expect, c.lastWords()))
	}
}

// spend enters what the kernel counted for the processes of a run.
func spend(shot *shots.Shot, used *syscall.Rusage) {
	const block = 512 // the kernel counts in these
	shot.Count(cpu, used.Utime.Nano()+used.Stime.Nano())
	shot.Count(kernel, used.Stime.Nano())
	shot.Count(waits, used.Nvcsw)
	shot.Count(preemptions, used.Nivcsw)
	shot.Count(faults, used.Minflt+used.Majflt)
	shot.Count(reads, used.Inblock*block)
	shot.Count(writes, used.Oublock*block)
}

// readMarks reads what the run printed of itself.
func (c *client) readMarks(out *output, shot *shots.Shot) {
	c.told.Clear()
	c.marks.Begin()
	if c.marks.Reads("stdout") {
		text, _, _ := out.seen(marks.MaxText)
		c.marks.Lines("stdout", text)
	}
	if c.marks.Reads("stderr") {
		if info, err := c.stderr.Stat(); err == nil {
			c.marks.Lines("stderr", headOf(c.stderr, int(min(info.Size(), marks.MaxText))))
		}
	}
	c.marks.Into(&c.told)
	shot.Told = c.told.List()
	if shot.View != nil {
		shot.View.Notes = c.marks.Untold()
	}
}

// readSteps makes spans of the lines with a time that the run printed.
func (c *client) readSteps(out *output, shot *shots.Shot) {
	var text []byte
	if c.d.settings.Lines.From == "stderr" {
		if info, err := c.stderr.Stat(); err == nil {
			text = headOf(c.stderr, int(min(info.Size(), marks.MaxText)))
		}
	} else {
		text, _, _ = out.seen(marks.MaxText)
	}
	// Civil time may have been set since the clock was started.
	zero := time.Now().UnixNano() - int64(c.d.clock.Now()) + int64(shot.Start)
	at := func(m marks.Moment) time.Duration {
		if m.Civil != 0 {
			return time.Duration(m.Civil - zero)
		}
		return m.Since
	}
	stretches, _ := marks.Pair(c.steps.Events(text))
	if len(stretches) > 0 {
		shot.Inside = nil // which may be the run's processes
	}
	for _, s := range stretches {
		shot.Inside = append(shot.Inside, spans.Span{Name: s.Step, Begin: at(s.Begin), End: at(s.End), Parent: spans.None})
	}
	slices.SortStableFunc(shot.Inside, func(a, b spans.Span) int { return cmp.Compare(a.Begin, b.Begin) })
}

// lastWords is the end of what the process said on standard error, up to three lines of it in one.
func (c *client) lastWords() string {
	const longest = 1 << 10
	info, err := c.stderr.Stat()
	if err != nil {
		return ""
	}
	tail := make([]byte, min(info.Size(), longest))
	n, _ := c.stderr.ReadAt(tail, info.Size()-int64(len(tail)))
	var lines []string
	for line := range strings.Lines(strings.ToValidUTF8(string(tail[:n]), "·")) {
		if line = strings.TrimSpace(units.Printable(line)); line != "" {
			lines = append(lines, line)
		}
	}
	if len(lines) == 0 {
		return ""
	}
	return ": " + strings.Join(lines[max(len(lines)-3, 0):], " / ")
}

func headOf(f *os.File, limit int) []byte {
	buf := make([]byte, limit)
	n, _ := f.ReadAt(buf, 0)
	return buf[:n]
}

func (c *client) describe(e ending, out *output, shot *shots.Shot) {
	v := shot.View
	v.Done = c.d.settings.Summary()
	v.Stderr = headOf(c.stderr, shots.MaxViewBytes)
	v.Body, v.Bytes, v.Known = out.seen(v.Room())
	if e.err == nil {
		v.Outcome = "exit code " + strconv.Itoa(e.status.ExitStatus())
		if e.status.Signaled() {
			v.Outcome = "signal " + e.status.Signal().String()
		}
	}
}

var _ contender.Driver = (*driver)(nil)
