package weighin_test

import (
	"context"
	"errors"
	"time"

	"paceduel/core/contender"
	"paceduel/core/shots"
	"paceduel/internal/sample"
)

// fixed is a driver whose every shot ends in one class.
type fixed struct{ class shots.Class }

func (f fixed) Client(int, int) contender.Client { return fixedClient(f) }
func (f fixed) Close() error                     { return nil }

type fixedClient struct{ class shots.Class }

func (f fixedClient) Shoot(_ context.Context, s *shots.Shot) {
	s.Class, s.Err = f.class, errors.New("it went wrong")
}
func (f fixedClient) Rewind() {}
func (f fixedClient) Close()  {}

// saying is a driver whose every shot answers the same text.
type saying struct{ body string }

// holding is a driver whose shots take long, and that tells its memory where it is asked to.
type holding struct{}

func (holding) Client(int, int) contender.Client { return &holdingClient{} }
func (holding) Close() error                     { return nil }

type holdingClient struct{}

func (*holdingClient) Shoot(_ context.Context, shot *shots.Shot) {
	shot.End = shot.Start + 3*time.Second
	if shot.Measure {
		shot.Count(sample.Shape.Amount(shots.Memory), 7<<20)
	}
}
func (*holdingClient) Rewind() {}
func (*holdingClient) Close()  {}

func (s saying) Client(int, int) contender.Client { return sayingClient(s) }
func (s saying) Close() error                     { return nil }

type sayingClient struct{ body string }

func (s sayingClient) Shoot(_ context.Context, shot *shots.Shot) {
	shot.View.Outcome, shot.View.Body, shot.View.Bytes = "done", []byte(s.body), int64(len(s.body))
}
func (s sayingClient) Rewind() {}
func (s sayingClient) Close()  {}
