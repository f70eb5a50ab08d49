package bystander

import (
	"context"
	"fmt"
	"time"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/guard"
	"paceduel/core/shots"
)

// contact opens a connection and closes it again: who does not take it up is held up.
type contact struct {
	clock   *clock.Clock
	guard   guard.Guard
	address string
}

// contactLimit is how long a connection may take.
const contactLimit = 10 * time.Second

// Contacts makes n clients that open a connection to an address for each shot.
func Contacts(clk *clock.Clock, g guard.Guard, address string, n int) (out []contender.Client) {
	for range n {
		out = append(out, &contact{clock: clk, guard: g, address: address})
	}
	return out
}

// Shoot opens a connection.
func (c *contact) Shoot(ctx context.Context, shot *shots.Shot) {
	shot.Start = c.clock.Now()
	limited, cancel := context.WithTimeout(ctx, contactLimit)
	defer cancel()
	conn, err := c.guard.DialContext(limited, "tcp", c.address)
	shot.End = c.clock.Now()
	switch {
	case err == nil:
		conn.Close()
	case ctx.Err() != nil:
		shot.Class, shot.Err = shots.Cut, ctx.Err()
	default:
		shot.Class, shot.Err = shots.Refused, fmt.Errorf("open a connection to %s: %w", c.address, err)
	}
}

// Rewind does nothing: all are alike.
func (c *contact) Rewind() {}

// Close does nothing: no connection is kept.
func (c *contact) Close() {}
