package weighin

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os/exec"
	"strings"
	"time"

	"paceduel/core/keeper"
	"paceduel/core/launch"
	"paceduel/core/units"
)

// throughLimit is how long a filter may take for one answer.
const throughLimit = 30 * time.Second

// refine has the rules look at what the plan's filter makes of an answer. A filter that fails is told of the answer,
// which then is not the same work: nothing can be said for it.
func (a *Answer) refine(ctx context.Context, f filter) {
	if f.line == "" {
		return
	}
	a.through = f.line
	body, err := f.through(ctx, a.Name, a.raw)
	if err != nil {
		a.Body, a.unread = nil, err.Error()
		return
	}
	a.Body = body
	if len(body) >= maxCompared {
		a.Whole = false
	}
}

// filter is a shell line that a contender's answers are put through, in the plan's folder, at the contender's place.
type filter struct {
	line, dir string
	at        launch.Place
}

// through runs the filter on an answer and returns what it prints. It belongs to no timing, and ends with us and with
// ctx.
func (f filter) through(ctx context.Context, contender string, answer []byte) ([]byte, error) {
	k, err := keeper.Shared()
	if err != nil {
		return nil, err
	}
	seat, err := k.Seat()
	if err != nil {
		return nil, err
	}
	defer seat.Release()
	limited, cancel := context.WithTimeout(ctx, throughLimit)
	defer cancel()
	mark := keeper.NewMark()
	out, said := capped{most: maxCompared}, capped{most: 1 << 10}
	cmd := exec.CommandContext(limited, "/bin/sh", "-c", f.line)
	cmd.Dir, cmd.Env = f.dir, launch.Environment(f.dir, string(mark), "PACEDUEL_CONTENDER="+contender)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = bytes.NewReader(answer), &out, &said
	cmd.WaitDelay = time.Second // for whoever holds on to its output
	if err := launch.Start(cmd, f.at, seat); err != nil {
		return nil, err
	}
	err = cmd.Wait()
	k.EndAllAdopted(mark)
	var exit *exec.ExitError
	switch {
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case limited.Err() != nil:
		return nil, fmt.Errorf("not done after %s, ended", throughLimit)
	case errors.As(err, &exit):
		why := strings.Replace(exit.Error(), "exit status", "exit code", 1)
		if words := strings.TrimSpace(units.Printable(strings.ToValidUTF8(said.String(), "·"))); words != "" {
			why += ": " + words
		}
		return nil, errors.New(why)
	case err != nil:
		return nil, err
	}
	return out.Bytes(), nil
}

// capped keeps the first bytes that are written to it and lets the rest go, so that whoever writes never waits.
type capped struct {
	bytes.Buffer
	most int
}

func (c *capped) Write(p []byte) (int, error) {
	c.Buffer.Write(p[:min(len(p), c.most-c.Len())])
	return len(p), nil
}
