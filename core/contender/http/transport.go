package http

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"paceduel/core/clock"
	"paceduel/core/files"
	"paceduel/core/guard"
	"paceduel/core/plan"
)

// line is one connection: what it cost to open, and the bytes that went over it since they were last taken.
type line struct {
	net.Conn
	opening
	from           *dialer
	gone           func() bool  // whether the other side has closed it
	used           atomic.Int64 // when its last shot ended, on the clock
	sent, received atomic.Int64
	written        atomic.Int64 // since it was opened
}

// opening is what a connection cost before its first request.
type opening struct{ lookup, dial, tls time.Duration }

func (o opening) total() time.Duration { return o.lookup + o.dial + o.tls }

func (l *line) Write(p []byte) (int, error) {
	l.written.Add(int64(len(p)))
	l.sent.Add(int64(len(p))) // before, since the answer may be read before Write returns
	written, err := l.Conn.Write(p)
	if short := int64(written - len(p)); short != 0 {
		l.sent.Add(short)
		l.written.Add(short)
	}
	return written, err
}

func (l *line) Read(p []byte) (int, error) {
	read, err := l.Conn.Read(p)
	if read > 0 {
		l.received.Add(int64(read))
	}
	return read, err
}

// watch returns what tells, in one system call, whether the other side has closed the connection.
func (l *line) watch() func() bool {
	own, ok := l.Conn.(syscall.Conn)
	if !ok {
		return func() bool { return false }
	}
	raw, err := own.SyscallConn()
	if err != nil {
		return func() bool { return true } // it is closed on our side
	}
	var state uint8
	look := func(fd uintptr) {
		if info, err := unix.GetsockoptTCPInfo(int(fd), unix.IPPROTO_TCP, unix.TCP_INFO); err == nil {
			state = info.State
		}
	}
	return func() bool {
		state = unix.BPF_TCP_ESTABLISHED
		return raw.Control(look) != nil || state != unix.BPF_TCP_ESTABLISHED
	}
}

// lineOf finds the line that a connection goes over; nil when it is none of ours.
func lineOf(conn net.Conn) *line {
	for {
		switch c := conn.(type) {
		case *line:
			return c
		case interface{ NetConn() net.Conn }:
			conn = c.NetConn()
		default:
			return nil
		}
	}
}

// dialer opens connections and times what that takes. It knows all that it opened, so that none outlives it.
type dialer struct {
	clock *clock.Clock
	guard guard.Guard
	tls   *tls.Config
	http2 bool
	probe *probe        // of the one client that it is for; nil where there are several
	limit time.Duration // of opening a connection; 0: the context's

	mu   sync.Mutex
	open map[*line]bool
}

// close closes every connection that is open.
func (d *dialer) close() {
	d.mu.Lock()
	lines := slices.Collect(maps.Keys(d.open))
	d.mu.Unlock()
	for _, l := range lines {
		l.Close()
	}
}

// Close closes the connection and has its dialer forget it.
func (l *line) Close() error {
	l.from.mu.Lock()
	delete(l.from.open, l)
	l.from.mu.Unlock()
	return l.Conn.Close()
}

// dial opens a connection in clear.
func (d *dialer) dial(ctx context.Context, network, address string) (net.Conn, error) {
	l, err := d.connect(ctx, network, address)
	if err != nil {
		return nil, err // a nil *line is no nil net.Conn
	}
	return l, nil
}

func (d *dialer) connect(ctx context.Context, network, address string) (*line, error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	if d.probe != nil && d.probe.twice.Load() {
		return nil, errTwice
	}
	if d.limit > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, d.limit)
		defer cancel()
	}
	began := d.clock.Now()
	addresses, err := d.guard.Addresses(ctx, host, port)
	if err != nil {
		return nil, err
	}
	l := &line{from: d}
	l.lookup = max(d.clock.Now()-began, 1)
	began = d.clock.Now()
	if l.Conn, err = guard.Dial(ctx, network, addresses); err != nil {
		return nil, err
	}
	l.opening.dial = max(d.clock.Now()-began, 1)
	l.gone = l.watch()
	d.mu.Lock()
	if d.open == nil {
		d.open = map[*line]bool{}
	}
	d.open[l] = true
	d.mu.Unlock()
	return l, nil
}

// errNoHTTP2 is a server that was asked for HTTP/2 and would not.
var errNoHTTP2 = errors.New("the server does not speak HTTP/2 over TLS; set protocol: http1")

// dialTLS opens a connection over TLS.
func (d *dialer) dialTLS(ctx context.Context, network, address string) (net.Conn, error) {
	l, err := d.connect(ctx, network, address)
	if err != nil {
		return nil, err
	}
	config := d.tls
	if config.ServerName == "" {
		host, _, _ := net.SplitHostPort(address) // open has split it before
		config = config.Clone()
		config.ServerName = host
	}
	began := d.clock.Now()
	conn := tls.Client(l, config)
	if d.limit > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, d.limit)
		defer cancel()
	}
	if err := conn.HandshakeContext(ctx); err != nil {
		l.Close()
		if d.http2 && strings.Contains(err.Error(), "no application protocol") {
			err = errNoHTTP2
		}
		return nil, err
	}
	l.opening.tls = max(d.clock.Now()-began, 1)
	if d.http2 && conn.ConnectionState().NegotiatedProtocol != "h2" {
		conn.Close()
		return nil, errNoHTTP2
	}
	return conn, nil
}

// maxCertificates bounds a file of authorities.
const maxCertificates = 16 << 20

// config makes what crypto/tls goes by; files are looked for from dir. t may be nil.
func (t *TLS) config(dir string) (*tls.Config, error) {
	out := &tls.Config{}
	if t == nil {
		return out, nil
	}
	if t.Resume {
		out.ClientSessionCache = tls.NewLRUClientSessionCache(0)
	}
	out.InsecureSkipVerify, out.ServerName = t.Insecure, t.Name
	if t.CA != "" {
		pem, err := files.Read(within(dir, t.CA), maxCertificates)
		if err != nil {
			return nil, fmt.Errorf("read the authorities to trust: %w", err)
		}
		out.RootCAs = x509.NewCertPool()
		if !out.RootCAs.AppendCertsFromPEM(pem) {
			return nil, fmt.Errorf("%s holds no certificate in PEM", t.CA)
		}
	}
	if t.Cert != "" || t.Key != "" {
		cert, err := files.Read(within(dir, t.Cert), maxCertificates)
		if err != nil {
			return nil, fmt.Errorf("load our own certificate: %w", err)
		}
		key, err := files.Read(within(dir, t.Key), maxCertificates)
		if err != nil {
			return nil, fmt.Errorf("load the key of our own certificate: %w", err)
		}
		own, err := tls.X509KeyPair(cert, key)
		if err != nil {
			return nil, fmt.Errorf("load our own certificate: %w", err)
		}
		out.Certificates = []tls.Certificate{own}
	}
	return out, nil
}

// transport asks over HTTP, and knows its connections.
type transport struct {
	*http.Transport
	dialer  *dialer
	users   atomic.Int64 // clients that are not closed
	shared  bool         // one connection of HTTP/2 for many clients
	opening sync.Mutex
	up      atomic.Bool
}

// close ends every connection, idle or not.
func (t *transport) close() {
	t.CloseIdleConnections()
	t.dialer.close()
	t.up.Store(false)
}

// transport makes what asks over HTTP for one client, or for all that share a pool of connections.
func (d *driver) transport(connections int) (*transport, error) {
	s := d.settings
	dial := &dialer{clock: d.clock, guard: d.guard, tls: d.tls, http2: s.Protocol == http2}
	t := &transport{dialer: dial, shared: s.Protocol == http2 && s.Connections > 0, Transport: &http.Transport{
		DialContext:         dial.dial,
		DialTLSContext:      dial.dialTLS,
		TLSClientConfig:     d.tls.Clone(), // of a server behind a proxy; package http writes to it
		DisableCompression:  true,          // an answer is taken as it was asked for
		DisableKeepAlives:   s.Connections == plan.Fresh,
		MaxConnsPerHost:     connections,
		MaxIdleConnsPerHost: max(connections, 1),
		Protocols:           new(http.Protocols),
		HTTP2:               &http.HTTP2Config{StrictMaxConcurrentRequests: true},
		WriteBufferSize:     16 << 10,
		ReadBufferSize:      64 << 10,
	}}
	if s.Protocol == http2 {
		t.Protocols.SetHTTP2(true)
		t.Protocols.SetUnencryptedHTTP2(true)
	} else {
		t.Protocols.SetHTTP1(true)
	}
	if s.Proxy != "" {
		proxy, err := url.Parse(s.Proxy)
		if err != nil {
			return nil, fmt.Errorf("read the proxy's address: %w", err)
		}
		t.Proxy = func(r *http.Request) (*url.URL, error) { return proxy, d.guard.Check(r.URL.Hostname()) }
	}
	return t, nil
}
