package http

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"
	"sync"
	"time"

	"paceduel/core/contender"
	"paceduel/core/contender/http/lean"
	"paceduel/core/marks"
	"paceduel/core/panics"
	"paceduel/core/shots"
	"paceduel/core/spans"
)

// legDriver is a leg with its requests, one for each row.
type legDriver struct {
	leg
	*driver
	requests []request
	wires    []lean.Request // those of a leg that needs no values
}

// openLegs makes the driver's legs, whose requests for all rows stand one leg behind the other.
func (d *driver) openLegs(rows int) error {
	legs, _ := d.settings.legs() // whose faults were found when the plan was read
	all := d.requests
	for i, l := range legs {
		own := &driver{ // which samples nothing by itself
			settings: l.settings, clock: d.clock, requests: all[i*rows : (i+1)*rows], means: d.means, tls: d.tls, guard: d.guard,
		}
		one := legDriver{leg: l, driver: own, requests: own.requests}
		for j := range one.requests {
			if len(l.uses) > 0 {
				break
			}
			wire, err := own.wire(&one.requests[j])
			if err != nil {
				return fmt.Errorf("leg %s: %w", l.Name, err)
			}
			one.wires = append(one.wires, wire)
		}
		d.legs = append(d.legs, one)
	}
	d.requests = all[:rows]
	return nil
}

// widest is how many requests of a shot may be under way at a time.
func (d *driver) widest() (n int) {
	for i := range d.legs {
		own := max(d.legs[i].Leg.AtOnce, 1)
		if d.settings.Order == inTurn {
			n = max(n, own)
		} else {
			n += own
		}
	}
	return min(n, mostAtOnce)
}

// mostAtOnce bounds the connections of one client.
const mostAtOnce = 256

// legClient performs all legs of a shot. On the lean path one crew does, in the client's goroutine; else as many
// clients as there are requests at a time, each in a goroutine of its own.
type legClient struct {
	d           *driver
	first, step int
	next        int
	state       []legState
	marks       shots.Marks
	inside      []spans.Span
	sampler     *sampler
	sent        uint64 // requests of sampled shots so far
	crew        *lean.Crew
	err         error // why there is no crew
	picked      *errand
	slots       []asksFor // made when they are needed
	number      int       // of the client
	idle        []int     // of the slots

	mu      sync.Mutex // of what follows, where several goroutines are at work
	wait    sync.Cond
	row     int
	sampled bool // the shot is
	flying  int
	alone   bool          // no two requests have been under way at a time since the last pause
	begun   bool          // some request has ended
	heard   time.Duration // when the first byte of any answer came; 0: none did
	last    time.Duration // when the latest request ended
	pauses  []pause
	opened  int // the place of the pause that was begun last
	shot    *shots.Shot
	fault   error
	errands []*errand // that may be used again
}

// legState is how far a leg is.
type legState struct {
	begun, done bool
	items       []any     // of its list
	further     []*errand // next pages that may be asked for
	sent, ended int
	flying      int
	values      map[string]value
	took        time.Duration // its requests, added up
	bodies      []body
	longest     int // place of its longest span, or of the end of its longest list of pages; -1 before any
	longestTook time.Duration
}

// body is an answer of a leg.
type body struct {
	item int // of the leg's list
	text []byte
}

// pause is a stretch in which nothing of a shot was under way but ourselves.
type pause struct{ from, to, before time.Duration }

// never is the end of a pause that lasts.
const never = time.Duration(math.MaxInt64)

// errand is one request of a leg.
type errand struct {
	leg     int
	pause   int     // the latest that was there when it was sent; it ended at the latest when this began
	id      [8]byte // for the spans of the service, in a sampled shot
	wire    lean.Request
	request request
	list    *listing // that it is a page of; nil: of none
	item    int      // of the leg's list
	shot    shots.Shot
	view    shots.View
}

// listing is a list of which pages are read one after another.
type listing struct {
	turner
	latest int           // place of the span of the latest page
	took   time.Duration // all pages so far
}

// asksFor is who performs a request of a leg.
type asksFor interface {
	contender.Client
	errand(ctx context.Context, d *driver, e *errand)
}

func (d *driver) legClient(i, n int) contender.Client {
	c := &legClient{d: d, first: i, step: max(n, 1), state: make([]legState, len(d.legs)), number: i,
		sampler: d.newSampler(n)}
	c.wait.L = &c.mu
	if d.means == byCrew {
		c.crew, c.err = d.legCrew(c)
	}
	c.Rewind()
	return c
}

// legCrew makes the crew of a client.
func (d *driver) legCrew(c *legClient) (*lean.Crew, error) {
	cfg, err := d.legs[0].driver.lean()
	if err != nil {
		return nil, err
	}
	cfg.Beside = true
	cfg.Pick = func() *lean.Request { return &c.picked.wire }
	return d.crewOf(cfg, d.widest())
}

func (c *legClient) Rewind() { c.next = c.first % len(c.d.requests) }

func (c *legClient) Close() {
	if c.crew != nil {
		c.crew.Close()
		c.crew, c.err = nil, errClosed
	}
	for _, s := range c.slots {
		s.Close()
	}
	c.slots, c.idle = nil, nil
}

// Shoot performs all legs.
func (c *legClient) Shoot(ctx context.Context, shot *shots.Shot) {
	c.row = c.next
	c.next = (c.next + c.step) % len(c.d.requests)
	shot.Row, shot.Start = c.row, c.d.clock.Now()
	shot.End = shot.Start
	if unable(ctx, c.err, shot) {
		return
	}
	c.marks.Clear()
	c.inside, c.pauses = c.inside[:0], c.pauses[:0]
	c.shot, c.flying, c.begun, c.heard, c.last = shot, 0, false, 0, shot.Start
	if len(c.slots) > 0 && c.d.settings.Cache != "" && c.d.first.Load() {
		c.slots[0].(*client).cache.Clear()
	}
	c.sampled = c.sampler.next(shot)
	if c.d.settings.Trace {
		shot.Trace = c.d.traceID()
	}
	for i := range c.state {
		old := &c.state[i]
		*old = legState{longest: -1, bodies: old.bodies[:0]}
	}
	if c.crew != nil {
		c.byCrew(ctx)
	} else {
		c.bySlots(ctx)
	}
	c.end(ctx)
}

// byCrew has the crew perform what is ready, as it becomes ready.
func (c *legClient) byCrew(ctx context.Context) {
	flying := map[int]*errand{}       // by connection
	c.crew.Drive(ctx, &contender.Job{ // an interrupt is seen in the shots that it cut
		Open: true,
		Next: func(int) (time.Duration, time.Duration, bool) {
			if c.picked = c.take(); c.picked == nil {
				return 0, time.Second, c.flying > 0 // until one of them has ended
			}
			return 0, 0, true
		},
		Ask: func(i int, s *shots.Shot) {
			flying[i] = c.picked
			s.View = c.viewOf(c.picked)
		},
		Done: func(i int, s *shots.Shot) {
			e := flying[i]
			e.shot = *s
			c.took(ctx, e)
		},
	})
}

// bySlots performs what is ready: in this goroutine where nothing is to be done beside it, else each request in one of
// its own.
func (c *legClient) bySlots(ctx context.Context) {
	var wg sync.WaitGroup
	c.mu.Lock()
	for c.fault == nil {
		e := c.take()
		if e == nil {
			if c.flying == 0 {
				break
			}
			c.wait.Wait()
			continue
		}
		beside := c.take()
		if beside == nil && c.flying == 1 {
			c.perform(ctx, e)
			continue
		}
		for _, one := range []*errand{e, beside} {
			if one != nil {
				wg.Go(func() { c.beside(ctx, one) })
			}
		}
	}
	c.mu.Unlock()
	wg.Wait()
	if c.fault != nil {
		panic(c.fault)
	}
}

// beside performs a request in a goroutine of its own.
func (c *legClient) beside(ctx context.Context, e *errand) {
	c.mu.Lock()
	defer c.mu.Unlock()
	var fault error
	defer func() {
		c.fault = cmp.Or(c.fault, fault)
		c.wait.Broadcast()
	}()
	defer panics.Catch("ask for leg "+c.d.legs[e.leg].Name, &fault)
	c.perform(ctx, e)
}

// perform has a slot perform a request; it is called with the lock held, which it gives up meanwhile.
func (c *legClient) perform(ctx context.Context, e *errand) {
	var slot int
	if n := len(c.idle); n > 0 {
		slot, c.idle = c.idle[n-1], c.idle[:n-1]
	} else {
		slot = len(c.slots)
		c.slots = append(c.slots, c.newSlot())
	}
	by := c.slots[slot]
	e.shot = shots.Shot{View: c.viewOf(e), Trace: c.shot.Trace}
	func() {
		c.mu.Unlock()
		defer c.mu.Lock()
		by.errand(ctx, c.d.legs[e.leg].driver, e)
	}()
	c.idle = append(c.idle, slot)
	c.took(ctx, e)
}

// newSlot makes a further client: over HTTP/2 with the connection of the first, and with its cookies.
func (c *legClient) newSlot() asksFor {
	number := c.number*mostAtOnce + len(c.slots)
	if len(c.slots) == 0 || c.d.means != byFull {
		return c.d.single(number, 1).(asksFor)
	}
	first := c.slots[0].(*client)
	var shared *transport
	if c.d.settings.Protocol == http2 {
		shared = first.transport
	}
	own := c.d.fullClient(number, 1, shared)
	own.cache = first.cache
	if own.follow != nil {
		own.follow.Transport, own.follow.Jar = own.trip(), first.follow.Jar
	}
	return own
}

func (c *client) errand(ctx context.Context, d *driver, e *errand) {
	if c.d != d && len(d.settings.Marks) > 0 && c.readers[d] == nil {
		if c.readers == nil {
			c.readers = map[*driver]*marks.Reader{}
		}
		c.readers[d] = marks.New(d.settings.Marks, "body")
	}
	if c.d != d {
		c.d, c.printed = d, c.readers[d]
	}
	c.askFor(ctx, &e.request, -1, &e.shot)
}

func (c *leanClient) errand(ctx context.Context, d *driver, e *errand) {
	c.AskFor(ctx, &e.wire, &e.shot)
	d.complete(&e.shot)
}

func (b *broken) errand(ctx context.Context, _ *driver, e *errand) { b.Shoot(ctx, &e.shot) }

// viewOf is what is kept of an answer: all that its leg takes something from, or that is to be shown.
func (c *legClient) viewOf(e *errand) *shots.View {
	if len(c.d.legs[e.leg].Take) == 0 && e.list == nil && c.shot.View == nil {
		return nil
	}
	e.view = shots.View{Limit: int(c.d.legs[e.leg].driver.settings.MaxBody), Sample: true, Body: e.view.Body[:0]}
	return &e.view
}

// take gives out the next request that may be sent now; nil where there is none, which with nothing under way is the
// end.
func (c *legClient) take() *errand {
	for i := range c.state {
		if c.shot.Class != shots.OK || c.flying >= mostAtOnce {
			return nil
		}
		st, l := &c.state[i], &c.d.legs[i]
		if !st.begun && c.ready(i) {
			st.begun = true
			if l.each != nil && !c.list(i) || l.each != nil && len(st.items) == 0 {
				st.done = true
			}
		}
		if n := len(st.further); n > 0 && st.flying < max(l.AtOnce, 1) {
			e := st.further[n-1]
			st.further = st.further[:n-1]
			return c.send(e)
		}
		if !st.begun || st.done || st.sent >= max(len(st.items), 1) || st.flying >= max(l.AtOnce, 1) ||
			l.each == nil && st.sent > 0 {
			continue
		}
		e, err := c.prepare(i)
		if err != nil {
			c.shot.Class, c.shot.Err = shots.Other, fmt.Errorf("leg %s: %w", l.Name, err)
			return nil
		}
		st.sent++
		return c.send(e)
	}
	return nil
}

// send takes down that a request goes out.
func (c *legClient) send(e *errand) *errand {
	if c.alone = c.flying == 0; c.alone { // until it begins, nothing is waited for but us
		c.pauses = append(c.pauses, pause{from: c.last, to: never})
		c.opened = len(c.pauses) - 1
	}
	e.pause = c.opened
	c.state[e.leg].flying++
	c.flying++
	return e
}

// ready reports whether a leg may begin.
func (c *legClient) ready(i int) bool {
	for _, need := range c.d.legs[i].needs {
		if !c.state[need].done {
			return false
		}
	}
	if c.d.settings.Order == inTurn {
		for before := range i {
			if !c.state[before].done {
				return false
			}
		}
	}
	return true
}

// list reads the items that a leg has a request for; what is not right fails the shot.
func (c *legClient) list(i int) bool {
	l := &c.d.legs[i]
	v, ok := c.state[l.each.leg].values[l.each.name]
	from := &c.d.legs[l.each.leg]
	var err error
	switch {
	case !ok:
		err = fmt.Errorf("the answer of leg %s has nothing at %s", from.Name, from.Take[l.each.name])
	case !v.list:
		err = fmt.Errorf("what leg %s has at %s is no list", from.Name, from.Take[l.each.name])
	case len(v.items) > maxEach:
		err = fmt.Errorf("the list of leg %s has %d items, and %d are the most", from.Name, len(v.items), maxEach)
	}
	if err != nil {
		c.shot.Class, c.shot.Err = shots.Other, fmt.Errorf("leg %s: %w", l.Name, err)
		return false
	}
	c.state[i].items = v.items
	return true
}

// prepare makes the next request of a leg.
func (c *legClient) prepare(i int) (*errand, error) {
	l, st := &c.d.legs[i], &c.state[i]
	var e *errand
	if n := len(c.errands); n > 0 {
		e, c.errands = c.errands[n-1], c.errands[:n-1]
	} else {
		e = &errand{}
	}
	e.leg, e.list, e.item = i, nil, st.sent
	if l.Pages != nil {
		e.list = &listing{turner: l.turner()}
	}
	if len(l.uses) == 0 {
		if e.request = l.requests[c.row]; len(l.wires) > 0 {
			e.wire = l.wires[c.row]
		}
		return e, c.mark(e, nil)
	}
	values := make([]string, len(l.uses))
	for j, u := range l.uses {
		if u.leg == eachItem {
			text, err := itemText(st.items[st.sent], u.pointer)
			if err != nil {
				return nil, fmt.Errorf("item %d: %w", st.sent+1, err)
			}
			values[j] = text
			continue
		}
		v, ok := c.state[u.leg].values[u.name]
		from := &c.d.legs[u.leg]
		switch {
		case !ok:
			return nil, fmt.Errorf("it needs {{%s.%s}}, and the answer of %s has nothing at %s",
				from.Name, u.name, from.Name, from.Take[u.name])
		case v.list:
			return nil, fmt.Errorf("it needs {{%s.%s}}, and that is a list: ask for each of it", from.Name, u.name)
		}
		values[j] = v.text
	}
	var err error
	if e.request, err = l.requests[c.row].fill(values, l.uses); err != nil {
		return nil, err
	}
	if err := c.d.guard.Check(e.request.url.Hostname()); err != nil {
		return nil, err
	}
	return e, c.mark(e, &e.request)
}

// mark marks a request as part of a sampled shot, with an identifier of its own for the service's spans to be found by.
// made is the request where the lean path has to have it written first; nil where it has it already.
func (c *legClient) mark(e *errand, made *request) (err error) {
	if !c.sampled {
		if made != nil && c.d.means != byFull {
			e.wire, err = c.d.legs[e.leg].wire(made)
		}
		return err
	}
	c.sent++
	e.id = c.sampler.part(c.sent)
	l := &c.d.legs[e.leg]
	e.request = e.request.marked(c.shot.Trace, e.id)
	if c.d.means != byFull {
		e.wire, err = l.wire(&e.request)
	}
	return err
}

// took takes in a request that has ended.
func (c *legClient) took(ctx context.Context, e *errand) {
	l, st, s := &c.d.legs[e.leg], &c.state[e.leg], &e.shot
	if c.crew != nil {
		l.complete(s)
	}
	c.flying--
	st.flying--
	c.last = max(c.last, s.End)
	c.sum(s)
	p := &c.pauses[e.pause] // what is sent together may begin in another order
	p.to = min(p.to, s.Start)
	if c.alone && s.Aside > 0 {
		c.pauses = append(c.pauses, pause{from: s.End - s.Aside, to: s.End})
	}
	c.enter(e)
	switch {
	case s.Class == shots.OK:
	case s.Class == shots.Cut || ctx.Err() != nil:
		c.shot.Class, c.shot.Err = shots.Cut, cmp.Or(s.Err, ctx.Err())
	case c.shot.Class == shots.OK:
		c.shot.Class, c.shot.Err = s.Class, fmt.Errorf("leg %s: %w", l.Name, s.Err)
		if len(st.items) > 0 {
			c.shot.Err = fmt.Errorf("leg %s, item %d of %d: %w", l.Name, e.item+1, len(st.items), s.Err)
		}
		if e.list != nil && e.list.n > 0 {
			c.shot.Err = fmt.Errorf("leg %s, page %d: %w", l.Name, e.list.n+1, s.Err)
		}
	}
	if s.Class == shots.OK && s.View != nil {
		more, err := c.answered(e)
		if err != nil {
			c.shot.Class, c.shot.Err = shots.Other, fmt.Errorf("leg %s: %w", l.Name, err)
		}
		if more {
			return
		}
	}
	st.ended++
	st.done = st.ended >= max(len(st.items), 1)
	c.errands = append(c.errands, e)
}

// answered reads what a request was answered. more says that there is a next page, which it then is for.
func (c *legClient) answered(e *errand) (more bool, err error) {
	l, st, v := &c.d.legs[e.leg], &c.state[e.leg], e.shot.View
	values, err := l.takenFrom(v.Headers, v.Encoding, v.Body)
	if err != nil {
		return false, err
	}
	if st.values == nil || e.list == nil {
		st.values = values
	} else {
		join(st.values, values)
	}
	if c.shot.View != nil {
		st.bodies = append(st.bodies, body{e.item, bytes.Clone(v.Body)})
	}
	if e.list == nil {
		return false, nil
	}
	c.shot.Count(lean.Pages, 1)
	e.list.latest = len(c.inside) - 1
	if more, err = c.turn(e); err != nil {
		return false, fmt.Errorf("page %d: %w", e.list.n, err)
	}
	if more {
		st.further = append(st.further, e)
	}
	return more, nil
}

// turn makes the request of a page that of the next one; more is false where there is none.
func (c *legClient) turn(e *errand) (more bool, err error) {
	next, err := e.list.next(&e.request, e.shot.View)
	if next == nil || err != nil {
		return false, err
	}
	if c.d.means != byFull && (next.Scheme != e.request.url.Scheme || next.Host != e.request.url.Host) {
		return false, fmt.Errorf("it leads to another server, %s://%s: set path: full", next.Scheme, next.Host)
	}
	e.request.url = next
	return true, c.mark(e, &e.request)
}

// join puts the values of a further page to those of the pages before: lists are put together, of others the last
// counts.
func join(into, further map[string]value) {
	for name, v := range further {
		if v.list {
			v.items = append(into[name].items, v.items...)
		}
		into[name] = v
	}
}

// sum adds a request to the shot, which begins with the earliest of them: that need not be the first to end.
func (c *legClient) sum(s *shots.Shot) {
	shot := c.shot
	if !c.begun || s.Start < shot.Start {
		shot.Start, c.begun = s.Start, true
	}
	if n := time.Duration(s.Amounts[lean.FirstByte]); n > 0 && (c.heard == 0 || s.Start+n < c.heard) {
		c.heard = s.Start + n
	}
	for i, n := range s.Amounts {
		if i != lean.FirstByte {
			shot.Count(i, n)
		}
	}
	shot.Count(lean.Requests, 1)
	shot.End = max(shot.End, s.End)
	shot.Sent, shot.Received, shot.Length = shot.Sent+s.Sent, shot.Received+s.Received, shot.Length+s.Length
	for _, m := range s.Told {
		c.marks.Add([]byte(m.Name), m.Unit, m.Value)
	}
}

// enter makes a span of a request, by the clock.
func (c *legClient) enter(e *errand) {
	l, st, s := &c.d.legs[e.leg], &c.state[e.leg], &e.shot
	sp := spans.Span{Name: l.Name, Begin: s.Start, End: s.End, Parent: spans.None, ID: e.id, At: s.Start}
	at := len(c.inside)
	if at < cap(c.inside) { // what it needed then has room for what it needs now
		sp.Needs = c.inside[:at+1][at].Needs[:0]
	}
	for _, need := range l.needs {
		if from := c.state[need].longest; from >= 0 {
			sp.Needs = append(sp.Needs, from)
		}
	}
	if e.list != nil && e.list.n > 0 {
		sp.Needs = append(sp.Needs, e.list.latest)
	}
	c.inside = append(c.inside, sp)
	took := s.Latency()
	if e.list != nil {
		e.list.took += took
		took = e.list.took
	}
	if st.longest < 0 || took > st.longestTook {
		st.longest, st.longestTook = at, took
	}
	st.took += s.Latency()
}

// end enters what is known of the shot as a whole.
func (c *legClient) end(ctx context.Context) {
	shot := c.shot
	c.settle()
	undone := func(st legState) bool { return !st.done }
	if ctx.Err() != nil && shot.Class == shots.OK && slices.ContainsFunc(c.state, undone) {
		shot.Class, shot.Err = shots.Cut, ctx.Err()
	}
	if shot.Class == shots.OK {
		for i := range c.state {
			if st := &c.state[i]; st.ended > 0 {
				c.marks.AddTime([]byte(c.d.legs[i].Name), st.took)
			}
		}
		if c.sampler == nil || c.sampled { // those of others lack what the service tells
			shot.Inside, shot.InsideKnown = c.inside, true
		}
	}
	shot.Told = c.marks.List()
	if v := shot.View; v != nil {
		c.show(v)
	}
}

// settle takes pauses out of the shot, and gives its spans the shot's own time.
func (c *legClient) settle() {
	slices.SortFunc(c.pauses, func(a, b pause) int { return cmp.Compare(a.from, b.from) })
	before := time.Duration(0) // what those up to a pause come to; they do not overlap
	for i := range c.pauses {
		p := &c.pauses[i]
		p.from = max(p.from, c.shot.Start)
		if p.to == never { // what was to end it did not begin
			p.to = p.from
		}
		p.to = max(p.to, p.from)
		p.before, before = before, before+p.to-p.from
	}
	own := func(at time.Duration) time.Duration {
		i, _ := slices.BinarySearchFunc(c.pauses, at, func(p pause, at time.Duration) int { return cmp.Compare(p.from, at) })
		if i == 0 {
			return at - c.shot.Start
		}
		p := &c.pauses[i-1]
		return at - c.shot.Start - p.before - min(p.to-p.from, at-p.from)
	}
	for i := range c.inside {
		c.inside[i].Begin, c.inside[i].End = own(c.inside[i].Begin), own(c.inside[i].End)
	}
	if c.heard > 0 {
		c.shot.Count(lean.FirstByte, int64(own(c.heard)))
	}
	c.shot.Aside = c.shot.End - c.shot.Start - own(c.shot.End)
}

// show puts the answers together: as members of one object by the names of the legs, where all are JSON.
func (c *legClient) show(v *shots.View) {
	v.Done, v.Known, v.Outcome = c.d.settings.Summary(), true, "ok"
	var whole bytes.Buffer
	isJSON := true
	for i := range c.state {
		st, l := &c.state[i], &c.d.legs[i]
		slices.SortStableFunc(st.bodies, func(a, b body) int { return a.item - b.item }) // they came as they were done
		for _, b := range st.bodies {
			isJSON = isJSON && json.Valid(b.text)
		}
		if len(st.bodies) == 0 {
			continue
		}
		if whole.Len() > 0 {
			whole.WriteByte(',')
		}
		name, _ := json.Marshal(l.Name)
		whole.Write(name)
		whole.WriteByte(':')
		several := l.each != nil || l.Pages != nil
		if several {
			whole.WriteByte('[')
		}
		whole.Write(bytes.Join(l.items(st.bodies), []byte{','}))
		if several {
			whole.WriteByte(']')
		}
	}
	answer := []byte("{" + whole.String() + "}")
	v.Type = "application/json"
	if !isJSON {
		var all [][]byte
		for i := range c.state {
			for _, b := range c.state[i].bodies {
				all = append(all, b.text)
			}
		}
		answer, v.Type = bytes.Join(all, []byte{'\n'}), "text/plain"
	}
	if shot := c.shot; shot.Class.Failed() {
		v.Outcome = strings.SplitN(shot.Err.Error(), "\n", 2)[0]
	}
	v.Bytes, v.Body = int64(len(answer)), answer[:min(len(answer), v.Room())]
}

// items are what a leg was answered: of pages whose list is named, the items of all.
func (l *leg) items(bodies []body) (out [][]byte) {
	for _, b := range bodies {
		if l.Pages == nil || l.Pages.List == "" {
			out = append(out, b.text)
		} else {
			out = append(out, listed(b.text, l.Pages.List)...)
		}
	}
	return out
}

// itemText is an item of a list, or a member of it, as a text.
func itemText(item any, pointer string) (string, error) {
	if pointer != "" {
		found, err := member(item, pointer)
		if err != nil {
			return "", err
		}
		item = found
	}
	if text, ok := scalar(item); ok {
		return text, nil
	}
	return "", fmt.Errorf("what stands for {{each%s}} is neither a text nor a number", pointer)
}
