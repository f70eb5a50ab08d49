package footing

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"paceduel/core/contender"
	"paceduel/core/keeper"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/units"
)

// ServiceError is a service that did not start, or ended when it should not have.
type ServiceError struct {
	Does string // its command
	Why  string
	Said string // the end of its output
}

func (e *ServiceError) Error() string {
	text := fmt.Sprintf("its service %s %s", e.Does, e.Why)
	if e.Said != "" {
		text += ": " + e.Said
	}
	return text
}

// service is a process under way. Its output is read all the time, so that it never waits for us.
type service struct {
	said   plan.Service
	cmd    *exec.Cmd
	seat   *keeper.Seat
	output *lastOutput
	read   chan struct{} // closed when its output has ended
	gone   chan struct{} // closed when it has ended and its group with it
	state  *os.ProcessState
	notice *notice // nil unless it is to say itself that it is ready
}

// look is how often a service is looked at until it is ready.
const look = 500 * time.Microsecond

// startService starts a service and waits until it is ready. fill puts the port into texts.
func startService(ctx context.Context, s plan.Service, dir, planDir string, env []string, setup contender.Setup) (*service, error) {
	fail := func(why string, err error) (*service, error) {
		return nil, &ServiceError{Does: s.Summary(), Why: why + ": " + cause(err)}
	}
	argv := []string{"/bin/sh", "-c", setup.Fill(s.Shell)}
	if s.Shell == "" {
		argv = argv[:0]
		for _, w := range s.Run {
			argv = append(argv, setup.Fill(string(w)))
		}
	}
	own := dir
	if s.Dir != "" {
		own = s.Dir
		if !filepath.IsAbs(own) {
			own = filepath.Join(dir, own)
		}
	}
	program := argv[0]
	if strings.Contains(program, "/") && !filepath.IsAbs(program) {
		if _, err := os.Stat(filepath.Join(own, program)); err != nil && planDir != "" {
			program = filepath.Join(planDir, program)
		} else {
			program = filepath.Join(own, program)
		}
		if abs, err := filepath.Abs(program); err == nil {
			program = abs
		}
	}
	k, err := keeper.Shared()
	if err != nil {
		return fail("cannot be kept", err)
	}
	seat, err := k.Seat()
	if err != nil {
		return fail("cannot be kept", err)
	}
	r, w, err := os.Pipe()
	if err != nil {
		seat.Release()
		return fail("cannot be listened to", err)
	}
	v := &service{said: s, cmd: exec.Command(program, argv[1:]...), seat: seat, output: newLastOutput(s.Ready.Line), read: make(chan struct{}), gone: make(chan struct{})}
	v.cmd.Dir, v.cmd.Stdout, v.cmd.Stderr = own, w, w
	v.cmd.Env = append(env, "PORT="+setup.Port)
	for name, value := range s.Env {
		v.cmd.Env = append(v.cmd.Env, name+"="+setup.Fill(string(value)))
	}
	if s.Ready.Notify {
		if v.notice, err = listenNotice(); err != nil {
			r.Close()
			w.Close()
			seat.Release()
			return fail("cannot be listened to", err)
		}
		defer v.notice.close()
		v.cmd.Env = append(v.cmd.Env, "NOTIFY_SOCKET="+v.notice.path)
	}
	v.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	err = startOn(v.cmd, usable(setup.CPUs), setup.Nice)
	w.Close()
	if err != nil {
		r.Close()
		seat.Release()
		return fail("cannot be started", err)
	}
	seat.Hold(v.cmd.Process.Pid)
	go func() {
		defer close(v.read)
		defer r.Close()
		io.Copy(v.output, r)
	}()
	go v.await()
	if err := v.ready(ctx, own, setup); err != nil {
		v.stop()
		return nil, err
	}
	return v, nil
}

// startOn starts a process on some processors only, with a niceness.
func startOn(cmd *exec.Cmd, cpus plan.CPUs, nice int) error {
	if len(cpus) > 0 {
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		var ours unix.CPUSet
		set := SetOf(cpus)
		if err := unix.SchedGetaffinity(0, &ours); err != nil {
			return err
		}
		if err := unix.SchedSetaffinity(0, &set); err != nil {
			return err
		}
		defer unix.SchedSetaffinity(0, &ours)
	}
	err := cmd.Start()
	if err == nil && nice != 0 {
		unix.Setpriority(unix.PRIO_PROCESS, cmd.Process.Pid, nice) // what is not allowed was said before the run
	}
	return err
}

// await sees the service end, and ends what is left of its group while its number is still ours.
func (v *service) await() {
	defer close(v.gone)
	pid := v.cmd.Process.Pid
	var info unix.Siginfo
	for unix.Waitid(unix.P_PID, pid, &info, unix.WEXITED|unix.WNOWAIT, nil) == unix.EINTR {
	}
	syscall.Kill(-pid, syscall.SIGKILL)
	v.seat.Clear()
	v.cmd.Wait()
	keeper.EndGroup(pid) // killed above; what is left of it has fallen to us
	v.state = v.cmd.ProcessState
	<-v.read
}

// died is why a service that should be there is not; nil while it is.
func (v *service) died() error {
	select {
	case <-v.gone:
		how := "ended"
		if v.state != nil {
			how = "ended (" + strings.Replace(v.state.String(), "exit status", "exit code", 1) + ")"
		}
		return &ServiceError{v.said.Summary(), how, v.output.tail()}
	default:
		return nil
	}
}

// ready waits until the service is, within its limit.
func (v *service) ready(ctx context.Context, dir string, setup contender.Setup) error {
	limit := time.NewTimer(v.said.Limit.D())
	defer limit.Stop()
	seen := v.seen(dir, setup)
	tick := time.NewTicker(look)
	defer tick.Stop()
	for {
		select {
		case <-v.output.matched:
			return nil
		case <-v.noticed():
			return nil
		case <-tick.C:
			if seen(ctx) {
				return nil
			}
		case <-v.gone:
			return v.died()
		case <-limit.C:
			return &ServiceError{v.said.Summary(), fmt.Sprintf("was not ready after %s (%s)", v.said.Limit.D(), v.said.Ready.Words()), v.output.tail()}
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// seen returns what looks once whether the service is ready.
func (v *service) seen(dir string, setup contender.Setup) func(context.Context) bool {
	how := v.said.Ready
	switch {
	case how.Line != "", how.Notify:
		return func(context.Context) bool { return false } // it tells
	case how.File != "":
		path := setup.Fill(how.File)
		if !filepath.IsAbs(path) {
			path = filepath.Join(dir, path)
		}
		return func(context.Context) bool { _, err := os.Stat(path); return err == nil }
	case how.URL != "":
		client := &http.Client{Timeout: time.Second, Transport: &http.Transport{DisableKeepAlives: true, Proxy: nil}}
		address := setup.Fill(how.URL)
		return func(ctx context.Context) bool {
			request, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
			if err != nil {
				return false
			}
			answer, err := client.Do(request)
			if err != nil {
				return false
			}
			answer.Body.Close()
			return answer.StatusCode == how.Status || how.Status == 0 && answer.StatusCode/100 == 2
		}
	}
	return func(ctx context.Context) bool {
		conn, err := (&net.Dialer{Timeout: time.Second}).DialContext(ctx, "tcp", net.JoinHostPort("127.0.0.1", setup.Port))
		if err == nil {
			conn.Close()
		}
		return err == nil
	}
}

var signals = map[string]syscall.Signal{"TERM": syscall.SIGTERM, "INT": syscall.SIGINT, "QUIT": syscall.SIGQUIT, "HUP": syscall.SIGHUP, "KILL": syscall.SIGKILL}

// stop asks the service to end, waits for as long as it is given, and kills its group.
func (v *service) stop() (how string) {
	defer v.seat.Release()
	pid := v.cmd.Process.Pid
	select {
	case <-v.gone:
		return "had ended"
	default:
	}
	syscall.Kill(-pid, signals[v.said.Stop.Signal])
	grace := time.NewTimer(v.said.Stop.Grace.D())
	defer grace.Stop()
	select {
	case <-v.gone:
		return "ended at " + v.said.Stop.Signal
	case <-grace.C:
	}
	syscall.Kill(-pid, syscall.SIGKILL)
	<-v.gone
	return "killed after " + v.said.Stop.Grace.D().String()
}

// lastOutput keeps the end of what is written to it, and tells when a line of it matches.
type lastOutput struct {
	mu      sync.Mutex
	kept    []byte
	line    []byte // begun, not ended
	want    *regexp.Regexp
	matched chan struct{}
}

const maxLine = 64 << 10

func newLastOutput(line string) *lastOutput {
	o := &lastOutput{matched: make(chan struct{})}
	if line != "" {
		o.want = regexp.MustCompile(line) // the plan was refused if it is none
	}
	return o
}

// Write implements io.Writer.
func (o *lastOutput) Write(p []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.kept = append(o.kept, p...)
	if over := len(o.kept) - maxSaid; over > 0 {
		o.kept = append(o.kept[:0], o.kept[over:]...)
	}
	for rest := p; o.want != nil && len(rest) > 0; {
		var part []byte
		var whole bool
		part, rest, whole = bytes.Cut(rest, []byte{'\n'})
		if len(o.line) < maxLine {
			o.line = append(o.line, part...)
		}
		if whole {
			if o.want.Match(o.line) {
				o.want = nil
				close(o.matched)
			}
			o.line = o.line[:0]
		}
	}
	return len(p), nil
}

// tail is the end of the output.
func (o *lastOutput) tail() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return strings.TrimSpace(strings.ToValidUTF8(string(o.kept), "·"))
}

// freePort finds a port that nobody listens on just now.
func freePort() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", fmt.Errorf("find a free port for a service: %w", err)
	}
	defer l.Close()
	_, port, err := net.SplitHostPort(l.Addr().String())
	return port, err
}

// Port is the port of the contender's service; empty without one.
func (g *Ground) Port() string { return g.port }

// ServicePID is the process of the contender's service while there is one that lasts for the heat; else 0.
func (g *Ground) ServicePID() int {
	if g.service == nil {
		return 0
	}
	return g.service.cmd.Process.Pid
}

// serve starts the contender's service when it is to be fresh at this level and is not there.
func (g *Ground) serve(ctx context.Context, level string) error {
	s := g.said.Service
	if s == nil || s.Fresh != level || g.service != nil {
		return nil
	}
	setup := contender.Setup{Port: g.port, CPUs: g.said.CPUs, Nice: g.said.Nice}
	return g.cost(result.Cost{When: level, Start: true, What: "start " + g.f.plan.Mask(s.Summary())}, func() (string, error) {
		began := g.f.clock.Now()
		v, err := startService(ctx, *s, g.dir, g.f.plan.Dir, g.f.environment(g.name, g.state, g.round, g.dir), setup)
		if err != nil {
			var own *ServiceError
			if errors.As(err, &own) {
				err = &ServiceError{g.f.plan.Mask(own.Does), g.f.plan.Mask(own.Why), g.f.plan.Mask(own.Said)}
			}
			return "", err
		}
		g.service = v
		return "ready in " + units.Duration(g.f.clock.Now()-began) + ": " + s.Ready.Words(), nil
	})
}

// dismiss stops the service when it was fresh at this level.
func (g *Ground) dismiss(level string) {
	s := g.said.Service
	if g.service == nil || s.Fresh != level {
		return
	}
	g.cost(result.Cost{When: "after " + level, What: "stop " + g.f.plan.Mask(s.Summary())}, func() (string, error) { return g.service.stop(), nil })
	g.service = nil
}

// Watched is ctx, ended also when the contender's service dies. release gives back what that took, and why the service
// died, if it did.
func (g *Ground) Watched(ctx context.Context) (watched context.Context, release func() error) {
	v := g.service
	if v == nil {
		return ctx, func() error { return nil }
	}
	watched, cancel := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		select {
		case <-v.gone:
			cancel()
		case <-watched.Done():
		}
	}()
	return watched, func() error {
		cancel()
		<-done
		return v.died()
	}
}
