package query

import (
	"context"
	"sync"
	"time"
)

// pool is a number of places for connections, which clients share. Whoever comes gets the connection that was used
// last, so that no more are opened than are needed at once.
type pool struct {
	places chan struct{} // a token for each that is free
	mu     sync.Mutex
	idle   []*session // the latest last
}

func newPool(n int) *pool {
	p := &pool{places: make(chan struct{}, n)}
	for range n {
		p.places <- struct{}{}
	}
	return p
}

// get takes a place, and the connection that has it: nil where one is to be opened for it. It waits for as long as it
// may.
func (p *pool) get(ctx context.Context, until time.Time) (s *session, waited bool, err error) {
	select {
	case <-p.places:
		return p.latest(), false, nil
	default:
	}
	timer := time.NewTimer(time.Until(until))
	defer timer.Stop()
	select {
	case <-p.places:
		return p.latest(), true, nil
	case <-ctx.Done():
		return nil, true, ctx.Err()
	case <-timer.C:
		return nil, true, errNoneFree
	}
}

func (p *pool) latest() (s *session) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if n := len(p.idle); n > 0 {
		s, p.idle = p.idle[n-1], p.idle[:n-1]
	}
	return s
}

// put gives a place back, with its connection unless that is nil.
func (p *pool) put(s *session) {
	if s != nil {
		p.mu.Lock()
		p.idle = append(p.idle, s)
		p.mu.Unlock()
	}
	p.places <- struct{}{}
}

// take removes the connections that nobody uses.
func (p *pool) take() (all []*session) {
	p.mu.Lock()
	defer p.mu.Unlock()
	all, p.idle = p.idle, nil
	return all
}
