package weighin_test

import (
	"context"
	"errors"

	"paceduel/core/contender"
)

// fixed is a driver whose every shot ends in one class.
type fixed struct{ class contender.Class }

func (f fixed) Client(int, int) contender.Client { return fixedClient(f) }
func (f fixed) Close() error                     { return nil }

type fixedClient struct{ class contender.Class }

func (f fixedClient) Shoot(_ context.Context, s *contender.Shot) {
	s.Class, s.Err = f.class, errors.New("it went wrong")
}
func (f fixedClient) Rewind() {}
func (f fixedClient) Close()  {}
