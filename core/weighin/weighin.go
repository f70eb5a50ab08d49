// Package weighin is the check before any timing: one full shot of each contender, with what it answered in view.
//
// A contender that cannot be started, is refused or answers wrongly is named here in plain words with what to try, so
// that no failure is ever timed as a fast run. It judges nothing beyond that.
package weighin

import (
	"context"
	"errors"
	"fmt"
	"unicode/utf8"

	"paceduel/core/contender"
	"paceduel/core/result"
	"paceduel/core/units"
)

// maxKept bounds what of an answer goes into the result; more of it is no use to a reader there.
const maxKept = 4 << 10

// FailedError says which contenders did not pass.
type FailedError struct {
	Names []string // in the order of the plan
	First string   // the first one's trouble, in words
}

func (e *FailedError) Error() string {
	return fmt.Sprintf("%s did not pass the weigh-in: %s", units.List(e.Names), e.First)
}

// IsFailed reports whether err is a contender's failure at the weigh-in.
func IsFailed(err error) bool {
	var failed *FailedError
	return errors.As(err, &failed)
}

// Touch performs the one shot of e. mask hides values of the environment in whatever is kept. The shot's trouble, if
// any, is in the Touch; Passed tells.
func Touch(ctx context.Context, e contender.Entry, mask func(string) string) *result.Touch {
	if e.Err != nil {
		return &result.Touch{Class: contender.NoStart.String(), Err: mask(e.Err.Error()), Try: advice(contender.NoStart)}
	}
	c := e.Driver.Client(0, 1)
	defer c.Close()
	view := &contender.View{}
	shot := contender.Shot{View: view}
	c.Shoot(ctx, &shot)
	t := &result.Touch{
		Class: shot.Class.String(), Outcome: view.Outcome, Latency: shot.Latency(), Bytes: view.Bytes, Received: shot.Received,
		Type: view.Type, Body: mask(readable(view.Body)), Stderr: mask(readable(view.Stderr)),
	}
	for _, h := range view.Headers {
		t.Headers = append(t.Headers, mask(h))
	}
	if shot.Err != nil {
		t.Err, t.Try = mask(shot.Err.Error()), advice(shot.Class)
	}
	return t
}

// Passed reports whether the shot went well.
func Passed(t *result.Touch) bool { return t != nil && t.Class == contender.OK.String() }

// readable cuts a body to what is kept and makes it printable.
func readable(body []byte) string {
	if len(body) > maxKept {
		body = body[:maxKept]
		for len(body) > 0 && !utf8.RuneStart(body[len(body)-1]) {
			body = body[:len(body)-1]
		}
		if n := len(body); n > 0 && body[n-1] >= utf8.RuneSelf {
			body = body[:n-1]
		}
	}
	if !utf8.Valid(body) {
		return fmt.Sprintf("% x", body[:min(len(body), 256)])
	}
	return string(body)
}

// advice is what to try first.
func advice(c contender.Class) string {
	switch c {
	case contender.NoStart:
		return "check the program's name and folder in the plan, and that it may be executed"
	case contender.Refused:
		return "start the service, or correct host and port in the plan"
	case contender.Reset:
		return "see the service's own log: it closed the connection before it had answered"
	case contender.Timeout:
		return "see whether it hangs; if it is only slow, raise timeout: in the plan"
	case contender.TLS:
		return "check http against https and the server's certificate"
	case contender.Status:
		return "correct the request, or set expect: to the status that a good answer has"
	case contender.Length:
		return "raise max-body: if such a long answer is wanted"
	case contender.Exit:
		return "run it by hand from the same folder, or set expect: to the exit code of a good run"
	case contender.Signal:
		return "run it by hand from the same folder: it crashes before any timing"
	}
	return "try the same by hand"
}
