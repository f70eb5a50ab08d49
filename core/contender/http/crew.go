package http

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"paceduel/core/contender"
	"paceduel/core/contender/http/lean"
	"paceduel/core/plan"
	"paceduel/core/shots"
)

// oneServer is the server of all requests, when it is one.
func oneServer(requests []request) (*url.URL, bool) {
	first := requests[0].url
	for _, r := range requests {
		if r.url.Scheme != first.Scheme || r.url.Host != first.Host {
			return nil, false
		}
	}
	return first, true
}

// Crew implements contender.Crewed.
func (d *driver) Crew(n int) (contender.Crew, error) {
	if d.means != byCrew || d.settings.Batch > 0 || len(d.legs) > 0 {
		return nil, nil
	}
	return d.crew(n, false)
}

// crew makes a crew on the lean path.
func (d *driver) crew(n int, beside bool) (*lean.Crew, error) {
	cfg, err := d.lean()
	if err != nil {
		return nil, err
	}
	cfg.Beside = beside
	if d.tracing != nil {
		s := d.newSampler(1)
		cfg.Sample = func(row int, shot *shots.Shot) *lean.Request { return d.sampledWire(s, row, shot) }
	}
	return d.crewOf(cfg, n)
}

func (d *driver) crewOf(cfg *lean.Config, n int) (_ *lean.Crew, err error) {
	server := d.requests[0].url
	ctx, cancel := context.WithTimeout(context.Background(), lookupLimit)
	defer cancel()
	if cfg.Addresses, err = d.guard.Addresses(ctx, server.Hostname(), portOf(server)); err != nil {
		return nil, err
	}
	return lean.New(cfg, n)
}

const lookupLimit = 5 * time.Second

// lean prepares for the lean path: its requests are the very bytes that the full path sends.
func (d *driver) lean() (*lean.Config, error) {
	cfg := &lean.Config{
		Clock: d.clock, Host: d.requests[0].url.Host, Timeout: d.settings.Timeout.D(), MaxBody: int64(d.settings.MaxBody),
		Keep: d.settings.Connections != plan.Fresh, Status: d.status,
	}
	for i := range d.requests {
		one, err := d.wire(&d.requests[i])
		if err != nil {
			return nil, fmt.Errorf("write the request for row %d: %w", i+1, err)
		}
		cfg.Requests = append(cfg.Requests, one)
	}
	return cfg, nil
}

// wire is a request as the lean path sends it.
func (d *driver) wire(r *request) (lean.Request, error) {
	request := d.request(r)
	request.Close = d.settings.Connections == plan.Fresh
	var wire bytes.Buffer
	err := request.Write(&wire)
	return lean.Request{
		Wire: wire.Bytes(), IsHead: d.settings.Method == http.MethodHead, Status: d.status,
		Timeout: d.settings.Timeout.D(), MaxBody: int64(d.settings.MaxBody),
	}, err
}

func portOf(server *url.URL) string {
	switch {
	case server.Port() != "":
		return server.Port()
	case server.Scheme == "https":
		return "443"
	}
	return "80"
}

// leanClient makes the i-th of n clients that each block on their own connection.
func (d *driver) leanClient(i, n int) contender.Client {
	cfg, err := d.lean()
	if err != nil {
		return &broken{d, err}
	}
	if d.tracing != nil && d.settings.Batch == 0 {
		s := d.newSampler(n)
		cfg.Sample = func(row int, shot *shots.Shot) *lean.Request { return d.sampledWire(s, row, shot) }
	}
	server := d.requests[0].url
	address := net.JoinHostPort(server.Hostname(), portOf(server))
	dial := &dialer{clock: d.clock, guard: d.guard, tls: d.tls}
	open := dial.dial
	if server.Scheme == "https" {
		open = dial.dialTLS
	}
	return &leanClient{d, lean.NewClient(cfg, func(ctx context.Context) (lean.Opened, error) {
		conn, err := open(ctx, "tcp", address)
		if err != nil {
			return lean.Opened{}, err
		}
		l := lineOf(conn)
		return lean.Opened{
			Conn: conn, Lookup: l.lookup, Dial: l.opening.dial, TLS: l.opening.tls, Gone: l.gone,
			Bytes: func() (int64, int64) { return l.sent.Swap(0), l.received.Swap(0) },
		}, nil
	}, i, n)}
}

// leanClient is a client on the lean path.
type leanClient struct {
	d *driver
	*lean.Client
}

// Shoot performs one request.
func (c *leanClient) Shoot(ctx context.Context, shot *shots.Shot) {
	c.Client.Shoot(ctx, shot)
	c.d.complete(shot)
}

func (c *leanClient) ask(ctx context.Context, row int, shot *shots.Shot) {
	c.Ask(ctx, row, shot)
	c.d.complete(shot)
}

// broken is a client that could not be made.
type broken struct {
	d   *driver
	err error
}

func (b *broken) Shoot(_ context.Context, shot *shots.Shot) {
	shot.Start = b.d.clock.Now()
	shot.End, shot.Class, shot.Err = shot.Start, shots.Other, b.err
}
func (b *broken) ask(ctx context.Context, _ int, shot *shots.Shot) { b.Shoot(ctx, shot) }
func (b *broken) Rewind()                                          {}
func (b *broken) Close()                                           {}

// crewOfOne is a crew of one, for where single shots are wanted on the lean path: the weigh-in, and runs with something
// to be done around each. Client i of n takes rows i, i+n, i+2n and so on.
type crewOfOne struct {
	d           *driver
	first, step int
	next        int
	crew        *lean.Crew
	err         error
}

func (c *crewOfOne) Rewind() { c.next = c.first % len(c.d.requests) }

func (c *crewOfOne) Close() {
	if c.crew != nil {
		c.crew.Close()
		c.crew = nil
	}
}

// Shoot performs one request.
func (c *crewOfOne) Shoot(ctx context.Context, shot *shots.Shot) {
	row := c.next
	c.next = (c.next + c.step) % len(c.d.requests)
	c.ask(ctx, row, shot)
}

// unable says, and notes in shot, that it cannot begin: its time is over, or its client could not be made.
func unable(ctx context.Context, broken error, shot *shots.Shot) bool {
	switch {
	case ctx.Err() != nil:
		shot.Class, shot.Err = shots.Cut, ctx.Err()
	case broken != nil:
		shot.Class, shot.Err = shots.Other, broken
	default:
		return false
	}
	return true
}

func (c *crewOfOne) ask(ctx context.Context, row int, shot *shots.Shot) {
	view, due := shot.View, shot.Due
	if c.crew == nil && c.err == nil {
		c.crew, c.err = c.d.crew(1, true)
	}
	shot.Start, shot.Row = c.d.clock.Now(), row
	shot.End = shot.Start
	if unable(ctx, c.err, shot) {
		return
	}
	c.crew.StartAt(row)
	begun := false
	job := &contender.Job{
		Open: true, // in the order of rows
		Next: func(int) (time.Duration, time.Duration, bool) {
			first := !begun
			begun = true
			return 0, 0, first
		},
		Ask: func(_ int, s *shots.Shot) { s.View = view },
		Done: func(_ int, s *shots.Shot) {
			*shot = *s
			shot.Due = due // the job knows no moments
		},
	}
	c.crew.Drive(ctx, job)
	c.d.complete(shot)
}

// errClosed is a client that was closed.
var errClosed = errors.New("the client is closed")

// complete adds to a shot that is looked at what the lean path does not know of.
func (d *driver) complete(shot *shots.Shot) {
	defer d.hinted(shot)
	v := shot.View
	if v == nil || !v.Known {
		return
	}
	v.Done = d.settings.Summary()
	for i, h := range v.Headers {
		name, value, _ := strings.Cut(h, ": ")
		v.Headers[i] = canonical(name) + ": " + value
		if d.settings.Version != "" && strings.EqualFold(name, d.settings.Version) {
			v.Version = strings.TrimSpace(value)
		}
	}
}

var _ contender.Crewed = (*driver)(nil)
