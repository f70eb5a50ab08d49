package http

import (
	"bytes"
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptrace"
	"net/textproto"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/contender/http/cache"
	"paceduel/core/contender/http/lean"
	"paceduel/core/contender/http/servertiming"
	"paceduel/core/guard"
	"paceduel/core/marks"
	"paceduel/core/plan"
	"paceduel/core/shots"
)

// Kind is this kind's registration.
var Kind = contender.Kind{
	Kind: plan.Kind{Name: "http", Doc: "a request to a server that speaks HTTP", New: New, Tells: true, Traces: true,
		Afar: afar},
	Open: func(s contender.Setup, settings plan.Settings) (contender.Driver, error) {
		if l, ok := settings.(leveled); ok {
			return open(s, l.Settings, l.least)
		}
		return open(s, settings.(*Settings), byCrew)
	},
	Draft: &drafting,
	Shape: lean.Shape,
	Level: level,
	Light: true,
	Floor: floor,
}

func canonical(name string) string { return textproto.CanonicalMIMEHeaderKey(name) }

// means is what shots are performed with, from the cheapest to the one that can do most.
type means uint8

const (
	byCrew means = iota // one thread for all connections, on the lean path
	byLean              // a goroutine for each client, on the lean path
	byFull              // a goroutine for each client, through net/http
)

// means is what the settings need at least.
func (s *Settings) means(requests []request) means {
	switch {
	case s.Path == "full":
		return byFull
	case requests != nil && s.fullOnly(requests) != "":
		return byFull
	case requests == nil && s.fullOnly([]request{{url: &url.URL{Scheme: "http"}}}) != "":
		return byFull
	case strings.HasPrefix(strings.ToLower(s.URL), "https:"):
		return byLean
	case slices.ContainsFunc(s.Legs, func(l Leg) bool { return strings.HasPrefix(strings.ToLower(l.URL), "https:") }):
		return byLean
	}
	return cheapest()
}

// cheapest is what the cheapest requests are performed with here.
func cheapest() means {
	if lean.CanWait() != nil { // this kernel, or what it is kept in, does not know how
		return byLean
	}
	return byCrew
}

// level has all contenders driven with the means that the most demanding of them needs, but for those whose path is
// forced.
func level(all []plan.Settings) []plan.Settings {
	needed := byCrew
	for _, s := range all {
		if s := s.(*Settings); s.Path == "" {
			needed = max(needed, s.means(nil))
		}
	}
	out := slices.Clone(all)
	for i, s := range all {
		if s := s.(*Settings); s.Path == "" {
			out[i] = leveled{s, needed}
		}
	}
	return out
}

// driver holds what all clients of a contender share; but for pools it is not modified after open.
type driver struct {
	settings *Settings
	clock    *clock.Clock
	requests []request   // at least one; with legs those of the first
	sorts    shots.Sorts // of the requests
	legs     []legDriver
	means    means
	tls      *tls.Config
	guard    guard.Guard
	pools    []*transport // that all clients share; none unless asked for
	run      [8]byte      // the first half of every trace's identifier
	traced   atomic.Uint64
	first    atomic.Bool        // visits are first ones: caches are emptied before each shot
	tracing  *contender.Tracing // nil where no shot is sampled
}

// open makes a driver that uses at least the means given.
func open(setup contender.Setup, s *Settings, least means) (*driver, error) {
	dir := cmp.Or(setup.PlanDir, setup.Dir) // rows and bodies are the plan's, not the workspace's
	t, sorts, err := s.readRows(dir)
	if err != nil {
		return nil, fmt.Errorf("read rows: %w", err)
	}
	requests, err := s.all(t, dir, setup.Port)
	if err != nil {
		return nil, fmt.Errorf("prepare requests: %w", err)
	}
	d := &driver{
		settings: s, clock: setup.Clock, requests: requests, guard: setup.Guard, means: max(s.means(requests), least),
		tracing: setup.Traces, sorts: sorts,
	}
	if setup.Traces != nil && s.Trace {
		return nil, errors.New("traces marks the requests itself: leave traceparent out")
	}
	if d.tls, err = s.TLS.config(dir); err != nil {
		return nil, err
	}
	if s.Protocol == http2 {
		d.tls.NextProtos = []string{"h2"}
	}
	for i := range d.run {
		d.run[i] = byte(rand.Uint32())
	}
	if len(s.Legs) > 0 {
		if err := d.openLegs(len(t.Rows)); err != nil {
			return nil, fmt.Errorf("prepare requests: %w", err)
		}
	}
	// A pool of N is N connections that requests queue for; over HTTP/2 each carries many at a time.
	pools, connections := 1, int(s.Connections)
	if s.Protocol == http2 {
		pools, connections = connections, 1
	}
	for range pools {
		if s.Connections <= 0 {
			break
		}
		pool, err := d.transport(connections)
		if err != nil {
			return nil, err
		}
		d.pools = append(d.pools, pool)
	}
	return d, nil
}

// Sorts implements contender.Sorted.
func (d *driver) Sorts() shots.Sorts { return d.sorts }

func (d *driver) Close() error {
	for _, p := range d.pools {
		p.close()
	}
	return nil
}

func (d *driver) Client(i, n int) contender.Client {
	if len(d.legs) > 0 {
		return d.legClient(i, n)
	}
	if d.settings.Batch > 0 {
		return d.batch(i, n)
	}
	if d.settings.Pages != nil {
		return &pager{client: d.single(i, n).(*client), turner: d.turner()}
	}
	return d.single(i, n)
}

// single makes the i-th of n clients that perform one request a shot.
func (d *driver) single(i, n int) contender.Client {
	switch {
	case d.means == byLean:
		return d.leanClient(i, n)
	case d.means == byCrew: // what is asked one by one takes the path that crews take
		one := &crewOfOne{d: d, first: i, step: max(n, 1)}
		one.Rewind()
		return one
	}
	return d.fullClient(i, n, nil)
}

// fullClient makes the i-th of n clients that ask over net/http; over is what it shares with another one, nil for what
// is its own or that of a pool.
func (d *driver) fullClient(i, n int, over *transport) *client {
	c := &client{
		d: d, first: i, step: max(n, 1), buf: make([]byte, 64<<10), printed: marks.New(d.settings.Marks, "body"),
		probe: &probe{clock: d.clock}, sampler: d.newSampler(n),
	}
	c.plain = len(d.pools) == 0 && d.settings.Cache == "" && d.settings.Protocol != http2 && d.settings.Proxy == "" &&
		d.settings.Redirects == 0 &&
		!d.settings.Cookies
	c.Rewind()
	switch {
	case over != nil:
		c.transport = over
	case len(d.pools) > 0:
		c.transport = d.pools[i%len(d.pools)]
	default:
		c.transport, _ = d.transport(0) // its only error is found when the plan is checked
		if d.settings.Protocol == http2 {
			c.transport.MaxConnsPerHost = 1
		}
	}
	if c.plain {
		c.transport.dialer.probe, c.transport.dialer.limit = c.probe, d.settings.Timeout.D()
	}
	c.transport.users.Add(1)
	if d.settings.Cache != "" {
		c.cache = cache.New(time.Now)
	}
	if d.settings.Redirects > 0 || d.settings.Cookies {
		c.follow = &http.Client{Transport: c.trip(), CheckRedirect: d.redirect}
		if d.settings.Cookies {
			c.follow.Jar, _ = cookiejar.New(nil) // never fails
		}
	}
	return c
}

// client asks over net/http. Client i of n takes rows i, i+n, i+2n and so on, so that no counter is shared.
//
// Most clients have a connection of their own, over HTTP/1.1. Such a client makes nothing anew for a shot that it can
// keep from the one before, and has the connection hold the limit; others take a context for each shot, which costs
// more.
type client struct {
	d           *driver
	transport   *transport
	follow      *http.Client // set where redirects or cookies are wanted
	cache       *cache.Cache // nil without one
	saved, held int64        // of the shot: what the cache answered at once, and after asking
	plain       bool         // a connection of its own, over HTTP/1.1, and one request a shot
	first, step int
	next        int
	buf         []byte
	sampler     *sampler
	marks       shots.Marks
	printed     *marks.Reader             // of what the plan has read from answers; nil for nothing
	readers     map[*driver]*marks.Reader // the same by the legs that it performs
	body        []byte                    // that it is read from, where nobody else keeps it
	probe       *probe
	ctx         context.Context // of the heat
	traced      context.Context // the same with the probe
	kept        []*http.Request // one for each row, as long as the heat lasts; nil: not made yet, or not to be kept
}

// mostKept bounds the requests that each client keeps.
const mostKept = 64

func (c *client) Rewind() { c.next = c.first % len(c.d.requests) }

func (c *client) Close() {
	if c.transport != nil &&
		c.transport.users.Add(-1) == 0 { // a pool's connections last as long as anybody may want them
		c.transport.close()
	}
	c.transport = nil
}

// probe takes down one shot's moments. net/http may call it from goroutines of its own; what it says of a shot that has
// ended is overwritten by the next one.
type probe struct {
	clock *clock.Clock
	start time.Duration
	limit time.Time    // that connections hold; zero: the context does
	asked atomic.Int64 // nanoseconds from the start; 0: not yet
	first atomic.Int64
	twice atomic.Bool // it would have been sent again

	mu       sync.Mutex
	lines    []*line
	latest   *line // that the request at hand goes over
	before   int64 // what had been written to it until then
	opened   opening
	replaced int
	attempts int                // at the request at hand
	give     context.CancelFunc // ends the attempt; nil: the dialer does
	began    time.Duration      // of a handshake behind a proxy
	tls      time.Duration
}

// reset prepares for the next shot.
func (p *probe) reset(start time.Duration, limit time.Time, give context.CancelFunc) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.start, p.limit, p.give = start, limit, give
	p.asked.Store(0)
	p.first.Store(0)
	p.twice.Store(false)
	p.lines, p.latest, p.opened, p.replaced, p.attempts, p.began, p.tls = p.lines[:0], nil, opening{}, 0, 0, 0, 0
}

func (p *probe) since() int64 { return max(int64(p.clock.Now()-p.start), 1) }

func (p *probe) trace() *httptrace.ClientTrace {
	return &httptrace.ClientTrace{
		GetConn:              func(string) { p.get() },
		GotConn:              p.got,
		WroteRequest:         func(httptrace.WroteRequestInfo) { p.asked.Store(p.since()) },
		GotFirstResponseByte: func() { p.first.Store(p.since()) },
		TLSHandshakeStart: func() {
			p.mu.Lock()
			p.began = p.clock.Now()
			p.mu.Unlock()
		},
		TLSHandshakeDone: func(tls.ConnectionState, error) {
			p.mu.Lock()
			p.tls = p.clock.Now() - p.began
			p.mu.Unlock()
		},
	}
}

// get is told that a request wants a connection: for the first time, or, when the one that it had was closed, for
// another one. net/http would send a request again of which some may have arrived; here nothing is sent twice.
func (p *probe) get() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.first.Load() > 0 { // it was redirected
		p.first.Store(0)
		p.attempts = 0
	}
	if p.attempts++; p.attempts == 1 {
		return
	}
	p.replaced++
	if p.latest != nil && p.latest.written.Load() > p.before {
		p.twice.Store(true)
		if p.give != nil {
			p.give()
		}
	}
}

// fresh is how long ago a kept connection may have been used to be used again unseen.
const fresh = 5 * time.Microsecond

// got is told which connection a request goes over.
func (p *probe) got(info httptrace.GotConnInfo) {
	p.mu.Lock()
	defer p.mu.Unlock()
	l := lineOf(info.Conn)
	if l == nil {
		return
	}
	if own := !l.from.http2; own && (p.twice.Load() || info.Reused && p.start-time.Duration(l.used.Load()) > fresh &&
		l.gone()) {
		l.Conn.Close() // nothing goes over it, and net/http takes another one if it may
		return
	}
	if !p.limit.IsZero() {
		l.Conn.SetDeadline(p.limit)
	}
	p.latest, p.before = l, l.written.Load()
	if !slices.Contains(p.lines, l) {
		p.lines = append(p.lines, l)
	}
	if info.Reused {
		return
	}
	o := l.opening
	if o.tls == 0 {
		o.tls = p.tls
	}
	if info.WasIdle { // it was opened for another shot of a pool, which then had no need of it
		o = opening{dial: 1}
	}
	p.opened.lookup += o.lookup
	p.opened.dial += o.dial
	p.opened.tls += o.tls
}

// fill hands the moments to a shot. Bytes of a connection that others share go to the shot that ends first.
func (p *probe) fill(shot *shots.Shot) (t lean.Times) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, l := range p.lines {
		l.used.Store(int64(shot.End))
		shot.Sent += l.sent.Swap(0)
		shot.Received += l.received.Swap(0)
		if !p.limit.IsZero() {
			l.Conn.SetDeadline(time.Time{}) // until its next shot it may wait for as long as it likes
		}
	}
	t = lean.Times{
		Lookup: p.opened.lookup, TLS: p.opened.tls, Connect: p.opened.total(),
		Asked: time.Duration(p.asked.Load()), FirstByte: time.Duration(p.first.Load()), Replaced: p.replaced,
	}
	if p.twice.Load() {
		t.Replaced--
	}
	return t
}

// Shoot performs one request and reads its answer to the end.
func (c *client) Shoot(ctx context.Context, shot *shots.Shot) {
	row := c.next
	c.next = (c.next + c.step) % len(c.d.requests)
	c.visit()
	if c.sampler.next(shot) {
		shot.Row = row
		marked := c.d.requests[row].marked(shot.Trace, [8]byte(shot.Trace[8:]))
		c.askFor(ctx, &marked, -1, shot)
		return
	}
	c.ask(ctx, row, shot)
}

func (c *client) ask(ctx context.Context, row int, shot *shots.Shot) {
	shot.Row = row
	c.askFor(ctx, &c.d.requests[row], row, shot)
}

// askFor performs a request, which is kept under the number of its row; -1 for one that is not.
func (c *client) askFor(ctx context.Context, r *request, row int, shot *shots.Shot) {
	c.marks.Clear()
	c.body = c.body[:0]
	c.saved, c.held = 0, 0
	if c.ctx != ctx {
		c.ctx, c.kept = ctx, nil
		c.traced = httptrace.WithClientTrace(ctx, c.probe.trace())
	}
	request := c.request(r, row, shot)
	limited := c.traced
	if c.plain {
		shot.Start = c.d.clock.Now()
		c.probe.reset(shot.Start, time.Now().Add(c.d.settings.Timeout.D()), nil)
	} else {
		shot.Start = c.d.clock.Now() // before the limit starts to count, so that a timeout lasts at least as long
		var cancel context.CancelFunc
		limited, cancel = context.WithTimeout(c.traced, c.d.settings.Timeout.D())
		defer cancel()
		c.probe.reset(shot.Start, time.Time{}, cancel)
		request = request.WithContext(limited)
	}
	answer, err := c.send(request)
	var length int64
	if err == nil {
		length, err = c.read(answer, shot)
		answer.Body.Close()
	}
	shot.End = c.d.clock.Now()
	times := c.probe.fill(shot)
	shot.Length = length
	c.judge(ctx, limited, r, answer, length, err, shot)
	times.Enter(shot)
	shot.Count(lean.Saved, c.saved)
	shot.Count(lean.Held, c.held)
	defer c.d.hinted(shot)
	if answer == nil {
		return
	}
	if c.saved == 0 { // else it was told when it was fetched, of another shot
		c.listen(answer.Header, shot)
		c.listen(answer.Trailer, shot)
	}
	if c.printed != nil && shot.Class == shots.OK {
		c.readMarks(answer.Header, shot)
	}
	for r := answer.Request; r != nil && r.Response != nil; r = r.Response.Request {
		shot.Count(lean.Redirects, 1)
	}
	if shot.View != nil {
		c.describe(answer, length, shot.View)
	}
}

// request is what asks for something; see askFor.
func (c *client) request(r *request, row int, shot *shots.Shot) *http.Request {
	keep := row >= 0 && c.plain && len(r.body) == 0 && !c.d.settings.Trace && len(c.d.requests) <= mostKept
	if keep && c.kept != nil && c.kept[row] != nil {
		return c.kept[row]
	}
	request := c.d.request(r).WithContext(c.traced)
	if c.d.settings.Trace {
		if shot.Trace == [16]byte{} { // or it is that of a shot of several requests
			shot.Trace = c.d.traceID()
		}
		request.Header = maps.Clone(request.Header)
		request.Header[traceHeader] = []string{sampledParent(shot.Trace, [8]byte(shot.Trace[8:]))}
	}
	if keep {
		if c.kept == nil {
			c.kept = make([]*http.Request, len(c.d.requests))
		}
		c.kept[row] = request
	}
	return request
}

// visit begins a visit: a first one has an empty cache.
func (c *client) visit() {
	if c.cache != nil && c.d.first.Load() {
		c.cache.Clear()
	}
}

// trip is who performs a request: the transport, or the cache before it.
func (c *client) trip() http.RoundTripper {
	if c.cache == nil {
		return c.transport
	}
	return cached{c}
}

// cached answers from the client's cache what that may answer.
type cached struct{ *client }

func (c cached) RoundTrip(r *http.Request) (*http.Response, error) {
	answer, how, err := c.cache.Do(r, c.transport.RoundTrip)
	switch how {
	case cache.Fresh:
		c.saved++
	case cache.Revalidated:
		c.held++
	}
	return answer, err
}

// Visit implements contender.Visited.
func (d *driver) Visit(first bool) { d.first.Store(first) }

func (c *client) send(request *http.Request) (*http.Response, error) {
	if t := c.transport; t.shared && !t.up.Load() {
		// Two who find no connection would open two, of which HTTP/2 has need of one.
		t.opening.Lock()
		defer t.opening.Unlock()
		defer t.up.Store(true)
	}
	if c.follow == nil {
		return c.trip().RoundTrip(request)
	}
	answer, err := c.follow.Do(request)
	var wrapped *url.Error
	if errors.As(err, &wrapped) {
		err = wrapped.Err // says the address again, and no more
	}
	return answer, err
}

// redirect decides whether a redirect is followed: as often as the plan says, and to nobody who may not be asked.
func (d *driver) redirect(next *http.Request, before []*http.Request) error {
	if len(before) > d.settings.Redirects {
		return http.ErrUseLastResponse
	}
	return d.guard.Redirect(next)
}

// listen takes down what the service tells of its time.
func (c *client) listen(header http.Header, shot *shots.Shot) {
	for _, value := range header["Server-Timing"] {
		servertiming.Read([]byte(value), c.marks.AddTime)
	}
	shot.Told = c.marks.List()
}

// readMarks reads what the plan wants to know from an answer. One that came compressed is not unpacked for it.
func (c *client) readMarks(header http.Header, shot *shots.Shot) {
	c.printed.Begin()
	c.printed.Header(header.Get)
	text := c.body
	if shot.View != nil {
		text = shot.View.Body
	}
	if c.printed.Reads("body") && header.Get("Content-Encoding") == "" {
		c.printed.Whole("body", text)
	}
	c.printed.Into(&c.marks)
	shot.Told = c.marks.List()
	if shot.View != nil {
		shot.View.Notes = c.printed.Untold()
	}
}

// traceID makes an identifier of 16 bytes: the run's half, and a count.
func (d *driver) traceID() (id [16]byte) {
	copy(id[:8], d.run[:])
	n := d.traced.Add(1)
	for i := range 8 {
		id[15-i] = byte(n >> (8 * i))
	}
	return id
}

func (d *driver) request(r *request) *http.Request {
	request := &http.Request{
		Method: d.settings.Method, URL: r.url, Header: r.headers, Host: r.host, ProtoMajor: 1, ProtoMinor: 1,
	}
	if d.settings.Redirects > 0 || d.settings.Cookies {
		request.Header = request.Header.Clone() // package http adds to it
	}
	if len(r.body) > 0 {
		request.Body = io.NopCloser(bytes.NewReader(r.body))
		request.ContentLength = int64(len(r.body))
		request.GetBody = func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(r.body)), nil }
	}
	return request
}

// errTooLong marks an answer beyond max-body.
var errTooLong = errors.New("answer longer than max-body")

// read reads the body to its end, keeping its head when it is to be looked at.
func (c *client) read(answer *http.Response, shot *shots.Shot) (length int64, err error) {
	for {
		into, kept := c.into(shot)
		n, err := answer.Body.Read(into)
		length += int64(n)
		if kept != nil {
			*kept = (*kept)[:len(*kept)+n]
		}
		if err == io.EOF {
			return length, nil
		}
		if err != nil {
			return length, err
		}
		if length > int64(c.d.settings.MaxBody) {
			return length, errTooLong
		}
	}
}

// leastRoom is the least that is read at once into an answer that is kept.
const leastRoom = 16 << 10

// into is where the next part of the body is read to: where the answer is kept, as far as there is room, so that
// keeping it costs no copying. Making room is no part of the latency.
func (c *client) into(shot *shots.Shot) (buf []byte, kept *[]byte) {
	kept, room := &c.body, marks.MaxText
	switch v := shot.View; {
	case v != nil:
		kept, room = &v.Body, v.Room()
	case !c.printed.Reads("body"):
		return c.buf, nil
	}
	if len(*kept) >= room {
		return c.buf, nil
	}
	if cap(*kept)-len(*kept) < leastRoom {
		began := c.d.clock.Now()
		*kept = slices.Grow(*kept, max(len(*kept), len(c.buf)))
		shot.Aside += c.d.clock.Now() - began
	}
	end := min(cap(*kept), len(*kept)+len(c.buf), room)
	return (*kept)[len(*kept):end], kept
}

func (c *client) judge(
	ctx, limited context.Context, r *request, answer *http.Response, length int64, err error, shot *shots.Shot,
) {
	switch {
	case ctx.Err() != nil: // whatever came: it may be what the server says to a client that hangs up
		shot.Class, shot.Err = shots.Cut, ctx.Err()
	case err != nil && shot.End-shot.Start < c.d.settings.Timeout.D() && c.probe.twice.Load():
		shot.Class, shot.Err = shots.Reset, fmt.Errorf("%s: %w", r.url.Host, errTwice)
	case err != nil && (limited.Err() != nil || shot.End-shot.Start >= c.d.settings.Timeout.D()):
		shot.Class = shots.Timeout
		shot.Err = fmt.Errorf(
			"no full answer from %s after %s (%d bytes of body read)", r.url.Host, c.d.settings.Timeout.D(), length,
		)
	case err != nil:
		shot.Class, shot.Err = classify(err), err
		if shot.Class == shots.Refused {
			shot.Err = fmt.Errorf(
				"nothing listens on %s: %w", cmp.Or(strings.TrimPrefix(c.d.settings.Proxy, "http://"), r.url.Host), err,
			)
		}
		if errors.Is(err, errTooLong) {
			shot.Err = fmt.Errorf("%w of %d bytes", err, int64(c.d.settings.MaxBody))
		}
	default:
		if shot.Err = c.d.status(answer.StatusCode, answer.Status); shot.Err != nil {
			shot.Class = shots.Status
		}
	}
}

// status says what is wrong with an answer's status; nil is good.
func (d *driver) status(code int, text string) error {
	wanted, good := "200 to 299", code >= 200 && code <= 299
	if d.settings.Expect != 0 {
		wanted, good = fmt.Sprint(d.settings.Expect), code == d.settings.Expect
	}
	switch {
	case good:
		return nil
	case text == "":
		text = strings.TrimSpace(fmt.Sprintf("%d %s", code, http.StatusText(code)))
	}
	return fmt.Errorf("status %s, expected %s", text, wanted)
}

// hinted is what went wrong with a shot that is looked at, with what can be done about it where that is known.
func (d *driver) hinted(shot *shots.Shot) {
	if shot.View == nil || shot.Err == nil {
		return
	}
	try := ""
	switch shot.Class {
	case shots.Status:
		for _, header := range shot.View.Headers {
			if to, ok := strings.CutPrefix(header, "Location: "); ok {
				try = "ask for " + to + " itself, or set redirects: 1 to have it followed"
			}
		}
	case shots.TLS:
		try = tlsHint(shot.Err)
	}
	if try != "" {
		shot.Err = &contender.Hint{Err: shot.Err, Try: try}
	}
}

// tlsHint is what would have TLS succeed.
func tlsHint(err error) string {
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	var record tls.RecordHeaderError
	switch {
	case errors.As(err, &unknown):
		return "trust who issued it with tls: { ca: FILE }, or take any certificate with tls: { insecure: true }"
	case errors.As(err, &name):
		return "say whom it is for with tls: { name: NAME }, or take any certificate with tls: { insecure: true }"
	case errors.As(err, &record), strings.Contains(err.Error(), "server gave HTTP response to HTTPS client"):
		return "it does not speak TLS: write the url with http://"
	}
	return ""
}

// errTwice is a connection that closed before it answered, when some of the request may have arrived.
var errTwice = errors.New("it closed the connection before it answered; what was sent is not sent again")

// resets are the ways in which net/http says that a connection or a stream of it was ended by the other side; it has no
// types for them.
var resets = []string{
	"server closed idle connection", "stream error", "GOAWAY", "client connection lost", "client connection force closed",
}

func classify(err error) shots.Class {
	var unverified *tls.CertificateVerificationError
	var record tls.RecordHeaderError
	var alert tls.AlertError
	text := err.Error()
	switch {
	case errors.Is(err, errTooLong), errors.Is(err, io.ErrUnexpectedEOF):
		return shots.Length
	case errors.Is(err, syscall.ECONNREFUSED):
		return shots.Refused
	case errors.Is(err, errNoHTTP2), errors.As(err, &unverified), errors.As(err, &record), errors.As(err, &alert),
		strings.HasPrefix(text, "tls: "), strings.Contains(
			text, "remote error: tls: ",
		), strings.Contains(text, "server gave HTTP response to HTTPS client"):
		return shots.TLS
	case errors.Is(
		err, syscall.ECONNRESET,
	), errors.Is(err, syscall.EPIPE), errors.Is(err, io.EOF), errors.Is(err, net.ErrClosed):
		return shots.Reset
	case slices.ContainsFunc(resets, func(part string) bool { return strings.Contains(text, part) }):
		return shots.Reset
	case errors.Is(err, os.ErrDeadlineExceeded):
		return shots.Timeout
	case contender.IsOwnLimit(err):
		return shots.Limits
	}
	return shots.Other
}

func (c *client) describe(answer *http.Response, length int64, v *shots.View) {
	v.Done = c.d.settings.Summary()
	v.Outcome = answer.Status
	v.Bytes, v.Known = length, true
	v.Type, v.Encoding = answer.Header.Get("Content-Type"), answer.Header.Get("Content-Encoding")
	if c.d.settings.Version != "" {
		v.Version = strings.TrimSpace(answer.Header.Get(c.d.settings.Version))
	}
	for name, values := range answer.Header {
		for _, value := range values {
			v.Headers = append(v.Headers, name+": "+value)
		}
	}
	slices.Sort(v.Headers)
}

var _ contender.Driver = (*driver)(nil)
