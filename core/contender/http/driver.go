package http

import (
	"bytes"
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/textproto"
	"os"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/plan"
)

// Kind is this kind's registration.
var Kind = contender.Kind{
	Kind: plan.Kind{Name: "http", Doc: "a request to a server that speaks HTTP", New: New},
	Open: func(s contender.Setup, settings plan.Settings) (contender.Driver, error) {
		return open(s, settings.(*Settings))
	},
}

func canonical(name string) string { return textproto.CanonicalMIMEHeaderKey(name) }

// driver holds what all clients of a contender share; it is not modified after open.
type driver struct {
	settings *Settings
	clock    *clock.Clock
	requests []request // at least one
}

func open(setup contender.Setup, s *Settings) (*driver, error) {
	t, err := s.readRows(cmp.Or(setup.PlanDir, setup.Dir)) // rows are the plan's, not the workspace's
	if err != nil {
		return nil, fmt.Errorf("read rows: %w", err)
	}
	requests, err := s.render(t, setup.Port)
	if err != nil {
		return nil, fmt.Errorf("prepare requests: %w", err)
	}
	return &driver{settings: s, clock: setup.Clock, requests: requests}, nil
}

func (d *driver) Close() error { return nil }

func (d *driver) Client(i, n int) contender.Client {
	if d.settings.Path == "lean" {
		return &leanClient{d: d}
	}
	c := &client{d: d, first: i, step: max(n, 1), buf: make([]byte, 64<<10)}
	c.Rewind()
	c.transport = &http.Transport{
		DialContext:         c.dial,
		DisableCompression:  true, // an answer is taken as it was asked for
		DisableKeepAlives:   d.settings.Connections == "new",
		MaxIdleConnsPerHost: 1,
		TLSNextProto:        map[string]func(string, *tls.Conn) http.RoundTripper{}, // HTTP/1.1 only
		WriteBufferSize:     16 << 10,
		ReadBufferSize:      64 << 10,
	}
	return c
}

// client asks over at most one connection at a time. Client i of n takes rows i, i+n, i+2n and so on, so that no
// counter is shared.
type client struct {
	d           *driver
	transport   *http.Transport
	first, step int
	next        int
	buf         []byte

	// Written by the connection's goroutines, read between shots.
	dialled   atomic.Int64 // nanoseconds spent connecting since the shot began
	sent      atomic.Int64
	received  atomic.Int64
	firstByte atomic.Int64 // clock offset; 0: none yet
}

func (c *client) Rewind() { c.next = c.first % len(c.d.requests) }

func (c *client) Close() { c.transport.CloseIdleConnections() }

func (c *client) dial(ctx context.Context, network, address string) (net.Conn, error) {
	start := c.d.clock.Now()
	conn, err := (&net.Dialer{}).DialContext(ctx, network, address)
	c.dialled.Add(int64(c.d.clock.Now() - start))
	if err != nil {
		return nil, err
	}
	return &countedConn{Conn: conn, c: c}, nil
}

// countedConn counts a connection's bytes and stamps the first that come back.
type countedConn struct {
	net.Conn
	c *client
}

func (n *countedConn) Write(p []byte) (int, error) {
	n.c.sent.Add(int64(len(p))) // before, since the answer may be read before Write returns
	written, err := n.Conn.Write(p)
	n.c.sent.Add(int64(written - len(p)))
	return written, err
}

func (n *countedConn) Read(p []byte) (int, error) {
	read, err := n.Conn.Read(p)
	if read > 0 {
		n.c.received.Add(int64(read))
		n.c.firstByte.CompareAndSwap(0, int64(n.c.d.clock.Now()))
	}
	return read, err
}

// Shoot performs one request and reads its answer to the end.
func (c *client) Shoot(ctx context.Context, shot *contender.Shot) {
	r := &c.d.requests[c.next]
	shot.Row = c.next
	c.next = (c.next + c.step) % len(c.d.requests)
	c.dialled.Store(0)
	c.sent.Store(0)
	c.received.Store(0)
	c.firstByte.Store(0)
	shot.Start = c.d.clock.Now() // before the limit starts to count, so that a timeout lasts at least as long
	limited, cancel := context.WithTimeout(ctx, c.d.settings.Timeout.D())
	defer cancel()
	request := c.d.request(limited, r)
	answer, err := c.transport.RoundTrip(request)
	var length int64
	if err == nil {
		length, err = c.read(answer, shot)
		answer.Body.Close()
	}
	shot.End = c.d.clock.Now()
	shot.Connect = time.Duration(c.dialled.Load())
	shot.Sent, shot.Received = c.sent.Load(), c.received.Load()
	if at := c.firstByte.Load(); at > 0 {
		shot.FirstByte = time.Duration(at) - shot.Start
	}
	shot.Length = length
	c.judge(ctx, limited, answer, length, err, shot)
	if shot.View != nil && answer != nil {
		c.describe(answer, length, shot.View)
	}
}

func (d *driver) request(ctx context.Context, r *request) *http.Request {
	request := (&http.Request{Method: d.settings.Method, URL: r.url, Header: r.headers, Host: r.host, ProtoMajor: 1, ProtoMinor: 1}).WithContext(ctx)
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
func (c *client) read(answer *http.Response, shot *contender.Shot) (length int64, err error) {
	for {
		into, kept := c.into(shot)
		n, err := answer.Body.Read(into)
		length += int64(n)
		if kept {
			shot.View.Body = shot.View.Body[:len(shot.View.Body)+n]
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

// into is where the next part of the body is read to: where the answer is kept, as far as there is room, so that keeping
// it costs no copying. Making room is no part of the latency.
func (c *client) into(shot *contender.Shot) (buf []byte, kept bool) {
	v := shot.View
	if v == nil || len(v.Body) >= v.Room() {
		return c.buf, false
	}
	if cap(v.Body)-len(v.Body) < leastRoom {
		began := c.d.clock.Now()
		v.Body = slices.Grow(v.Body, max(len(v.Body), len(c.buf)))
		shot.Aside += c.d.clock.Now() - began
	}
	end := min(cap(v.Body), len(v.Body)+len(c.buf), v.Room())
	return v.Body[len(v.Body):end], true
}

func (c *client) judge(ctx, limited context.Context, answer *http.Response, length int64, err error, shot *contender.Shot) {
	switch {
	case err != nil && ctx.Err() != nil:
		shot.Class, shot.Err = contender.Cut, ctx.Err()
	case err != nil && limited.Err() != nil:
		shot.Class = contender.Timeout
		shot.Err = fmt.Errorf("no full answer from %s after %s (%d bytes of body read)", c.d.requests[0].url.Host, c.d.settings.Timeout.D(), length)
	case err != nil:
		shot.Class, shot.Err = classify(err), err
		if shot.Class == contender.Refused {
			shot.Err = fmt.Errorf("nobody listens on %s: %w", c.d.requests[0].url.Host, err)
		}
		if errors.Is(err, errTooLong) {
			shot.Err = fmt.Errorf("%w of %d bytes", err, int64(c.d.settings.MaxBody))
		}
	default:
		if shot.Err = c.d.status(answer.StatusCode, answer.Status); shot.Err != nil {
			shot.Class = contender.Status
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

func classify(err error) contender.Class {
	var unverified *tls.CertificateVerificationError
	var record tls.RecordHeaderError
	var alert tls.AlertError
	switch {
	case errors.Is(err, errTooLong), errors.Is(err, io.ErrUnexpectedEOF):
		return contender.Length
	case errors.Is(err, syscall.ECONNREFUSED):
		return contender.Refused
	case errors.As(err, &unverified), errors.As(err, &record), errors.As(err, &alert), strings.HasPrefix(err.Error(), "tls: "), strings.Contains(err.Error(), "server gave HTTP response to HTTPS client"):
		return contender.TLS
	case errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE), errors.Is(err, io.EOF), strings.Contains(err.Error(), "server closed idle connection"):
		return contender.Reset
	case errors.Is(err, os.ErrDeadlineExceeded):
		return contender.Timeout
	}
	return contender.Other
}

func (c *client) describe(answer *http.Response, length int64, v *contender.View) {
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
