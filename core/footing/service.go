package footing

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/keeper"
	"paceduel/core/launch"
	"paceduel/core/marks"
	"paceduel/core/meter"
	"paceduel/core/plan"
	"paceduel/core/result"
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
	said    plan.Service
	clock   *clock.Clock
	cmd     *exec.Cmd
	seat    *keeper.Seat
	mark    keeper.Mark // carried by all its processes
	output  *lastOutput
	read    chan struct{} // closed when its output has ended
	gone    chan struct{} // closed when it has ended and its group with it
	state   *os.ProcessState
	notice  *notice       // nil unless it is to say itself that it is ready
	group   *meter.Group  // nil without limits
	created time.Duration // on the clock
	isReady time.Duration // on the clock; 0 until it was seen
	killed  int64         // of its processes, for memory; set when it is gone
	used    atomic.Int64  // nanoseconds of its group, once it is gone
}

// cpu is the CPU time that a service with limits has used, exactly; nil where that is not known.
func (v *service) cpu() func() time.Duration {
	if v.group == nil {
		return nil
	}
	return func() time.Duration { return max(v.group.CPU(), time.Duration(v.used.Load())) }
}

// look is how often a service is looked at until it is ready.
const look = 500 * time.Microsecond

// begin creates a service's process; it is not ready yet. The setup's port is put into texts; told are variables that
// the plan's own take the place of. It is long since a start
// is one sequence, each part of which undoes the ones before when it fails.
func begin(
	s plan.Service, clk *clock.Clock, dir, planDir string, env []string, setup contender.Setup, cgroups *meter.Hierarchy,
	told []string, beside io.Writer,
) (*service, error) {
	fail := func(why string, err error) (*service, error) {
		return nil, &ServiceError{Does: s.Summary(), Why: why + ": " + err.Error()}
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
		own = setup.Fill(s.Dir)
		if !filepath.IsAbs(own) {
			own = filepath.Join(dir, own)
		}
	}
	program, err := launch.Program(argv[0], setup.Folders(own)...)
	if err != nil {
		return fail("cannot be started", err)
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
	v := &service{
		said: s, clock: clk, cmd: exec.Command(program, argv[1:]...), seat: seat, mark: keeper.NewMark(),
		output: newLastOutput(clk, s.Ready.Line, s.Marks), read: make(chan struct{}), gone: make(chan struct{}),
	}
	v.cmd.Dir, v.cmd.Stdout, v.cmd.Stderr = own, w, w
	env = append(env, "PORT="+setup.Port, string(v.mark))
	if setup.Data != "" {
		env = append(env, "DATA="+setup.Data)
	}
	env = append(env, told...)
	for name, value := range s.Env {
		env = append(env, name+"="+setup.Fill(string(value)))
	}
	quit := func(why string, err error) (*service, error) {
		r.Close()
		w.Close()
		seat.Release()
		if v.notice != nil {
			v.notice.close()
		}
		if v.group != nil {
			v.group.Remove()
		}
		return fail(why, err)
	}
	if s.Ready.Notify {
		if v.notice, err = listenNotice(); err != nil {
			return quit("cannot be listened to", err)
		}
		env = append(env, "NOTIFY_SOCKET="+v.notice.path)
	}
	if s.Limits != nil && cgroups != nil {
		if v.group, err = cgroups.NewGroup(meter.Limits{
			Memory: int64(s.Limits.Memory), CPU: float64(s.Limits.CPU),
		}); err != nil {
			return quit("cannot be held to its limits", err)
		}
	}
	v.cmd.Env = launch.Environment(own, env...)
	var in launch.Enclosure
	if v.group != nil {
		in = v.group
	}
	at := setup.Place().As(setup.As)
	if err = launch.StartIn(v.cmd, at, seat, in, func() { v.created = v.clock.Now() }); err != nil {
		return quit("cannot be started", err)
	}
	w.Close()
	go func() {
		defer close(v.read)
		defer r.Close()
		var to io.Writer = v.output
		if beside != nil {
			to = io.MultiWriter(v.output, beside)
		}
		io.Copy(to, r)
	}()
	go v.await(r)
	return v, nil
}

// lastWords is how long the output of a service that has ended may take to come to its end: a process that left its
// group may hold it open for as long as it likes.
const lastWords = 100 * time.Millisecond

// await sees the service end, and ends what is left of its group while its number is still ours.
func (v *service) await(output *os.File) {
	defer close(v.gone)
	pid := v.cmd.Process.Pid
	var info unix.Siginfo
	for unix.Waitid(unix.P_PID, pid, &info, unix.WEXITED|unix.WNOWAIT, nil) == unix.EINTR {
	}
	syscall.Kill(-pid, syscall.SIGKILL)
	v.seat.Clear()
	v.cmd.Wait()
	keeper.EndGroup(pid) // killed above; what is left of it has fallen to us
	if k, err := keeper.Shared(); err == nil {
		k.EndAllAdopted(v.mark) // what left its group
	}
	v.state = v.cmd.ProcessState
	if v.group != nil {
		v.killed = v.group.Killed()
		v.used.Store(int64(v.group.CPU()))
		v.group.Remove()
	}
	output.SetReadDeadline(time.Now().Add(lastWords))
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
		if v.group != nil && v.killed > 0 {
			how = "was killed for memory: it wanted more than " + v.said.Limits.Words()
		}
		return &ServiceError{v.said.Summary(), how, v.output.tail()}
	default:
		return nil
	}
}

// ready waits until the service is, within its limit.
func (v *service) ready(ctx context.Context, dir string, setup contender.Setup) error {
	if v.notice != nil {
		defer v.notice.close()
	}
	limit := time.NewTimer(v.said.Limit.D())
	defer limit.Stop()
	seen := v.seen(dir, setup)
	tick := time.NewTicker(look)
	defer tick.Stop()
	for {
		select {
		case <-v.output.matched:
		case <-v.noticed():
		case <-tick.C:
			if !seen(ctx) {
				continue
			}
		case <-v.gone:
			return v.died()
		case <-limit.C:
			return &ServiceError{
				v.said.Summary(), fmt.Sprintf("was not ready after %s (%s)", v.said.Limit.D(), v.said.Ready.Words()),
				v.output.tail(),
			}
		case <-ctx.Done():
			return ctx.Err()
		}
		v.isReady = v.clock.Now()
		return nil
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
		client := setup.Guard.Client(time.Second)
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
		ctx, cancel := context.WithTimeout(ctx, time.Second)
		defer cancel()
		conn, err := setup.Guard.DialContext(ctx, "tcp", net.JoinHostPort("127.0.0.1", setup.Port))
		if err == nil {
			conn.Close()
		}
		return err == nil
	}
}

var signals = map[string]syscall.Signal{
	"TERM": syscall.SIGTERM, "INT": syscall.SIGINT, "QUIT": syscall.SIGQUIT, "HUP": syscall.SIGHUP,
	"KILL": syscall.SIGKILL,
}

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

// lastOutput keeps the end of what is written to it, when the first of it came, what it tells of itself at its
// beginning, and tells when a line of it matches.
type lastOutput struct {
	mu      sync.Mutex
	clock   *clock.Clock
	first   time.Duration // 0: nothing yet
	kept    []byte
	line    []byte // begun, not ended
	want    *regexp.Regexp
	matched chan struct{}
	marks   *marks.Reader // nil without marks
	read    int           // bytes in which marks were looked for
}

const (
	maxLine = marks.MaxLine
	// maxMarked is how much of a service's output is searched for marks: what it tells of its start stands at its
	// beginning.
	maxMarked = 64 << 10
)

func newLastOutput(clk *clock.Clock, line string, said plan.Marks) *lastOutput {
	o := &lastOutput{clock: clk, matched: make(chan struct{}), marks: marks.New(said, "line")}
	if line != "" {
		o.want = regexp.MustCompile(line) // the plan was refused if it is none
	}
	if o.marks != nil {
		o.marks.Begin()
	}
	return o
}

// Write implements io.Writer.
func (o *lastOutput) Write(p []byte) (int, error) {
	now := o.clock.Now()
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.first == 0 {
		o.first = now
	}
	o.kept = append(o.kept, p...)
	if over := len(o.kept) - maxSaid; over > 0 {
		o.kept = append(o.kept[:0], o.kept[over:]...)
	}
	for rest := p; (o.want != nil || o.marked()) && len(rest) > 0; {
		var part []byte
		var whole bool
		part, rest, whole = bytes.Cut(rest, []byte{'\n'})
		o.read += len(part)
		if len(o.line) < maxLine {
			o.line = append(o.line, part...)
		}
		if whole {
			o.take()
		}
	}
	return len(p), nil
}

func (o *lastOutput) marked() bool { return o.marks != nil && o.read < maxMarked }

// take looks at a line that has ended.
func (o *lastOutput) take() {
	if o.want != nil && o.want.Match(o.line) {
		o.want = nil
		close(o.matched)
	}
	if o.marked() {
		o.marks.Line("line", bytes.TrimRight(o.line, "\r"))
	}
	o.line = o.line[:0]
}

// told is what it told of itself so far, and when its first output came.
func (o *lastOutput) told() (first time.Duration, list []result.StartMark) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.marks != nil {
		for _, m := range o.marks.List() {
			list = append(list, result.StartMark{Name: m.Name, Unit: m.Unit, Value: m.Value})
		}
	}
	return o.first, list
}

// tail is the end of the output.
func (o *lastOutput) tail() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return strings.TrimSpace(strings.ToValidUTF8(string(o.kept), "·"))
}

// freePort finds a port that nothing listens on just now.
func freePort() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", fmt.Errorf("find a free port for a service: %w", err)
	}
	defer l.Close()
	_, port, err := net.SplitHostPort(l.Addr().String())
	return port, err
}
