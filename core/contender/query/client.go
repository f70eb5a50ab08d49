package query

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"paceduel/core/contender"
	"paceduel/core/contender/query/database"
	"paceduel/core/plan"
	"paceduel/core/shots"
	"paceduel/core/units"
)

// client performs one shot after another.
type client struct {
	d           *driver
	next, first int // rows of the table
	step        int
	own         *session // kept from shot to shot; nil without
	closed      bool

	ctx  context.Context // that watch was last called with
	stop func() bool     // forgets it
	at   interruptible
	work work
}

// Rewind implements contender.Client.
func (c *client) Rewind() { c.next = c.first }

// Close implements contender.Client.
func (c *client) Close() {
	if c.closed {
		return
	}
	c.closed = true
	if c.stop != nil {
		c.stop()
	}
	c.d.end(c.own)
	c.own = nil
	c.d.left()
}

// watch has the connection at hand interrupted when ctx ends.
func (c *client) watch(ctx context.Context) {
	if c.ctx == ctx {
		return
	}
	if c.stop != nil {
		c.stop()
	}
	c.ctx = ctx
	c.stop = context.AfterFunc(ctx, c.at.interrupt)
}

// Shoot implements contender.Client.
func (c *client) Shoot(ctx context.Context, shot *shots.Shot) {
	row := c.next
	c.next = (c.next + c.step) % len(c.d.parameters)
	shot.Row = row
	c.perform(ctx, c.d.parameters[row], shot)
}

// perform performs a shot with the parameters of a row.
func (c *client) perform(ctx context.Context, row []database.Value, shot *shots.Shot) {
	c.watch(ctx)
	w := &c.work
	w.begin(c.d, row, shot)
	shot.Start = c.d.clock.Now()
	until := time.Now().Add(c.d.settings.Timeout.D())
	err := ctx.Err()
	var s *session
	if err == nil {
		s, err = c.obtain(ctx, until, w)
	}
	var st *database.Statement
	if err == nil {
		c.at.set(s.Conn)
		if err = ctx.Err(); err == nil { // from here on whoever ends it meets the connection
			s.Limit(until)
			st, err = w.perform(s)
		}
	}
	shot.End = c.d.clock.Now()
	var usable bool
	if s != nil {
		s.used = shot.End
		s.Limit(time.Time{})
		c.at.clear()
		c.traffic(s, shot)
		usable = err == nil && !w.in.over
	}
	c.judge(ctx, err, st, shot)
	if s != nil {
		if shot.Class == shots.OK || shot.Class == shots.Statement || shot.Class == shots.Conflict {
			usable = c.settle(s, shot)
		}
		if shot.View != nil {
			c.describe(s, shot, usable)
		}
		c.release(s, usable)
	} else if shot.View != nil {
		shot.View.Done = c.d.settings.Summary()
	}
	w.enter(shot)
}

// traffic adds what went over a connection since it was last looked at; of a library, what it handed out.
func (c *client) traffic(s *session, shot *shots.Shot) {
	sent, received := s.Traffic()
	shot.Sent, shot.Received = sent-s.sent, received-s.received
	s.sent, s.received = sent, received
	shot.Length = c.work.in.bytes
	if c.d.address.Scheme == database.SQLite {
		shot.Received = c.work.in.bytes
	}
}

// fresh is how long ago a connection may have been used to be used again unseen.
const fresh = time.Millisecond

// obtain takes a connection: the client's own, one of the pool, or a new one.
func (c *client) obtain(ctx context.Context, until time.Time, w *work) (s *session, err error) {
	s = c.own
	if c.d.pool != nil {
		began := c.d.clock.Now()
		waited := false
		if s, waited, err = c.d.pool.get(ctx, until); err != nil {
			return nil, err
		}
		if waited {
			w.waited = c.d.clock.Now() - began
		}
	}
	if s != nil && c.d.clock.Now()-s.used > fresh && s.Gone() {
		c.d.end(s)
		c.own, s = nil, nil
		w.replaced++
	}
	if s != nil {
		return s, nil
	}
	began := c.d.clock.Now()
	limited, cancel := context.WithDeadline(ctx, until)
	defer cancel()
	if s, err = c.d.connect(limited); err == nil {
		w.connected = c.d.clock.Now() - began
		return s, nil
	}
	if c.d.pool != nil {
		c.d.pool.put(nil)
	}
	if ctx.Err() == nil && limited.Err() != nil {
		err = &silentError{fmt.Errorf("connect to %s: it said nothing: %w", c.d.address, limited.Err())}
	}
	return nil, err
}

// release gives a connection back, or ends it where it is of no use any more.
func (c *client) release(s *session, usable bool) {
	switch {
	case !usable:
		c.d.drop(s)
		s = nil
	case c.d.settings.Connections == plan.Fresh:
		c.d.end(s)
		s = nil
	}
	switch {
	case c.d.pool != nil:
		c.d.pool.put(s)
	default:
		c.own = s
	}
}

// settle sees to it that a connection goes on without a transaction. One that was left open is a failure of a shot that
// had none; asking for it costs something where the database does not say by itself, which is done in view alone.
func (c *client) settle(s *session, shot *shots.Shot) (usable bool) {
	s.Limit(time.Now().Add(c.d.settings.Timeout.D()))
	defer s.Limit(time.Time{})
	left, err := s.InTransaction(shot.View != nil || shot.Class != shots.OK)
	if err != nil {
		return false
	}
	if !left {
		return true
	}
	if shot.Class == shots.OK {
		shot.Class = shots.Statement
		shot.Err = errors.New("it left a transaction open, which was rolled back")
		if shot.View != nil {
			shot.Err = &contender.Hint{Err: shot.Err, Try: "set transaction: true instead, or end what opens one"}
		}
	}
	return s.Rollback() == nil
}

// judge says how a shot ended.
func (c *client) judge(ctx context.Context, err error, st *database.Statement, shot *shots.Shot) {
	rows := units.Plural(int(c.work.in.rows), "row")
	switch {
	case ctx.Err() != nil:
		shot.Class, shot.Err = shots.Cut, ctx.Err()
	case c.work.in.over:
		shot.Class = shots.Length
		shot.Err = fmt.Errorf("%w of %d bytes, after %s", errTooLong, int64(c.d.settings.MaxResult), rows)
		if shot.View != nil {
			shot.Err = &contender.Hint{Err: shot.Err, Try: "raise max-result: if such a long one is wanted, or set read:"}
		}
	case err == nil:
	case isOver(err) || shot.End-shot.Start >= c.d.settings.Timeout.D():
		shot.Class = shots.Timeout
		shot.Err = fmt.Errorf("not done after %s, %s read", c.d.settings.Timeout.D(), rows)
		var silent *silentError
		switch {
		case errors.Is(err, errNoneFree):
			shot.Err = fmt.Errorf("not begun within %s: %w", c.d.settings.Timeout.D(), errNoneFree)
		case errors.As(err, &silent):
			shot.Err = fmt.Errorf("not done after %s: %w", c.d.settings.Timeout.D(), err)
			if shot.View != nil {
				shot.Err = &contender.Hint{Err: shot.Err, Try: database.TryAddress + ", or raise timeout: in the plan"}
			}
		}
	default:
		if shot.View == nil {
			st = nil // the place of a mistake takes lines of its own
		}
		f := c.d.engine.Fault(err, st)
		shot.Class, shot.Err = f.Class, f.Err
		if shot.View != nil && f.Try != "" {
			shot.Err = &contender.Hint{Err: f.Err, Try: f.Try}
		}
	}
}

// silentError is a server that lets us connect and then says nothing, as one may that speaks another protocol.
type silentError struct{ error }

func (e *silentError) Unwrap() error { return e.error }

// describe keeps what a shot answered.
func (c *client) describe(s *session, shot *shots.Shot, usable bool) {
	v := shot.View
	v.Done, v.Version = c.d.settings.Summary(), s.Version()
	if shot.Class != shots.OK {
		return // what came before it failed is no answer
	}
	v.Outcome = c.work.outcome()
	body := c.work.answer()
	v.Known, v.Bytes, v.Type = true, int64(len(body)), "application/json"
	v.Body = body[:min(len(body), v.Room())]
	if c.work.in.cut {
		v.Bytes = max(v.Bytes, int64(len(v.Body))+1) // more came than is kept
	}
	if v.Sample || !usable {
		return
	}
	s.Limit(time.Now().Add(c.d.settings.Timeout.D()))
	defer s.Limit(time.Time{})
	var err error
	v.QueryPlan, v.QueryShape, err = c.d.explain(s)
	if err != nil {
		v.Notes = append(v.Notes, fmt.Sprintf("%s does not say how it carries it out: %s", s.Version(), err))
	}
}

// outcome is what came, in words: rows of the answer, however many were read for it.
func (w *work) outcome() string {
	rows := w.in.rows
	if w.d.each {
		rows = w.merged
	}
	text, changed := units.Plural(int(rows), "row"), units.Plural(int(w.in.changed), "row")+" changed"
	switch {
	case !w.in.didChange:
		return text
	case rows == 0:
		return changed
	}
	return text + ", " + changed
}

// explain is how the database would carry out each of the statements, with the parameters of the first row.
func (d *driver) explain(s *session) (text, shape string, err error) {
	w := &work{d: d, row: d.parameters[0]}
	for i := range d.statements {
		st := &d.statements[i]
		if d.each && i == len(d.statements)-1 && !d.settings.Writes {
			if err := w.find(s, i); err != nil {
				return text, shape, err
			}
		}
		args, known := w.argsFor(st)
		if !known {
			continue // no row came that it could be for
		}
		switch database.FirstWord(st.Text) {
		case "select", "with", "insert", "update", "delete", "replace", "merge", "values", "table":
		default:
			continue
		}
		e, failed := s.Explain(&st.Statement, args)
		if failed != nil {
			err = cmp.Or(err, d.engine.Fault(failed, nil).Err)
			continue
		}
		if len(d.statements) > 1 {
			text, shape = text+st.key+":\n", shape+st.key+":\n"
		}
		text, shape = text+e.Text+"\n", shape+e.Shape+"\n"
	}
	return text, shape, err
}
