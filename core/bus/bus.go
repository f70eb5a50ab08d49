// Package bus carries messages between whoever runs a duel and the agents that drive it, over NATS: a server or a
// cluster that is there, or one that is started within this program (Listen).
//
// It is the one place that knows NATS. It promises that only servers that were named are connected to, also where a
// cluster tells of others; that a link which breaks is made again, for as long as it is open; and that no handler runs
// twice at a time. A message is a few bytes up to Most; what is larger is cut up by whoever sends it. Who may send what
// to whom is decided by the server's accounts. What messages say is left to package fleet.
package bus

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/nats-io/nats.go"

	"paceduel/core/guard"
	"paceduel/core/panics"
)

// Most is how long a message may be, in bytes: less than any server takes unless it is told to.
const Most = 768 << 10

// Access is how to get onto a bus.
type Access struct {
	// URLs are one server or several of a cluster: nats://HOST:PORT or tls://HOST:PORT.
	URLs []string
	// Token is a server's secret, for those that have one.
	Token string
	// Credentials is a file with a user's JWT and seed, or with an NKey seed alone.
	Credentials string
	// CA is a file with the certificate of who signed the server's; empty: those that this machine trusts.
	CA string
	// Name is what the server calls us by.
	Name string
}

// ReadURLs reads a list of servers, separated by commas. A port that is missing is NATS's own, 4222.
func ReadURLs(text string) (out []string, err error) {
	for one := range strings.SplitSeq(text, ",") {
		one = strings.TrimSpace(one)
		if !strings.Contains(one, "://") {
			one = "nats://" + one
		}
		u, err := url.Parse(one)
		switch {
		case err != nil || u.Hostname() == "":
			return nil, fmt.Errorf("%q is no address of a bus; write nats://HOST:PORT or tls://HOST:PORT", one)
		case u.Scheme != "nats" && u.Scheme != "tls":
			return nil, fmt.Errorf("%s: a bus is at nats:// or tls://, not at %s://", u.Host, u.Scheme)
		case u.User != nil:
			return nil, fmt.Errorf("the address of the bus at %s has a secret in it; give it in %s, or with --bus-creds FILE",
				u.Host, TokenVariable)
		}
		if u.Port() == "" {
			u.Host = net.JoinHostPort(u.Hostname(), "4222")
		}
		out = append(out, u.Scheme+"://"+u.Host)
	}
	return out, nil
}

// TokenVariable is where a bus's token is taken from.
const TokenVariable = "PACEDUEL_BUS_TOKEN"

// ErrNobody says that nobody on the bus takes what was sent.
var ErrNobody = errors.New("nobody on the bus takes this")

// ErrTooLong says that a message is longer than a bus carries; it was not sent.
var ErrTooLong = fmt.Errorf("a message is longer than the %d KiB that a bus carries", Most>>10)

// ErrNotThere says that there is no server where one was looked for.
var ErrNotThere = errors.New("nobody answers there; start a server, or a run with --bus listen")

// Link is a connection to a bus. Its methods may be called from anywhere.
type Link struct {
	nc *nats.Conn

	mu   sync.Mutex
	lost time.Time // zero while it is up
	ever time.Time // when it last came back
}

// Connect opens a link. The error says which servers were tried and what came of it.
func Connect(ctx context.Context, a Access) (*Link, error) {
	opts, err := a.options()
	if err != nil {
		return nil, err
	}
	return connect(ctx, strings.Join(a.URLs, ","), opts)
}

const (
	dialLimit  = 3 * time.Second
	againAfter = 200 * time.Millisecond
	askEvery   = 2 * time.Second // whether the other side is there
)

func (a Access) options() ([]nats.Option, error) {
	var hosts []string
	for _, one := range a.URLs {
		u, err := url.Parse(one)
		if err != nil {
			return nil, fmt.Errorf("%q is no address of a bus", one)
		}
		hosts = append(hosts, u.Hostname())
	}
	opts := []nats.Option{
		nats.SetCustomDialer(dialer{guard.New(hosts)}), nats.SkipHostLookup(), nats.IgnoreDiscoveredServers(),
	}
	if a.Token != "" {
		opts = append(opts, nats.Token(a.Token))
	}
	if a.CA != "" {
		opts = append(opts, nats.RootCAs(a.CA))
	}
	if a.Name != "" {
		opts = append(opts, nats.Name(a.Name))
	}
	if a.Credentials != "" {
		text, err := os.ReadFile(a.Credentials)
		if err != nil {
			return nil, fmt.Errorf("read credentials for the bus: %w", err)
		}
		if strings.Contains(string(text), "BEGIN NATS USER JWT") {
			opts = append(opts, nats.UserCredentials(a.Credentials))
		} else {
			key, err := nats.NkeyOptionFromSeed(a.Credentials)
			if err != nil {
				return nil, fmt.Errorf("read credentials for the bus from %s: %w", a.Credentials, err)
			}
			opts = append(opts, key)
		}
	}
	return opts, nil
}

func connect(ctx context.Context, where string, opts []nats.Option) (*Link, error) {
	l := &Link{}
	opts = append(opts,
		nats.Timeout(dialLimit), nats.MaxReconnects(-1), nats.ReconnectWait(againAfter),
		nats.ReconnectJitter(againAfter/2, againAfter/2), nats.PingInterval(askEvery), nats.MaxPingsOutstanding(2),
		nats.DisconnectErrHandler(func(*nats.Conn, error) { l.is(false) }),
		nats.ReconnectHandler(func(*nats.Conn) { l.is(true) }),
	)
	type made struct {
		nc  *nats.Conn
		err error
	}
	done := make(chan made, 1)
	go func() {
		var m made
		m.err = panics.Guard("connect to the bus", func() (err error) {
			m.nc, err = nats.Connect(where,
				opts...)
			return err
		})
		done <- m
	}()
	select {
	case m := <-done:
		if m.err != nil {
			return nil, fmt.Errorf("connect to the bus at %s: %w", where, plain(m.err))
		}
		l.nc = m.nc
		return l, nil
	case <-ctx.Done():
		go func() { // it ends within its own limit
			if m := <-done; m.nc != nil {
				m.nc.Close()
			}
		}()
		return nil, ctx.Err()
	}
}

// plain puts the library's errors into our words, where they are met often.
func plain(err error) error {
	switch {
	case errors.Is(err, nats.ErrNoServers):
		return ErrNotThere
	case errors.Is(err, nats.ErrAuthorization):
		return fmt.Errorf("the server does not let us in; give its token in %s, or --bus-creds FILE", TokenVariable)
	}
	return err
}

// dialer opens connections to the servers that were named and to nobody else.
type dialer struct{ guard guard.Guard }

// Dial implements nats.CustomDialer.
func (d dialer) Dial(network, address string) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(context.Background(), dialLimit)
	defer cancel()
	return d.guard.DialContext(ctx, network, address)
}

// is notes whether the link is up.
func (l *Link) is(up bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	switch {
	case up:
		l.lost, l.ever = time.Time{}, time.Now()
	case l.lost.IsZero():
		l.lost = time.Now()
	}
}

// Away is how long the link has been broken; 0 while it is up.
func (l *Link) Away() time.Duration {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.lost.IsZero() {
		return 0
	}
	return max(time.Since(l.lost), 1)
}

// BrokeWithin reports whether the link was broken at any time in the last d.
func (l *Link) BrokeWithin(d time.Duration) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return !l.lost.IsZero() || !l.ever.IsZero() && time.Since(l.ever) < d
}

// AskLimit is how long an answer is waited for where ctx sets no limit.
const AskLimit = 10 * time.Second

// Ask sends a message and returns what is answered. The error is ErrNobody, ErrTooLong, ctx's, or says what is wrong
// with the link.
func (l *Link) Ask(ctx context.Context, subject string, body []byte) ([]byte, error) {
	if len(body) > Most {
		return nil, ErrTooLong
	}
	ctx, cancel := context.WithTimeout(ctx, AskLimit)
	defer cancel()
	m, err := l.nc.RequestWithContext(ctx, subject, body)
	switch {
	case errors.Is(err, nats.ErrNoResponders):
		return nil, ErrNobody
	case err != nil:
		return nil, err
	}
	return m.Data, nil
}

// AskAll sends a message to everybody who takes it and hands each answer to take, from this goroutine, until none has
// come for quiet or ctx ends.
func (l *Link) AskAll(
	ctx context.Context, subject string, body []byte, quiet time.Duration, take func([]byte),
) error {
	inbox := l.nc.NewInbox()
	sub, err := l.nc.SubscribeSync(inbox)
	if err != nil {
		return fmt.Errorf("listen on the bus: %w", err)
	}
	defer sub.Unsubscribe()
	if err := l.nc.PublishRequest(subject, inbox, body); err != nil {
		return fmt.Errorf("send over the bus: %w", err)
	}
	for ctx.Err() == nil {
		m, err := sub.NextMsg(quiet)
		switch {
		case errors.Is(err, nats.ErrTimeout) || errors.Is(err, nats.ErrNoResponders):
			return nil
		case err != nil:
			return fmt.Errorf("listen on the bus: %w", err)
		case len(m.Data) == 0 && m.Header.Get("Status") == "503": // nobody
			return nil
		}
		take(m.Data)
	}
	return ctx.Err()
}

// Answer has messages for a subject answered, one after the other, until stop is called, which waits for the one that
// is being answered. An answer of nil is none.
func (l *Link) Answer(subject string, answer func(body []byte) []byte) (stop func(), err error) {
	var running sync.Mutex
	stopped := false
	sub, err := l.nc.Subscribe(subject, func(m *nats.Msg) {
		running.Lock()
		defer running.Unlock()
		if stopped {
			return
		}
		var out []byte
		if err := panics.Guard("answer a message", func() error { out = answer(m.Data); return nil }); err == nil &&
			out != nil {
			m.Respond(out) // who asked asks again if this does not arrive
		}
	})
	if err == nil {
		err = l.nc.FlushTimeout(dialLimit)
	}
	if err != nil {
		return nil, fmt.Errorf("listen on the bus: %w", plain(err))
	}
	return func() {
		sub.Unsubscribe()
		if l.Away() == 0 {
			l.nc.FlushTimeout(dialLimit) // from now on who asks hears that nobody answers
		}
		running.Lock()
		defer running.Unlock()
		stopped = true
	}, nil
}

// Server is the address of the server that the link is to.
func (l *Link) Server() string { return l.nc.ConnectedUrlRedacted() }

// Traffic is how many messages and bytes went over the link, both ways.
func (l *Link) Traffic() (messages, bytes uint64) {
	s := l.nc.Stats()
	return s.InMsgs + s.OutMsgs, s.InBytes + s.OutBytes
}

// Close ends the link.
func (l *Link) Close() { l.nc.Close() }

// IsLoopback reports whether all servers are on this machine.
func IsLoopback(urls []string) bool {
	return !slices.ContainsFunc(urls, func(one string) bool {
		u, err := url.Parse(one)
		return err != nil || guard.New(nil).Check(u.Hostname()) != nil
	})
}
