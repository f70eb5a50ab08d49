package lean

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"syscall"
	"time"

	"paceduel/core/contender"
	"paceduel/core/shots"
)

// Opened is a connection with what it cost to open.
type Opened struct {
	net.Conn
	Lookup, Dial, TLS time.Duration
	// Gone reports whether the server has closed it.
	Gone func() bool
	// Bytes takes what went over the wire since it was last asked, which may be more than what was written and read.
	Bytes func() (sent, received int64)
}

// Client asks over one connection at a time from the goroutine that calls it, which may block: for connections that a
// crew cannot watch, since they are more than a socket (TLS), and for whoever is compared with them.
type Client struct {
	cfg    *Config
	dial   func(context.Context) (Opened, error)
	first  int
	step   int
	row    int
	conn   Opened // Conn nil: none
	answer answer
	times  Times // of the shot at hand
	buf    []byte
	ctx    context.Context // whose end hurries the connection
	forget func() bool
}

// NewClient makes the i-th of n clients.
func NewClient(cfg *Config, dial func(context.Context) (Opened, error), i, n int) *Client {
	c := &Client{cfg: cfg, dial: dial, first: i % len(cfg.Requests), step: max(n, 1), buf: make([]byte, 64<<10)}
	c.Rewind()
	return c
}

// Rewind makes the next shot use the client's first request again.
func (c *Client) Rewind() { c.row = c.first }

// Close closes the connection; it may be called twice.
func (c *Client) Close() { c.hangUp() }

func (c *Client) hangUp() {
	if c.forget != nil {
		c.forget()
		c.forget, c.ctx = nil, nil
	}
	if c.conn.Conn != nil {
		c.conn.Close()
		c.conn = Opened{}
	}
}

// Shoot performs one request and reads its answer to the end.
func (c *Client) Shoot(ctx context.Context, shot *shots.Shot) {
	row := c.row
	c.row = (c.row + c.step) % len(c.cfg.Requests)
	c.Ask(ctx, row, shot)
}

// Ask is Shoot for a given row.
func (c *Client) Ask(ctx context.Context, row int, shot *shots.Shot) {
	shot.Row = row
	request := &c.cfg.Requests[row]
	if c.cfg.Sample != nil {
		if r := c.cfg.Sample(row, shot); r != nil {
			request = r
		}
	}
	c.AskFor(ctx, request, shot)
}

// AskFor is Shoot for a request of the caller's.
func (c *Client) AskFor(ctx context.Context, request *Request, shot *shots.Shot) {
	c.answer.begin(request.IsHead, shot.View)
	c.times = Times{}
	shot.Start = c.cfg.Clock.Now()
	if c.conn.Conn != nil && c.conn.Gone() {
		c.hangUp()
		c.times.Replaced++
	}
	class, err := c.attempt(ctx, request, shot)
	shot.End = c.cfg.Clock.Now()
	c.count(shot)
	if ctx.Err() != nil { // whatever came: it may be what the server says to a client that hangs up
		class, err = shots.Cut, ctx.Err()
	}
	if err == nil {
		if err = c.cfg.status(request, c.answer.status, c.answer.reason); err != nil {
			class = shots.Status
		}
	}
	shot.Class, shot.Err, shot.Length, shot.Told = class, err, c.answer.length, c.answer.marks.List()
	c.times.Enter(shot)
	if shot.View != nil && c.answer.inBody {
		c.answer.describe()
	}
	if !c.cfg.Keep || c.answer.close || class.Failed() && class != shots.Status || class == shots.Cut {
		c.hangUp()
	}
}

func (c *Client) count(shot *shots.Shot) {
	if c.conn.Conn != nil {
		sent, received := c.conn.Bytes()
		shot.Sent += sent
		shot.Received += received
	}
}

// past is long ago: a deadline that ends whatever is waited for.
var past = time.Unix(1, 0)

// attempt asks once, over the kept connection or a new one.
func (c *Client) attempt(ctx context.Context, request *Request, shot *shots.Shot) (shots.Class, error) {
	if c.conn.Conn == nil {
		if class, err := c.open(ctx, request, shot); err != nil {
			return class, err
		}
	}
	conn := c.conn.Conn
	if c.ctx != ctx {
		if c.forget != nil {
			c.forget()
		}
		c.ctx, c.forget = ctx, context.AfterFunc(ctx, func() { conn.SetDeadline(past) })
	}
	left := c.cfg.timeout(request) - (c.cfg.Clock.Now() - shot.Start)
	if err := conn.SetDeadline(time.Now().Add(left)); err != nil {
		return shots.Reset, err
	}
	if ctx.Err() != nil {
		return shots.Cut, ctx.Err() // it may have ended before the limit above was set
	}
	if _, err := conn.Write(request.Wire); err != nil {
		return c.failed(request, err)
	}
	c.times.Asked = c.cfg.Clock.Now() - shot.Start
	for {
		n, err := conn.Read(c.buf)
		if n > 0 {
			if c.times.FirstByte == 0 {
				c.times.FirstByte = max(c.cfg.Clock.Now()-shot.Start, 1)
			}
			rest, broken := c.answer.take(c.buf[:n])
			switch {
			case broken != nil:
				return unreadable(c.cfg.Host, broken)
			case c.answer.length > c.cfg.maxBody(request):
				return shots.Length, fmt.Errorf("answer longer than max-body of %d bytes", c.cfg.maxBody(request))
			case c.answer.complete:
				if len(rest) > 0 {
					c.answer.close = true // what nobody asked for would be taken for the next answer
				}
				return shots.OK, nil
			}
		}
		switch {
		case err == nil:
		case !errors.Is(err, io.EOF):
			return c.failed(request, err)
		case c.times.FirstByte == 0:
			return shots.Reset, fmt.Errorf("%s closed the connection without an answer: %w", c.cfg.Host, err)
		default:
			if err := c.answer.closed(); err != nil {
				return shots.Length, err
			}
			return shots.OK, nil
		}
	}
}

// open opens a connection for the shot at hand.
func (c *Client) open(ctx context.Context, request *Request, shot *shots.Shot) (shots.Class, error) {
	limited, cancel := context.WithTimeout(ctx, c.cfg.timeout(request))
	defer cancel()
	conn, err := c.dial(limited)
	if err != nil {
		if limited.Err() != nil {
			return shots.Timeout, fmt.Errorf("no connection to %s after %s: %w", c.cfg.Host, c.cfg.timeout(request), err)
		}
		return c.failed(request, err)
	}
	c.conn = conn
	c.times.Lookup += conn.Lookup
	c.times.TLS += conn.TLS
	c.times.Connect += conn.Lookup + conn.Dial + conn.TLS
	return shots.OK, nil
}

// failed sorts an error of the connection.
func (c *Client) failed(request *Request, err error) (shots.Class, error) {
	var unverified *tls.CertificateVerificationError
	var record tls.RecordHeaderError
	var alert tls.AlertError
	var op *net.OpError
	switch {
	case errors.Is(err, os.ErrDeadlineExceeded):
		return shots.Timeout, fmt.Errorf(
			"no full answer from %s after %s (%d bytes of body read)", c.cfg.Host, c.cfg.timeout(request), c.answer.length,
		)
	case errors.Is(err, syscall.ECONNREFUSED):
		return shots.Refused, fmt.Errorf("nothing listens on %s: %w", c.cfg.Host, err)
	case errors.As(err, &unverified), errors.As(err, &record), errors.As(err, &alert):
		return shots.TLS, err
	case errors.Is(err, io.ErrUnexpectedEOF):
		return shots.Length, err
	case errors.Is(
		err, syscall.ECONNRESET,
	), errors.Is(err, syscall.EPIPE), errors.Is(err, io.EOF), errors.Is(err, net.ErrClosed):
		return shots.Reset, err
	case errors.As(err, &op) && op.Op == "remote error":
		return shots.TLS, err // an alert of the other side
	}
	if contender.IsOwnLimit(err) {
		return shots.Limits, err
	}
	return shots.Other, err
}

var _ contender.Client = (*Client)(nil)
