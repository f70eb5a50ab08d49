package sample

import (
	"context"
	"errors"
	"sync/atomic"
	"time"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/plan"
	"paceduel/core/shots"
)

// Settings are those of the made-up kind "stub".
type Settings struct {
	Takes   plan.Span     `json:"takes,omitempty" jsonschema_description:"how long a shot takes"`
	Drifts  plan.Fraction `json:"drifts,omitempty" jsonschema_description:"by so large a share shots get longer each minute"`
	Each    plan.Span     `json:"each,omitempty" jsonschema_description:"how much longer a shot takes for each of them"`
	Split   plan.Span     `json:"split,omitempty" jsonschema_description:"what they share: a shot takes so much divided by them longer"`
	Of      int           `json:"of,omitempty" jsonschema_description:"how many they are; one unless said"`
	FailAll bool          `json:"fail-all,omitempty" jsonschema_description:"whether every shot fails"`
	FailAt  int           `json:"fail-at,omitempty" jsonschema_description:"the shot that fails"`
	Hang    bool          `json:"hang,omitempty" jsonschema_description:"whether shots wait for ever"`
	Answer  plan.Word     `json:"answer,omitempty" jsonschema_description:"what it answers; waited unless said"`
	Falls   int           `json:"falls,omitempty" jsonschema_description:"the shot at which the program is at fault"`
	NoOpen  plan.Word     `json:"no-open,omitempty" jsonschema_description:"why it cannot be opened"`
}

// Check implements plan.Settings.
func (*Settings) Check(plan.Surroundings) []plan.Fault { return nil }

// Summary implements plan.Settings.
func (s *Settings) Summary() string { return "wait " + s.Takes.D().String() }

// Stub is a kind of contender that only waits; under synctest it does so on the fake clock.
func Stub() contender.Kind {
	return contender.Kind{
		Kind: plan.Kind{Name: "stub", Doc: "waits", New: func() plan.Settings { return &Settings{} }},
		Open: func(s contender.Setup, settings plan.Settings) (contender.Driver, error) {
			own := settings.(*Settings)
			if own.NoOpen != "" {
				return nil, errors.New(string(own.NoOpen))
			}
			return &driver{clock: s.Clock, s: own}, nil
		},
	}
}

type driver struct {
	clock *clock.Clock
	s     *Settings
	shots atomic.Int64
}

func (d *driver) Client(int, int) contender.Client { return client{d} }
func (d *driver) Close() error                     { return nil }

type client struct{ d *driver }

func (c client) Rewind() {}
func (c client) Close()  {}

func (c client) Shoot(ctx context.Context, shot *shots.Shot) {
	shot.Start = c.d.clock.Now()
	takes, of := c.d.s.Takes.D(), max(c.d.s.Of, 1)
	takes += time.Duration(of)*c.d.s.Each.D() + c.d.s.Split.D()/time.Duration(of)
	drift := 1 + float64(c.d.s.Drifts)*shot.Start.Minutes()
	wait := time.After(time.Duration(float64(takes) * drift))
	if c.d.s.Hang && c.d.shots.Load() > 0 {
		wait = nil
	}
	select {
	case <-wait:
	case <-ctx.Done():
		shot.Class, shot.Err = shots.Cut, ctx.Err()
	}
	shot.End = c.d.clock.Now()
	n := c.d.shots.Add(1)
	if int(n) == c.d.s.Falls {
		panic("the sluice gate is not there")
	}
	if shot.Class == shots.OK && (c.d.s.FailAll || int(n) == c.d.s.FailAt) {
		shot.Class, shot.Err = shots.Status, errors.New("status 503, expected 200")
	}
	if shot.View != nil {
		answer := c.d.s.Answer
		if answer == "" {
			answer = "waited"
		}
		shot.View.Outcome, shot.View.Body, shot.View.Bytes = "done", []byte(answer), int64(len(answer))
	}
}
