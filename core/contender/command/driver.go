package command

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/keeper"
	"paceduel/core/plan"
)

// Kind is this kind's registration.
var Kind = contender.Kind{
	Kind: plan.Kind{Name: "command", Doc: "an external program, run again and again", New: New},
	Open: func(s contender.Setup, settings plan.Settings) (contender.Driver, error) {
		return open(s, settings.(*Settings))
	},
	MetersCPU: true,
}

// driver holds what all clients of a contender share; it is not modified after open.
type driver struct {
	settings *Settings
	clock    *clock.Clock
	program  string
	argv     []string
	dir      string
	stdin    string
	env      []string
	keeper   *keeper.Keeper
}

func open(setup contender.Setup, s *Settings) (*driver, error) {
	d := &driver{settings: s, clock: setup.Clock, dir: resolve(setup.Dir, s.Dir), stdin: os.DevNull}
	if s.Stdin != "" {
		d.stdin = resolve(setup.Dir, s.Stdin)
	}
	d.argv = []string{"/bin/sh", "-c", s.Shell}
	if s.Shell == "" {
		d.argv = d.argv[:0]
		for _, w := range s.Run {
			d.argv = append(d.argv, string(w))
		}
	}
	program, err := find(d.argv[0], d.dir)
	if err != nil {
		return nil, err
	}
	d.program = program
	d.env = environment(s.Env)
	if d.keeper, err = keeper.Shared(); err != nil {
		return nil, err
	}
	return d, nil
}

// find resolves a program once, since a look-up that fails costs a shot more than the program does.
func find(name, dir string) (string, error) {
	if strings.Contains(name, "/") {
		path := resolve(dir, name)
		if _, err := exec.LookPath(path); err != nil {
			return "", fmt.Errorf("run %s: %w", path, errors.Unwrap(err))
		}
		return filepath.Abs(path)
	}
	path, err := exec.LookPath(name)
	if err != nil {
		try := "install it, or name it with its folder"
		if near := plan.Nearest(name, programs()); near != "" {
			try = fmt.Sprintf("did you mean %s?", near)
		}
		return "", fmt.Errorf("run %s: no such program on PATH; %s", name, try)
	}
	return path, nil
}

// programs lists what can be run by name.
func programs() (names []string) {
	for _, dir := range filepath.SplitList(os.Getenv("PATH")) {
		entries, err := os.ReadDir(dir)
		if err != nil {
			continue // PATH may name folders that are not there
		}
		for _, e := range entries {
			if !e.IsDir() {
				names = append(names, e.Name())
			}
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

func environment(over map[string]plan.Word) []string {
	env := os.Environ()
	for name, value := range over {
		prefix := name + "="
		env = slices.DeleteFunc(env, func(e string) bool { return strings.HasPrefix(e, prefix) })
		env = append(env, prefix+string(value))
	}
	slices.Sort(env)
	return env
}

func (d *driver) Client(int, int) contender.Client { return &client{d: d} }

func (d *driver) Close() error { return nil }

// client runs one process at a time. Its files are opened at the first shot and reused.
type client struct {
	d      *driver
	ready  bool
	seat   *keeper.Seat
	stdin  *os.File
	stdout *os.File // the null device
	stderr *os.File // an unnamed file in memory, emptied before every shot
}

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
	if c.stdin, err = os.Open(c.d.stdin); err != nil {
		return err
	}
	if c.stdout, err = os.OpenFile(os.DevNull, os.O_WRONLY, 0); err != nil {
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

// Shoot runs the program once.
func (c *client) Shoot(ctx context.Context, shot *contender.Shot) {
	fail := func(class contender.Class, err error) {
		shot.Class, shot.Err = class, err
		if shot.End == 0 {
			shot.End = c.d.clock.Now()
		}
	}
	shot.Start = c.d.clock.Now()
	if ctx.Err() != nil {
		fail(contender.Cut, ctx.Err())
		return
	}
	if err := c.prepare(); err != nil {
		fail(contender.NoStart, err)
		return
	}
	out, err := c.output(shot.View)
	if err != nil {
		fail(contender.NoStart, err)
		return
	}
	defer out.close()
	c.stdin.Seek(0, io.SeekStart)
	c.stderr.Truncate(0)
	c.stderr.Seek(0, io.SeekStart)

	attr := &os.ProcAttr{
		Dir: c.d.dir, Env: c.d.env, Files: []*os.File{c.stdin, out.file, c.stderr},
		Sys: &syscall.SysProcAttr{Setpgid: true},
	}
	shot.Start = c.d.clock.Now()
	p, err := os.StartProcess(c.d.program, c.d.argv, attr)
	if err != nil {
		fail(contender.NoStart, fmt.Errorf("run %s: %w", c.d.program, err))
		return
	}
	c.seat.Hold(p.Pid)
	ended := c.await(ctx, p, shot)
	out.finish(shot)
	if c.d.settings.Stdin != "" {
		if read, err := c.stdin.Seek(0, io.SeekCurrent); err == nil {
			shot.Sent = read
		}
	}
	c.judge(ctx, ended, shot, fail)
	if shot.View != nil {
		c.describe(ended.state, out, shot)
		shot.View.Version = c.version(ctx)
	}
}

const versionLimit = 5 * time.Second

// version asks the tool for its version, outside any timing. A tool that does not tell it has none.
func (c *client) version(ctx context.Context) string {
	if len(c.d.settings.Version) == 0 {
		return ""
	}
	words := make([]string, len(c.d.settings.Version))
	for i, w := range c.d.settings.Version {
		words[i] = string(w)
	}
	ctx, cancel := context.WithTimeout(ctx, versionLimit)
	defer cancel()
	told, err := memoryFile() // a file, so that nobody who holds on to it is waited for
	if err != nil {
		return ""
	}
	defer told.Close()
	cmd := exec.CommandContext(ctx, words[0], words[1:]...)
	cmd.Dir, cmd.Env, cmd.Stdout, cmd.Stderr = c.d.dir, c.d.env, told, told
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	end := func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.Cancel = end
	if err := cmd.Start(); err != nil {
		return ""
	}
	c.seat.Hold(cmd.Process.Pid)
	err = cmd.Wait()
	end() // whatever it left running
	c.seat.Clear()
	if err != nil {
		return ""
	}
	text := head(told, contender.MaxViewBytes)
	line, _, _ := strings.Cut(strings.TrimSpace(string(text)), "\n")
	return line
}

// ending is how a process came to its end.
type ending struct {
	state  *os.ProcessState
	killed bool // by us, for its time limit or ctx
	err    error
}

// await sees the exit, ends what is left of the group while its number is still ours, and only then reaps the leader.
func (c *client) await(ctx context.Context, p *os.Process, shot *contender.Shot) ending {
	var mu sync.Mutex
	killed, gone := false, false
	kill := func() {
		mu.Lock()
		defer mu.Unlock()
		if gone {
			return // the number may be someone else's by now
		}
		killed = true
		syscall.Kill(-p.Pid, syscall.SIGKILL)
	}
	limit := time.AfterFunc(c.d.settings.Timeout.D(), kill)
	stop := context.AfterFunc(ctx, kill)

	var info unix.Siginfo
	for {
		err := unix.Waitid(unix.P_PID, p.Pid, &info, unix.WEXITED|unix.WNOWAIT, nil)
		if err != unix.EINTR {
			break
		}
	}
	shot.End = c.d.clock.Now()
	limit.Stop()
	stop()
	mu.Lock()
	gone = true
	mu.Unlock()
	syscall.Kill(-p.Pid, syscall.SIGKILL)
	c.seat.Clear()
	state, err := p.Wait()
	return ending{state, killed, err}
}

func (c *client) judge(ctx context.Context, e ending, shot *contender.Shot, fail func(contender.Class, error)) {
	if e.err != nil {
		fail(contender.Other, fmt.Errorf("wait for %s: %w", c.d.program, e.err))
		return
	}
	shot.CPU = e.state.UserTime() + e.state.SystemTime()
	status := e.state.Sys().(syscall.WaitStatus)
	switch {
	case e.killed && ctx.Err() != nil:
		fail(contender.Cut, ctx.Err())
	case e.killed:
		fail(contender.Timeout, fmt.Errorf("not done after %s, ended", c.d.settings.Timeout.D()))
	case status.Signaled():
		fail(contender.Signal, fmt.Errorf("ended by signal %s%s", status.Signal(), c.lastWords()))
	case status.ExitStatus() != c.d.settings.Expect:
		fail(contender.Exit, fmt.Errorf("exit code %d, expected %d%s", status.ExitStatus(), c.d.settings.Expect, c.lastWords()))
	}
}

// lastWords is the end of what the process said on standard error.
func (c *client) lastWords() string {
	text := strings.TrimSpace(string(head(c.stderr, 4<<10)))
	if text == "" {
		return ""
	}
	if lines := strings.Split(text, "\n"); len(lines) > 3 {
		text = strings.Join(lines[len(lines)-3:], "\n")
	}
	return ": " + text
}

func head(f *os.File, limit int) []byte {
	buf := make([]byte, limit)
	n, _ := f.ReadAt(buf, 0)
	return buf[:n]
}

func (c *client) describe(state *os.ProcessState, out *output, shot *contender.Shot) {
	v := shot.View
	v.Done = c.d.settings.Summary()
	v.Stderr = head(c.stderr, contender.MaxViewBytes)
	v.Body, v.Bytes = out.seen(v.Room())
	if state != nil {
		v.Outcome = "exit code " + strconv.Itoa(state.ExitCode())
		if status, ok := state.Sys().(syscall.WaitStatus); ok && status.Signaled() {
			v.Outcome = "signal " + status.Signal().String()
		}
	}
}

// output is where a process's standard output goes, and what is known of it afterwards.
type output struct {
	file    *os.File
	memory  *os.File // when kept in view
	reader  *os.File // when read through a pipe
	drained chan struct{}
	count   int64
	kept    bytes.Buffer
}

func (c *client) output(view *contender.View) (*output, error) {
	if c.d.settings.Stdout == "pipe" {
		r, w, err := os.Pipe()
		if err != nil {
			return nil, fmt.Errorf("open a pipe for output: %w", err)
		}
		o := &output{file: w, reader: r, drained: make(chan struct{})}
		go o.drain(view)
		return o, nil
	}
	if view != nil {
		m, err := memoryFile()
		return &output{file: m, memory: m}, err
	}
	return &output{file: c.stdout}, nil
}

func (o *output) drain(view *contender.View) {
	defer close(o.drained)
	buf := make([]byte, 64<<10)
	for {
		n, err := o.reader.Read(buf)
		o.count += int64(n)
		if view != nil {
			o.kept.Write(buf[:min(n, view.Room()-o.kept.Len())])
		}
		if err != nil {
			return
		}
	}
}

// finish waits for the last bytes. The whole group is gone by now, so nobody holds the pipe's other end, unless a
// process left its group; the deadline is for that one.
func (o *output) finish(shot *contender.Shot) {
	if o.reader != nil {
		o.file.Close()
		o.reader.SetReadDeadline(time.Now().Add(100 * time.Millisecond))
		<-o.drained
		shot.Received = o.count
	}
	if o.memory != nil {
		if info, err := o.memory.Stat(); err == nil {
			shot.Received = info.Size()
		}
	}
}

func (o *output) seen(room int) ([]byte, int64) {
	if o.memory != nil {
		info, err := o.memory.Stat()
		if err != nil {
			return nil, 0
		}
		return head(o.memory, int(min(int64(room), info.Size()))), info.Size()
	}
	return o.kept.Bytes(), o.count
}

func (o *output) close() {
	if o.reader != nil {
		o.file.Close()
		<-o.drained
		o.reader.Close()
	}
	if o.memory != nil {
		o.memory.Close()
	}
}

var _ contender.Driver = (*driver)(nil)
