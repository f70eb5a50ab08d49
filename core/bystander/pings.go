package bystander

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strconv"
	"sync"
	"time"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/shots"
)

// Pings asks workers for a sign of life, over lines on which they send back whatever they are sent. Its methods may be
// called from anywhere.
type Pings struct {
	clock *clock.Clock

	mu    sync.Mutex
	lines []*line // of workers that are there
	next  int
}

// NewPings makes one that knows no worker yet.
func NewPings(clk *clock.Clock) *Pings { return &Pings{clock: clk} }

// line leads to one worker.
type line struct {
	conn    net.Conn
	writing sync.Mutex // of the connection; the other one is not held meanwhile, since answers come in

	mu     sync.Mutex
	last   uint64
	asked  map[uint64]chan time.Duration // by number: when the answer came
	closed bool
}

// Take has a worker asked from now on, until the other end closes the line or what follows on it cannot be read.
func (p *Pings) Take(conn net.Conn) {
	l := &line{conn: conn, asked: map[uint64]chan time.Duration{}}
	p.mu.Lock()
	p.lines = append(p.lines, l)
	p.mu.Unlock()
	go func() {
		l.listen(p.clock)
		p.mu.Lock()
		p.lines = slices.DeleteFunc(p.lines, func(one *line) bool { return one == l })
		p.mu.Unlock()
	}()
}

// longestPing is that of a line that is sent back, its end included.
const longestPing = 32

// listen hands answers to those who wait for them. What is no number that was asked is passed over.
func (l *line) listen(clk *clock.Clock) {
	defer l.close()
	in := bufio.NewReaderSize(l.conn, longestPing)
	for {
		text, err := in.ReadSlice('\n')
		if err != nil {
			return
		}
		at := clk.Now()
		n, err := strconv.ParseUint(string(text[:len(text)-1]), 10, 64)
		if err != nil {
			continue
		}
		l.mu.Lock()
		if waits := l.asked[n]; waits != nil {
			waits <- at
			delete(l.asked, n)
		}
		l.mu.Unlock()
	}
}

func (l *line) close() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.closed = true
	l.conn.Close()
	for n, waits := range l.asked {
		close(waits)
		delete(l.asked, n)
	}
}

// ask sends a number; what it returns hears when it has come back, and is closed where it cannot any more.
func (l *line) ask() (number uint64, answered <-chan time.Duration, err error) {
	waits := make(chan time.Duration, 1)
	l.mu.Lock()
	closed := l.closed
	l.last++
	number = l.last
	l.asked[number] = waits
	l.mu.Unlock()
	if closed {
		l.forget(number)
		return 0, nil, io.ErrClosedPipe
	}
	l.writing.Lock()
	defer l.writing.Unlock()
	l.conn.SetWriteDeadline(time.Now().Add(contactLimit))
	if _, err := l.conn.Write(append(strconv.AppendUint(nil, number, 10), '\n')); err != nil {
		l.forget(number)
		return 0, nil, err
	}
	return number, waits, nil
}

func (l *line) forget(number uint64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.asked, number)
}

// Clients makes n clients that each ask once a shot; of several workers one after another.
func (p *Pings) Clients(n int) (out []contender.Client) {
	for range n {
		out = append(out, pinger{p})
	}
	return out
}

type pinger struct{ *Pings }

var errNoWorker = errors.New("no worker is there to be asked")

// Shoot asks for a sign of life and waits for it.
func (p pinger) Shoot(ctx context.Context, shot *shots.Shot) {
	shot.Start = p.clock.Now()
	shot.Class, shot.Err = p.ask(ctx, shot)
	if shot.Class != shots.OK {
		shot.End = p.clock.Now()
	}
}

func (p pinger) ask(ctx context.Context, shot *shots.Shot) (shots.Class, error) {
	p.mu.Lock()
	if len(p.lines) == 0 {
		p.mu.Unlock()
		return shots.Refused, errNoWorker
	}
	p.next++
	l := p.lines[p.next%len(p.lines)]
	p.mu.Unlock()
	number, answered, err := l.ask()
	if err != nil {
		return shots.Reset, fmt.Errorf("ping the worker: %w", err)
	}
	defer l.forget(number)
	limit := time.NewTimer(contactLimit)
	defer limit.Stop()
	select {
	case at, ok := <-answered:
		if !ok {
			return shots.Reset, errors.New("ping the worker: it has closed the line")
		}
		shot.End = at
		return shots.OK, nil
	case <-ctx.Done():
		return shots.Cut, ctx.Err()
	case <-limit.C:
		return shots.Timeout, fmt.Errorf("ping the worker: no answer within %s", contactLimit)
	}
}

// Rewind does nothing: all are alike.
func (p pinger) Rewind() {}

// Close does nothing: the line stays for as long as the worker does.
func (p pinger) Close() {}
