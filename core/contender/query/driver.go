package query

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"strconv"
	"sync"
	"time"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/contender/query/database"
	"paceduel/core/contender/query/mysql"
	"paceduel/core/contender/query/postgres"
	"paceduel/core/contender/query/sqlite"
	"paceduel/core/guard"
	"paceduel/core/meter"
	"paceduel/core/plan"
	"paceduel/core/rows"
	"paceduel/core/shots"
)

// Kind is this kind's registration.
var Kind = contender.Kind{
	Kind: plan.Kind{
		Name: "query", Doc: "statements on a database: PostgreSQL, MySQL, MariaDB, SQLite", New: New, Watches: checkWatch,
		Afar: afar,
	},
	Watch: watch,
	Open: func(s contender.Setup, settings plan.Settings) (contender.Driver, error) {
		return open(s, settings.(*Settings))
	},
	Draft: &drafting,
	Shape: shape, Descriptors: 3, Embeds: true,
	Floor: func([]plan.Settings) (plan.Settings, func(), error) {
		s := New().(*Settings)
		s.At, s.Statement = "sqlite::memory:", "select 1"
		return s, func() {}, nil
	},
}

// driver holds what all clients of a contender share.
type driver struct {
	settings   *Settings
	clock      *clock.Clock
	address    database.Address
	engine     database.Engine
	statements []statement // each last, where there is one
	each       bool
	parameters [][]database.Value // by row of the table
	first      map[string]database.Value
	pool       *pool // nil without one

	mu      sync.Mutex
	clients int              // that are open
	sorts   shots.Sorts      // of the rows
	counted map[string]int64 // by connections that were closed, in all
	before  account          // of the heat
	closing sync.WaitGroup   // of connections on which something was under way
}

// Sorts implements contender.Sorted.
func (d *driver) Sorts() shots.Sorts { return d.sorts }

// embedded is a driver of a library that runs within our own process.
type embedded struct {
	*driver
	library *sqlite.Engine
}

// Used implements contender.Embedded.
func (e embedded) Used() time.Duration { return e.library.Used() }

// Held implements contender.Embedded.
func (e embedded) Held() int64 { return e.library.Held() }

func open(setup contender.Setup, s *Settings) (contender.Driver, error) {
	a, err := s.address(setup.Fill)
	if err != nil {
		return nil, &contender.Hint{Err: fmt.Errorf("open the database: at: %w", err), Try: "correct at: in the plan"}
	}
	table, sorts, err := s.readRows(setup.PlanDir)
	if err != nil && setup.Dir != setup.PlanDir {
		table, sorts, err = s.readRows(setup.Dir)
	}
	if err != nil {
		return nil, fmt.Errorf("read the rows: %w", err)
	}
	d, err := newDriver(setup, s, a, table)
	if err != nil {
		return nil, err
	}
	d.sorts = sorts
	if library, ok := d.engine.(*sqlite.Engine); ok {
		return embedded{d, library}, nil
	}
	return d, nil
}

// newDriver makes a driver whose parameters come from a table.
func newDriver(setup contender.Setup, s *Settings, a database.Address, table rows.Table) (d *driver, err error) {
	d = &driver{
		settings: s, clock: setup.Clock, address: a, each: s.Each != "", counted: map[string]int64{},
		first: map[string]database.Value{}, parameters: values(table),
	}
	keys, texts := s.texts()
	for i, text := range texts {
		st, err := s.parse(keys[i], text, a.Scheme, table)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", keys[i], err)
		}
		st.Number = i
		if keys[i] == "statement" {
			st.Most = s.Read
		}
		d.statements = append(d.statements, st)
	}
	if s.Pages != nil {
		for name, word := range s.Pages.First {
			d.first[name] = number(string(word))
		}
	}
	if n := int(s.Connections); n > 0 {
		d.pool = newPool(n)
	}
	if a.Scheme == database.SQLite {
		d.engine = sqlite.New(setup.Dir, a.File, s.Writes)
		return d, nil
	}
	d.engine, err = s.server(a, setup)
	return d, err
}

// grace is how much longer than a shot's limit a server is given for a statement: it is ours to end it before.
const grace = time.Second

// server makes an engine for one.
func (s *Settings) server(a database.Address, setup contender.Setup) (e database.Engine, err error) {
	limit := s.Timeout.D() + grace
	if a.Scheme == database.Postgres {
		e, err = postgres.New(a, setup.Guard, s.Writes, limit)
	} else {
		e, err = mysql.New(a, setup.Guard, s.Writes, limit)
	}
	if err != nil {
		return nil, &contender.Hint{Err: fmt.Errorf("open %s: %w", a, err), Try: "correct at: in the plan"}
	}
	return e, nil
}

// Client implements contender.Driver.
func (d *driver) Client(i, n int) contender.Client {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.clients++
	return &client{d: d, next: i % len(d.parameters), first: i % len(d.parameters), step: n}
}

// Close implements contender.Driver.
func (d *driver) Close() error {
	d.drain()
	d.closing.Wait()
	return nil
}

// left is told that a client was closed; with the last one the pool's connections go.
func (d *driver) left() {
	d.mu.Lock()
	d.clients--
	last := d.clients == 0
	d.mu.Unlock()
	if last {
		d.drain()
		d.closing.Wait()
	}
}

// drain closes the connections of the pool, which nobody uses.
func (d *driver) drain() {
	if d.pool == nil {
		return
	}
	for _, s := range d.pool.take() {
		d.end(s)
	}
}

// session is a connection, and what it knows already.
type session struct {
	database.Conn
	prepared       []bool
	sent, received int64         // that were told of it so far
	used           time.Duration // when its last shot ended
}

// connect opens a session. What is said to each new connection is part of that.
func (d *driver) connect(ctx context.Context) (*session, error) {
	conn, err := d.engine.Connect(ctx)
	if err != nil {
		return nil, err
	}
	if deadline, ok := ctx.Deadline(); ok {
		conn.Limit(deadline)
	}
	stop := context.AfterFunc(ctx, conn.Interrupt)
	defer stop()
	for _, text := range d.settings.Session {
		if err := conn.Query(&database.Statement{Number: -1, Text: text}, nil, &reader{}); err != nil {
			conn.Close()
			return nil, fmt.Errorf("session: %s: %w", text, err)
		}
	}
	return &session{Conn: conn, prepared: make([]bool, len(d.statements))}, nil
}

// end closes a session and keeps what it has counted.
func (d *driver) end(s *session) {
	if s == nil {
		return
	}
	d.mu.Lock()
	s.Tally(d.counted)
	d.mu.Unlock()
	s.Close()
}

// drop is end of a session on which something may be under way, which takes its time to be ended.
func (d *driver) drop(s *session) {
	d.mu.Lock()
	s.Tally(d.counted)
	d.mu.Unlock()
	d.closing.Go(s.Close)
}

// account is what a database has counted.
type account struct {
	counts map[string]int64
	own    map[string]int64 // that reading it adds
}

// BeginAccount implements contender.Accounted. It is read twice to know what reading it adds.
func (d *driver) BeginAccount(ctx context.Context) error {
	first, err := d.account(ctx)
	if err != nil {
		return err
	}
	second, err := d.account(ctx)
	if err != nil {
		return err
	}
	d.before = account{second, minus(second, first)}
	return nil
}

// EndAccount implements contender.Accounted.
func (d *driver) EndAccount(ctx context.Context) (map[string]int64, error) {
	if d.before.counts == nil {
		return nil, nil
	}
	now, err := d.account(ctx)
	if err != nil {
		return nil, err
	}
	out := minus(minus(now, d.before.counts), d.before.own)
	d.before = account{}
	for name, n := range out {
		out[name] = max(n, 0)
	}
	return out, nil
}

func (d *driver) account(ctx context.Context) (map[string]int64, error) {
	ctx, cancel := context.WithTimeout(ctx, d.settings.Timeout.D())
	defer cancel()
	counts, err := d.engine.Account(ctx)
	if err != nil {
		f := d.engine.Fault(err, nil)
		return nil, fmt.Errorf("read what %s has counted: %w", d.address, f.Err)
	}
	if counts == nil {
		d.mu.Lock()
		counts = maps.Clone(d.counted)
		d.mu.Unlock()
	}
	return counts, nil
}

// Process implements contender.Seated: whoever listens where the database is, on this machine.
func (d *driver) Process() int {
	port, err := strconv.Atoi(d.address.Port)
	local := guard.New(nil).Check(d.address.Host) == nil
	if d.address.Host == "" || err != nil || !local {
		return 0
	}
	pid, err := meter.Listener(port)
	if err != nil {
		return 0
	}
	return pid
}

func minus(a, b map[string]int64) map[string]int64 {
	out := map[string]int64{}
	for name, n := range a {
		out[name] = n - b[name]
	}
	return out
}

// Explain implements contender.Explained: it asks over a connection of its own, with the parameters of the first row.
func (d *driver) Explain(ctx context.Context) (text, shape string, err error) {
	ctx, cancel := context.WithTimeout(ctx, d.settings.Timeout.D())
	defer cancel()
	s, err := d.connect(ctx)
	if err != nil {
		return "", "", d.engine.Fault(err, nil).Err
	}
	defer s.Close()
	return d.explain(s)
}

var (
	errTooLong  = errors.New("a result longer than max-result")
	errNoneFree = errors.New("no connection of the pool was free")
)

// isOver reports whether an error says that time was up.
func isOver(err error) bool {
	return errors.Is(err, os.ErrDeadlineExceeded) || errors.Is(err, context.DeadlineExceeded) || err == errNoneFree
}

var (
	_ contender.Driver    = (*driver)(nil)
	_ contender.Embedded  = embedded{}
	_ contender.Accounted = (*driver)(nil)
	_ contender.Explained = (*driver)(nil)
	_ contender.Seated    = (*driver)(nil)
)
