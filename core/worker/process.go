package worker

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"paceduel/core/keeper"
	"paceduel/core/launch"
)

// Process is a worker that was started, with the conversation with it.
type Process struct {
	*Session
	Created time.Time // its process
	Greeted time.Time // when its hello had come
	cmd     *exec.Cmd
	seat    *keeper.Seat
	said    *tail
	gone    chan struct{} // closed when it has ended, and its group with it
	folder  string        // of the socket
	pings   net.Conn      // over which it sends back what it is sent; nil where that is not wanted
	forget  func()        // has the keeper forget the folder
}

// Launch says how a worker is started.
type Launch struct {
	Run     []string // program and arguments
	Dir     string   // where it stands
	Folders []string // where the program is looked for, in this order; none: where it stands
	Env     []string // its whole environment, but for what we add
	Place   launch.Place
	In      launch.Enclosure // nil: none
	Stdout  *os.File         // nil: the end of it is kept with that of its standard error
	Pings   bool             // it is to answer pings beside its functions
}

// Program is where the program lies.
func (l *Launch) Program() (string, error) {
	if len(l.Run) == 0 {
		return "", errors.New("there is nothing to run")
	}
	if len(l.Folders) == 0 {
		return launch.Program(l.Run[0], l.Dir)
	}
	return launch.Program(l.Run[0], l.Folders...)
}

// Start starts a worker, waits for it to connect and takes its hello. What it prints is kept at its end only. The
// caller ends it with End or Kill, also after an interrupt.
func Start(ctx context.Context, how Launch) (p *Process, err error) {
	program, err := how.Program()
	if err != nil {
		return nil, fmt.Errorf("start the worker: %w", err)
	}
	run := how.Run
	k, err := keeper.Shared()
	if err != nil {
		return nil, fmt.Errorf("start the worker: %w", err)
	}
	folder, err := os.MkdirTemp("", "paceduel-worker-")
	if err != nil {
		return nil, fmt.Errorf("start the worker: %w", err)
	}
	forget := k.RemoveAfter(folder)
	defer func() {
		if err != nil {
			os.RemoveAll(folder)
			forget()
		}
	}()
	listener, err := (&net.ListenConfig{}).Listen(ctx, "unix", filepath.Join(folder, "line"))
	if err != nil {
		return nil, fmt.Errorf("start the worker: %w", err)
	}
	defer listener.Close()
	p = &Process{said: &tail{}, gone: make(chan struct{}), folder: folder, forget: forget}
	if p.seat, err = k.Seat(); err != nil {
		return nil, fmt.Errorf("start the worker: %w", err)
	}
	p.cmd = exec.Command(program, run[1:]...)
	p.cmd.Dir, p.cmd.Stdout, p.cmd.Stderr = how.Dir, p.said, p.said
	if how.Stdout != nil {
		p.cmd.Stdout = how.Stdout
	}
	p.cmd.Env = append(slices.Clone(how.Env), Variable+"=unix:"+listener.Addr().String(), string(keeper.NewMark()))
	var second net.Listener
	if how.Pings {
		second, err = (&net.ListenConfig{}).Listen(ctx, "unix", filepath.Join(folder, "pings"))
		if err != nil {
			return nil, fmt.Errorf("start the worker: %w", err)
		}
		defer second.Close()
		p.cmd.Env = append(p.cmd.Env, PingVariable+"=unix:"+second.Addr().String())
	}
	p.cmd.WaitDelay = time.Second // what it started may hold its output open
	created := func() { p.Created = time.Now() }
	if err = launch.StartIn(p.cmd, how.Place, p.seat, how.In, created); err != nil {
		p.seat.Release()
		return nil, fmt.Errorf("start the worker %s: %w", strings.Join(run, " "), err)
	}
	go p.await()
	if p.Session, err = p.greet(ctx, listener); err == nil && how.Pings {
		err = p.heedPings(second.(*net.UnixListener))
	}
	if err != nil {
		p.End()
		if text := p.Said(); text != "" {
			err = fmt.Errorf("%w; it printed: %s", err, text)
		}
		return nil, fmt.Errorf("the worker %s: %w", strings.Join(run, " "), err)
	}
	p.Greeted = time.Now()
	return p, nil
}

// heedPings takes the line for pings, which a worker opens before it says hello.
func (p *Process) heedPings(listener *net.UnixListener) (err error) {
	const already = 100 * time.Millisecond
	listener.SetDeadline(time.Now().Add(already))
	if p.pings, err = listener.Accept(); err != nil {
		return fmt.Errorf("it answers no pings: it did not connect to $%s before its hello", PingVariable)
	}
	return nil
}

// Pings is the line over which it sends back whatever it is sent, beside its functions; nil unless it was to be. It is
// closed with the process.
func (p *Process) Pings() net.Conn { return p.pings }

// greet waits for the worker to connect, for as long as it is there.
func (p *Process) greet(ctx context.Context, listener net.Listener) (*Session, error) {
	limit, cancel := context.WithTimeout(ctx, HelloLimit)
	defer cancel()
	stop := context.AfterFunc(limit, func() { listener.Close() })
	defer stop()
	go func() {
		select {
		case <-p.gone:
			cancel()
		case <-limit.Done():
		}
	}()
	conn, err := listener.Accept()
	switch {
	case err == nil:
		s, err := Greet(ctx, conn)
		if errors.Is(err, errNoHello) && p.endsWithin(leaving) {
			err = fmt.Errorf("it ended with %s without a hello", p.cmd.ProcessState)
		}
		return s, err
	case ctx.Err() != nil:
		return nil, ctx.Err()
	}
	select {
	case <-p.gone:
		return nil, fmt.Errorf("it ended with %s before it connected to $%s", p.cmd.ProcessState, Variable)
	default:
		return nil, fmt.Errorf("it has not connected to $%s within %s", Variable, HelloLimit)
	}
}

// await sees the worker end, and ends what is left of its group while its number is still ours.
func (p *Process) await() {
	defer close(p.gone)
	pid := p.cmd.Process.Pid
	var info unix.Siginfo
	for unix.Waitid(unix.P_PID, pid, &info, unix.WEXITED|unix.WNOWAIT, nil) == unix.EINTR {
	}
	syscall.Kill(-pid, syscall.SIGKILL)
	p.seat.Clear()
	p.cmd.Wait()
}

// End asks the worker to end and waits for it; one that does not is killed. It reports whether it ended by itself.
func (p *Process) End() (byItself bool) {
	limit := time.Duration(0)
	if p.Session != nil {
		p.Session.Stop()
		limit = StopLimit
	}
	if byItself = p.endsWithin(limit); !byItself {
		p.kill()
	}
	p.release()
	return byItself
}

// leaving is how long a process may take to be gone once its connection has broken: the system closes what it had open
// before it frees its memory, which takes a while where there is much.
const leaving = 2 * time.Second

// Kill ends a worker that cannot be asked any more. gone says that it ended by itself, and state how it ended.
func (p *Process) Kill() (state string, gone bool) {
	limit := time.Duration(0)
	if p.Session != nil && p.conn.broken {
		limit = leaving
	}
	if gone = p.endsWithin(limit); !gone {
		p.kill()
	}
	if p.Session != nil {
		p.Close()
	}
	p.release()
	return p.cmd.ProcessState.String(), gone
}

func (p *Process) kill() {
	syscall.Kill(-p.cmd.Process.Pid, syscall.SIGKILL)
	<-p.gone
}

func (p *Process) release() {
	if p.pings != nil {
		p.pings.Close()
	}
	p.seat.Release()
	os.RemoveAll(p.folder)
	p.forget()
}

func (p *Process) endsWithin(d time.Duration) bool {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-p.gone:
		return true
	case <-timer.C:
		return false
	}
}

// PID is the worker's process.
func (p *Process) PID() int { return p.cmd.Process.Pid }

// Said is the end of what the worker printed.
func (p *Process) Said() string { return p.said.text() }

// tail keeps the end of what is written to it.
type tail struct {
	mu  sync.Mutex
	end []byte
}

// maxTail is how much of it, in bytes.
const maxTail = 2000

func (t *tail) Write(b []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.end = append(t.end, b...)
	if over := len(t.end) - maxTail; over > 0 {
		t.end = t.end[over:]
	}
	return len(b), nil
}

func (t *tail) text() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return string(bytes.TrimSpace(t.end))
}
