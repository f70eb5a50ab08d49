// Package lean asks over HTTP/1.1 with little effort: requests are bytes that were written once, answers are parsed
// where they lie, and nothing is allocated for a shot.
//
// It is strict about lengths: an answer that contradicts itself is a failure. It follows no redirect, keeps no cookie
// and decodes nothing. What it does not speak (HTTP/2) is left to package http's other path; one conformance suite
// holds for both.
//
// A Crew performs all shots of a heat in clear from one thread. A Client blocks on one connection, which may be TLS.
//
// The crew's thread waits in epoll_pwait2 with a timer slack of a nanosecond and calls the kernel without telling Go's
// scheduler, since its calls cannot block for longer than a few milliseconds: telling costs more than most of them
// take. Where others of this process need the processor that it waits on, it does tell.
package lean

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"runtime"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/guard"
	"paceduel/core/shares"
	"paceduel/core/shots"
)

// Request is one request as it goes over the wire.
type Request struct {
	Wire   []byte
	IsHead bool // its answer has no body
	// What is set of these stands in place of what the Config has for all.
	Status  func(status int, reason string) error
	Timeout time.Duration
	MaxBody int64
}

// Config is what a crew is made with; it is not modified afterwards.
type Config struct {
	Clock     *clock.Clock
	Addresses []guard.Address // of the server, tried in turn
	Host      string          // as people call it, for messages
	Requests  []Request       // at least one; asked in turn
	Timeout   time.Duration
	MaxBody   int64
	Keep      bool // connections are kept from shot to shot
	// Beside says that clients of the same heat have crews of their own, so that one that waits lets the others run.
	Beside bool
	// Status says what is wrong with a status; nil is good.
	Status func(status int, reason string) error
	// Sample, when set, may give a shot another request than that of its row.
	Sample func(row int, shot *shots.Shot) *Request
	// Pick, when set, says what is asked next, in place of Requests in turn.
	Pick func() *Request
}

// status says what is wrong with the status of an answer.
func (c *Config) status(r *Request, status int, reason string) error {
	if r.Status != nil {
		return r.Status(status, reason)
	}
	return c.Status(status, reason)
}

func (c *Config) timeout(r *Request) time.Duration { return cmp.Or(r.Timeout, c.Timeout) }
func (c *Config) maxBody(r *Request) int64         { return cmp.Or(r.MaxBody, c.MaxBody) }

// Crew drives the connections of one heat. It belongs to one goroutine.
type Crew struct {
	cfg    *Config
	epoll  int
	conns  []conn
	free   []int   // connections without a shot
	later  waiters // connections whose clients wait before their next
	active int
	buf    []byte
	events []unix.EpollEvent
	// of an open model: the row that its shots start from, and how many have been begun since
	from, begun int
	part        shares.Part // of a whole that others perform the rest of
	all         int         // clients of that whole
	processors  int         // that the runtime may use
	swept       time.Duration
	seen        time.Duration // the latest reading of the clock: when bytes came, or nothing did
	job         *contender.Job
	more        bool
}

// conn is one connection, open or not.
type conn struct {
	fd     int // -1: none
	index  int
	phase  phase
	asked  *Request
	out    []byte // still to be sent
	answer answer
	shot   shots.Shot
	times  Times // of the shot
	row    int
	addr   int           // which address was tried
	began  time.Duration // of connecting
	first  bool          // no byte of the answer has come
	last   time.Duration // when bytes came over it
	lost   bool          // the server closed it between shots
	watch  uint32        // what epoll tells of it
}

type phase uint8

const (
	idle phase = iota
	connecting
	asking // sending or awaiting the answer
)

// New makes a crew of n connections, none of which is opened before its first shot.
func New(cfg *Config, n int) (*Crew, error) {
	epoll, err := unix.EpollCreate1(unix.EPOLL_CLOEXEC)
	if err != nil {
		return nil, fmt.Errorf("watch connections: %w", err)
	}
	c := &Crew{
		cfg: cfg, epoll: epoll, conns: make([]conn, n), all: n, buf: make([]byte, 128<<10),
		events: make([]unix.EpollEvent, min(max(n, 1), 256)),
	}
	for i := range c.conns {
		c.conns[i].fd, c.conns[i].index = -1, i
	}
	c.Rewind()
	return c, nil
}

// Rewind makes every connection use the first of its requests again.
func (c *Crew) Rewind() {
	c.StartAt(0)
	for i := range c.conns {
		c.conns[i].row = c.part.Number(i) % len(c.cfg.Requests)
	}
}

// StartAt makes the next request of an open model the one of that row.
func (c *Crew) StartAt(row int) { c.from, c.begun = row, 0 }

// Deal implements contender.Dealt.
func (c *Crew) Deal(of shares.Part, all int) {
	c.part, c.all = of, all
	c.Rewind()
}

// Close closes every connection; it may be called twice.
func (c *Crew) Close() {
	for i := range c.conns {
		c.hangUp(&c.conns[i])
	}
	if c.epoll >= 0 {
		unix.Close(c.epoll)
		c.epoll = -1
	}
}

// Bounds of one wait, so that an interrupt and timeouts are seen.
const (
	longestWait = 5 * time.Millisecond
	burst       = 1024 // shots begun without looking at those under way
	sweepEvery  = 10 * time.Millisecond
)

// Drive performs shots until the job has no more and every one under way has ended. When ctx ends, those under way are
// cut; the error is ctx's.
func (c *Crew) Drive(ctx context.Context, job *contender.Job) error {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	unix.Prctl(unix.PR_SET_TIMERSLACK, 1, 0, 0, 0)
	defer unix.Prctl(unix.PR_SET_TIMERSLACK, 0, 0, 0, 0)
	defer undisturbed()()
	defer c.holding()()
	c.job, c.more, c.active, c.free, c.later = job, true, 0, c.free[:0], c.later[:0]
	for i := len(c.conns) - 1; i >= 0; i-- {
		c.conns[i].phase = idle
		c.release(i)
	}
	for {
		wait := c.begin()
		if !c.more && c.active == 0 {
			return ctx.Err()
		}
		if ctx.Err() != nil {
			c.cut(ctx.Err())
			return ctx.Err()
		}
		n, err := c.wait(wait)
		if err != nil {
			c.cut(err)
			return err
		}
		before := c.seen
		for _, e := range c.events[:n] {
			c.handle(&c.conns[e.Fd], e.Events)
		}
		if c.seen == before { // no bytes came
			c.seen = c.cfg.Clock.Now()
		}
		if c.seen-c.swept > sweepEvery {
			c.swept = c.seen
			c.sweep(c.seen)
		}
	}
}

// undisturbed keeps off this thread the signal by which Go's scheduler asks for a turn: it would, a hundred times a
// second, end a wait and hold up the processor of whoever is asked, which doubles the p99 at a set rate. Nothing is
// lost by that, since the scheduler also looks whenever a function is called, which here is all the time. restore
// undoes it.
func undisturbed() (restore func()) {
	var turn, before unix.Sigset_t
	turn.Val[0] = 1 << (unix.SIGURG - 1)
	if unix.PthreadSigmask(unix.SIG_BLOCK, &turn, &before) != nil {
		return func() {}
	}
	return func() { unix.PthreadSigmask(unix.SIG_SETMASK, &before, nil) }
}

// holders are the crews of this process that may keep a processor of the runtime's to themselves while they wait.
var holders atomic.Int32

// holding says that the crew is at work and may keep its processor, until release is called.
func (c *Crew) holding() (release func()) {
	c.processors = runtime.GOMAXPROCS(0)
	if c.cfg.Beside {
		return func() {}
	}
	holders.Add(1)
	return func() { holders.Add(-1) }
}

// holds reports whether the crew keeps its processor while it waits: that spares it a wait for one afterwards, but
// leaves one fewer to everybody else in this process, who may be the very server that is waited for. One crew may where
// there is another processor; of several none.
func (c *Crew) holds() bool { return !c.cfg.Beside && c.processors > 1 && holders.Load() == 1 }

// waiter is a connection whose client may shoot at a moment.
type waiter struct {
	at    time.Duration
	index int
}

// waiters is a binary heap, the earliest first; container/heap would allocate for each.
type waiters []waiter

func (w *waiters) push(one waiter) {
	*w = append(*w, one)
	h := *w
	for i := len(h) - 1; i > 0; {
		up := (i - 1) / 2
		if h[up].at <= h[i].at {
			return
		}
		h[i], h[up] = h[up], h[i]
		i = up
	}
}

func (w *waiters) pop() waiter {
	h := *w
	first, n := h[0], len(h)-1
	h[0] = h[n]
	h = h[:n]
	*w = h
	for i := 0; ; {
		down := 2*i + 1
		if down >= n {
			return first
		}
		if down+1 < n && h[down+1].at < h[down].at {
			down++
		}
		if h[i].at <= h[down].at {
			return first
		}
		h[i], h[down] = h[down], h[i]
		i = down
	}
}

// release gives back a connection whose shot has ended.
func (c *Crew) release(i int) {
	if c.job.Ready == nil {
		c.free = append(c.free, i)
		return
	}
	c.later.push(waiter{c.job.Ready(i), i})
}

// wake frees the connections whose clients may shoot by now, and returns how long until the next one may.
func (c *Crew) wake() time.Duration {
	for len(c.later) > 0 {
		if left := c.later[0].at - c.cfg.Clock.Now(); left > 0 {
			return left
		}
		c.free = append(c.free, c.later.pop().index)
	}
	return longestWait
}

// begin starts every shot that is due while there are connections for it, and returns how long to wait at most.
func (c *Crew) begin() time.Duration {
	next := longestWait
	if len(c.later) > 0 {
		next = min(c.wake(), longestWait)
	}
	for range burst {
		if !c.more || len(c.free) == 0 {
			if len(c.later) > 0 && c.job.Over != nil && c.job.Over() {
				c.more = false // whoever still waits need not
			}
			return next
		}
		i := c.free[len(c.free)-1]
		due, left, ok := c.job.Next(i)
		if !ok {
			c.more = false
			return longestWait
		}
		if left > 0 {
			return min(left, next)
		}
		c.free = c.free[:len(c.free)-1]
		c.start(&c.conns[i], due)
	}
	return 0
}

// start performs a shot on a connection that has none.
func (c *Crew) start(k *conn, due time.Duration) {
	row := k.row
	if c.job.Open {
		row = (c.from + c.part.Number(c.begun)) % len(c.cfg.Requests)
		c.begun++
	} else {
		k.row = (k.row + c.all) % len(c.cfg.Requests)
	}
	k.shot, k.times = shots.Shot{Due: due, Row: row}, Times{}
	if c.job.Ask != nil {
		c.job.Ask(k.index, &k.shot)
	}
	k.asked = &c.cfg.Requests[row]
	switch {
	case c.cfg.Pick != nil:
		k.asked = c.cfg.Pick()
	case c.cfg.Sample != nil:
		if r := c.cfg.Sample(row, &k.shot); r != nil {
			k.asked = r
		}
	}
	k.answer.begin(k.asked.IsHead, k.shot.View)
	k.out, k.first = k.asked.Wire, true
	c.active++
	k.shot.Start = c.cfg.Clock.Now()
	if k.fd < 0 {
		if k.lost {
			k.times.Replaced, k.lost = 1, false
		}
		c.connect(k)
		return
	}
	if c.gone(k) {
		c.replace(k)
		return
	}
	k.phase = asking
	c.send(k)
}

// fresh is how long ago the last bytes may have come over a kept connection for it to be used unseen: in that time
// epoll would hardly have told that the server closed it.
const fresh = 5 * time.Microsecond

// gone reports whether a kept connection was closed by the server, or has bytes that nobody asked for.
func (c *Crew) gone(k *conn) bool {
	if k.shot.Start-k.last < fresh {
		return false
	}
	_, errno := rawPeek(k.fd, c.buf[:1])
	return errno != unix.EAGAIN && errno != unix.EINTR
}

// replace has a shot go over a new connection, since nothing of it was sent over the old one.
func (c *Crew) replace(k *conn) {
	c.hangUp(k)
	k.times.Replaced++
	k.shot.Sent = 0
	k.out = k.asked.Wire
	c.connect(k)
}

// connect opens a connection for the shot at hand.
func (c *Crew) connect(k *conn) {
	k.phase, k.began = connecting, c.cfg.Clock.Now()
	address := c.cfg.Addresses[k.addr%len(c.cfg.Addresses)].AddrPort()
	family, sockaddr := unix.AF_INET, unix.Sockaddr(nil)
	if ip := address.Addr(); ip.Is4() || ip.Is4In6() {
		sockaddr = &unix.SockaddrInet4{Port: int(address.Port()), Addr: ip.Unmap().As4()}
	} else {
		family, sockaddr = unix.AF_INET6, &unix.SockaddrInet6{Port: int(address.Port()), Addr: ip.As16()}
	}
	fd, err := unix.Socket(family, unix.SOCK_STREAM|unix.SOCK_NONBLOCK|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		c.fail(k, fmt.Errorf("open a connection: %w", err))
		return
	}
	k.fd = fd
	unix.SetsockoptInt(fd, unix.IPPROTO_TCP, unix.TCP_NODELAY, 1)
	k.watch = unix.EPOLLIN | unix.EPOLLOUT | unix.EPOLLRDHUP
	if err := unix.EpollCtl(c.epoll, unix.EPOLL_CTL_ADD, fd, &unix.EpollEvent{
		Events: k.watch, Fd: int32(k.index),
	}); err != nil {
		c.end(k, shots.Other, fmt.Errorf("watch a connection: %w", err))
		return
	}
	switch err := unix.Connect(fd, sockaddr); err {
	case nil, unix.EINPROGRESS:
	default:
		c.refused(k, err)
	}
}

// refused is a connection that could not be opened; the next address is tried before that counts.
func (c *Crew) refused(k *conn, err error) {
	if k.addr+1 < len(c.cfg.Addresses) {
		k.addr++
		c.hangUp(k)
		c.connect(k)
		return
	}
	c.fail(k, err)
}

// watchFor changes what epoll tells of a connection.
func (c *Crew) watchFor(k *conn, events uint32) {
	if k.watch != events {
		k.watch = events
		unix.EpollCtl(c.epoll, unix.EPOLL_CTL_MOD, k.fd, &unix.EpollEvent{Events: events, Fd: int32(k.index)})
	}
}

// send sends what it can of a request.
func (c *Crew) send(k *conn) {
	for len(k.out) > 0 {
		n, errno := rawSend(k.fd, k.out)
		switch {
		case errno == unix.EINTR:
		case errno == unix.EAGAIN:
			c.watchFor(k, unix.EPOLLIN|unix.EPOLLOUT|unix.EPOLLRDHUP)
			return
		case errno != 0 && k.shot.Sent == 0 && k.times.Connect == 0 && k.times.Replaced == 0:
			c.replace(k) // it was kept, and took nothing
			return
		case errno != 0:
			c.fail(k, errno)
			return
		default:
			k.shot.Sent += int64(n)
			k.out = k.out[n:]
		}
	}
	k.times.Asked = c.cfg.Clock.Now() - k.shot.Start
	c.watchFor(k, unix.EPOLLIN|unix.EPOLLRDHUP)
}

// handle deals with what epoll told of a connection.
func (c *Crew) handle(k *conn, events uint32) {
	if k.fd < 0 {
		return // closed by what was handled before it
	}
	if k.phase == connecting {
		code, err := unix.GetsockoptInt(k.fd, unix.SOL_SOCKET, unix.SO_ERROR)
		if err == nil && code != 0 {
			err = syscall.Errno(code)
		}
		if err != nil {
			c.refused(k, err)
			return
		}
		if events&(unix.EPOLLOUT|unix.EPOLLIN) == 0 {
			return
		}
		k.phase = asking
		k.times.Connect = c.cfg.Clock.Now() - k.began
		c.send(k)
		return
	}
	if k.phase == asking && events&unix.EPOLLOUT != 0 && len(k.out) > 0 {
		c.send(k)
	}
	if events&(unix.EPOLLIN|unix.EPOLLRDHUP|unix.EPOLLHUP|unix.EPOLLERR) != 0 && k.fd >= 0 {
		c.receive(k)
	}
}

// receive reads what has come. Without a shot under way that is the end of the connection, or bytes that nobody asked
// for.
func (c *Crew) receive(k *conn) {
	for {
		n, errno := rawReceive(k.fd, c.buf)
		switch {
		case errno == unix.EINTR:
			continue
		case errno == unix.EAGAIN:
			return
		case k.phase != asking:
			c.hangUp(k)
			k.lost = true
			return
		case errno != 0:
			c.fail(k, errno)
			return
		case n == 0:
			c.ended(k)
			return
		}
		c.seen = c.cfg.Clock.Now()
		k.last = c.seen
		if k.first {
			k.first = false
			k.times.FirstByte = c.seen - k.shot.Start
		}
		k.shot.Received += int64(n)
		rest, err := k.answer.take(c.buf[:n])
		switch {
		case err != nil:
			class, err := unreadable(c.cfg.Host, err)
			c.end(k, class, err)
			return
		case k.answer.complete:
			if len(rest) > 0 {
				k.answer.close = true // what nobody asked for would be taken for the next answer
			}
			c.done(k, c.seen)
			return
		case k.answer.length > c.cfg.maxBody(k.asked):
			c.end(k, shots.Length, fmt.Errorf("answer longer than max-body of %d bytes", c.cfg.maxBody(k.asked)))
			return
		}
		if n < len(c.buf) {
			return // most likely all that there is; epoll tells if not
		}
	}
}

// unreadable sorts an answer that breaks the rules of HTTP.
func unreadable(host string, err error) (shots.Class, error) {
	class := shots.Other
	if errors.Is(err, errLengths) || errors.Is(err, errChunk) {
		class = shots.Length
	}
	return class, fmt.Errorf("the answer from %s cannot be read: %w", host, err)
}

// ended is a connection that the server closed during a shot.
func (c *Crew) ended(k *conn) {
	err := k.answer.closed()
	switch {
	case err == nil:
		c.done(k, c.cfg.Clock.Now())
	case k.first:
		c.end(k, shots.Reset, fmt.Errorf("%s closed the connection without an answer: %w", c.cfg.Host, io.EOF))
	default:
		c.end(k, shots.Length, err)
	}
}

func (c *Crew) fail(k *conn, err error) {
	class := shots.Other
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		class = shots.Refused
		err = fmt.Errorf("nothing listens on %s: %w", c.cfg.Host, err)
	case errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE):
		class = shots.Reset
	case contender.IsOwnLimit(err):
		class = shots.Limits
	}
	c.end(k, class, err)
}

// done is an answer that was whole at a moment.
func (c *Crew) done(k *conn, now time.Duration) {
	class, err := shots.OK, error(nil)
	if err = c.cfg.status(k.asked, k.answer.status, k.answer.reason); err != nil {
		class = shots.Status
	} else if k.answer.length > c.cfg.maxBody(k.asked) {
		class, err = shots.Length, fmt.Errorf("answer longer than max-body of %d bytes", c.cfg.maxBody(k.asked))
	}
	c.finish(k, now, class, err, !c.cfg.Keep || k.answer.close)
}

// end is a shot that failed on its way; its connection is of no more use.
func (c *Crew) end(k *conn, class shots.Class, err error) {
	c.finish(k, c.cfg.Clock.Now(), class, err, true)
}

// finish hands a shot out and starts the connection's next one.
func (c *Crew) finish(k *conn, now time.Duration, class shots.Class, err error, hangUp bool) {
	k.shot.End, k.shot.Class, k.shot.Err, k.shot.Length, k.shot.Told = now, class, err, k.answer.length,
		k.answer.marks.List()
	k.times.Enter(&k.shot)
	if k.shot.View != nil && k.answer.inBody {
		k.answer.describe()
	}
	if hangUp {
		c.hangUp(k)
	}
	k.phase = idle
	c.active--
	c.job.Done(k.index, &k.shot)
	if class == shots.Limits {
		c.later.push(waiter{now + contender.TryLess, k.index})
		return
	}
	c.release(k.index)
}

func (c *Crew) hangUp(k *conn) {
	if k.fd >= 0 {
		unix.Close(k.fd) // epoll forgets it by that
		k.fd = -1
	}
}

// sweep ends shots whose time is over.
func (c *Crew) sweep(now time.Duration) {
	for i := range c.conns {
		if k := &c.conns[i]; k.phase != idle && now-k.shot.Start > c.cfg.timeout(k.asked) {
			c.end(k, shots.Timeout, fmt.Errorf(
				"no full answer from %s after %s (%d bytes of body read)", c.cfg.Host, c.cfg.timeout(k.asked), k.answer.length,
			))
		}
	}
}

// cut ends the shots under way.
func (c *Crew) cut(err error) {
	for i := range c.conns {
		if k := &c.conns[i]; k.phase != idle {
			c.end(k, shots.Cut, err)
		}
	}
}

// wait sleeps until a connection has something or the time is over. The error is one after which waiting would be
// spinning.
func (c *Crew) wait(d time.Duration) (int, error) {
	spec := unix.NsecToTimespec(int64(max(d, 0)))
	call := syscall.RawSyscall6
	if d > 0 && !c.holds() {
		call = syscall.Syscall6
	}
	n, _, errno := call(unix.SYS_EPOLL_PWAIT2, uintptr(c.epoll), uintptr(
		unsafe.Pointer(&c.events[0]),
	), uintptr(len(c.events)), uintptr(unsafe.Pointer(&spec)), 0, 0)
	switch errno {
	case 0:
		return int(n), nil
	case unix.EINTR:
		return 0, nil // a reason to look again
	}
	return 0, fmt.Errorf("wait for %s: %w", c.cfg.Host, errno)
}

// CanWait says why this kernel cannot wait as a crew does; nil where it can. It is looked at once.
var CanWait = sync.OnceValue(func() error {
	epoll, err := unix.EpollCreate1(unix.EPOLL_CLOEXEC)
	if err != nil {
		return err
	}
	defer unix.Close(epoll)
	var events [1]unix.EpollEvent
	var none unix.Timespec
	for {
		_, _, errno := syscall.Syscall6(unix.SYS_EPOLL_PWAIT2, uintptr(epoll), uintptr(unsafe.Pointer(&events[0])), 1,
			uintptr(unsafe.Pointer(&none)), 0, 0)
		switch errno {
		case 0:
			return nil
		case unix.EINTR:
		default: // kernels before 5.11, and sandboxes that do not know it
			return fmt.Errorf("epoll_pwait2: %w", errno)
		}
	}
})

func rawSend(fd int, p []byte) (int, syscall.Errno) {
	n, _, errno := syscall.RawSyscall6(unix.SYS_SENDTO, uintptr(fd), uintptr(
		unsafe.Pointer(&p[0]),
	), uintptr(len(p)), unix.MSG_NOSIGNAL|unix.MSG_DONTWAIT, 0, 0)
	return int(n), errno
}

func rawPeek(fd int, p []byte) (int, syscall.Errno) {
	n, _, errno := syscall.RawSyscall6(unix.SYS_RECVFROM, uintptr(fd), uintptr(
		unsafe.Pointer(&p[0]),
	), uintptr(len(p)), unix.MSG_DONTWAIT|unix.MSG_PEEK, 0, 0)
	return int(n), errno
}

func rawReceive(fd int, p []byte) (int, syscall.Errno) {
	n, _, errno := syscall.RawSyscall6(
		unix.SYS_RECVFROM, uintptr(fd), uintptr(unsafe.Pointer(&p[0])), uintptr(len(p)), unix.MSG_DONTWAIT, 0, 0,
	)
	return int(n), errno
}

var _ contender.Crew = (*Crew)(nil)
