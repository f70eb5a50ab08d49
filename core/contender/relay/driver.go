package relay

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/coder/websocket"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/contender/query"
	"paceduel/core/guard"
	"paceduel/core/keeper"
	"paceduel/core/launch"
	"paceduel/core/plan"
	"paceduel/core/shots"
	"paceduel/core/units"
)

// deedName is what the deed itself is called among what a shot tells.
const deedName = "deed"

// The amounts of a relay's shots.
const (
	never = iota
	twice
	disorder
	asks
)

var shape = shots.Shape{
	Amounts: []shots.Amount{
		never:    counted("never came", "effects", "effects that never came, a deed"),
		twice:    counted("came twice", "effects", "effects that came twice, a deed"),
		disorder: counted("out of order", "effects", "effects out of order, a deed"),
		asks:     counted("asked", "times", "asked for effects, a deed"),
	},
}

func counted(name string, unit units.Unit, row string) shots.Amount {
	return shots.Amount{Name: name, Unit: unit, Row: row, Per: shots.PerShot, Site: shots.Answers}
}

// Kind is this kind's registration.
var Kind = contender.Kind{
	Kind: plan.Kind{
		Name: "relay", Doc: "something that is done, and when what it brings about is seen", New: New, Tells: true,
		Many: true, Afar: afar,
	},
	Open: func(s contender.Setup, settings plan.Settings) (contender.Driver, error) {
		return open(s, settings.(*Settings))
	},
	Shape: shape, Descriptors: 1, Processes: 2,
}

// driver holds what all clients of a contender share.
type driver struct {
	settings *Settings
	setup    contender.Setup
	clock    *clock.Clock
	http     *http.Client            // of deeds and polls
	insert   *query.Asker            // of deeds that are statements
	asking   map[string]*query.Asker // by the effects that are asked for so
	watch    *watch
	began    time.Time    // files that are older are not ours
	asleep   bool         // the state of the heat
	clients  atomic.Int64 // that are open
}

func open(setup contender.Setup, s *Settings) (*driver, error) {
	const idle = 256
	d := &driver{settings: s, setup: setup, clock: setup.Clock, http: setup.Guard.KeepingClient(idle),
		asking: map[string]*query.Asker{}, began: time.Now().Add(-coarse)}
	d.watch = newWatch(d)
	var err error
	if s.Query != nil {
		if d.insert, err = s.Query.Open(setup, s.Within, true, keyName); err != nil {
			return nil, fmt.Errorf("the deed: %w", err)
		}
	}
	for name, e := range s.Effects {
		if e.Query == nil {
			continue
		}
		if d.asking[name], err = e.Query.Open(setup, 0, false, keyName); err != nil {
			return nil, fmt.Errorf("effect %s: %w", name, err)
		}
	}
	return d, nil
}

// Client makes a client; all of them are alike.
func (d *driver) Client(int, int) contender.Client {
	d.clients.Add(1)
	return &client{d: d}
}

// left is told that a client was closed. After the last one nothing is watched any more: by the next heat folders, logs
// and databases may be others of the same name, and services have been started anew.
func (d *driver) left() {
	if d.clients.Add(-1) > 0 {
		return
	}
	d.watch.close()
	for _, a := range d.asking {
		a.Rest()
	}
	if d.insert != nil {
		d.insert.Rest()
	}
}

// Visit implements contender.Visited: in the cold state nothing happens before each deed.
func (d *driver) Visit(first bool) { d.asleep = first && d.settings.Asleep > 0 }

// Close ends the watching.
func (d *driver) Close() error {
	d.watch.close()
	d.http.CloseIdleConnections()
	if d.insert != nil {
		d.insert.Close()
	}
	for _, a := range d.asking {
		a.Close()
	}
	return nil
}

// fill puts the key of a deed, and where we listen, into a text.
func (d *driver) fill(text, key string) string {
	return strings.NewReplacer(keyMark, key, urlMark, d.watch.url()).Replace(d.setup.Fill(text))
}

// place is a path as the contender sees it.
func (d *driver) place(path, key string) string {
	path = d.fill(path, key)
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(d.setup.Dir, path)
}

// client does one deed after another.
type client struct {
	d      *driver
	marks  shots.Marks
	closed bool
}

func (c *client) Rewind() {}

func (c *client) Close() {
	if !c.closed {
		c.closed = true
		c.d.left()
	}
}

// Shoot does a deed and waits for its effects.
func (c *client) Shoot(ctx context.Context, shot *shots.Shot) {
	d, s := c.d, c.d.settings
	c.marks.Clear()
	shot.Start = d.clock.Now()
	shot.End = shot.Start
	if err := d.sleep(ctx); err != nil {
		shot.Class, shot.Err = shots.Cut, err
		return
	}
	if err := d.watch.begin(ctx); err != nil {
		shot.Class, shot.Err = classOf(ctx, err), err
		shot.End = d.clock.Now()
		return
	}
	own := d.watch.expect(s.names())
	defer d.watch.forget(own)
	shot.Start = d.clock.Now()
	limited, cancel := context.WithTimeout(ctx, s.Within.D())
	defer cancel()
	view, err := d.do(limited, own.key, shot)
	done := d.clock.Now()
	shot.End = done
	if err != nil {
		c.failed(ctx, limited, shot, err)
		c.show(shot, view, own)
		return
	}
	c.marks.AddTime([]byte(deedName), done-shot.Start)
	stop := d.ask(limited, own)
	missing := own.wait(limited, d.watch)
	stop()
	c.close(ctx, shot, own, missing)
	c.show(shot, view, own)
}

// sleep waits before a deed in the state in which nothing happens meanwhile.
func (d *driver) sleep(ctx context.Context) error {
	if d.asleep {
		pause := time.NewTimer(d.settings.Asleep.D())
		defer pause.Stop()
		select {
		case <-pause.C:
		case <-ctx.Done():
		}
	}
	return ctx.Err()
}

// failed enters why a deed was not done.
func (c *client) failed(ctx, limited context.Context, shot *shots.Shot, err error) {
	switch {
	case ctx.Err() != nil:
		shot.Class, shot.Err = shots.Cut, ctx.Err()
	case limited.Err() != nil:
		shot.Class, shot.Err = shots.Timeout, fmt.Errorf("the deed was not done within %s: %w", c.d.settings.Within.D(),
			err)
	default:
		shot.Class, shot.Err = classOf(ctx, err), fmt.Errorf("the deed: %w", err)
	}
}

// close enters when which effect came.
func (c *client) close(ctx context.Context, shot *shots.Shot, own *deed, missing []string) {
	d, s := c.d, c.d.settings
	shot.Count(asks, own.asked.Load())
	shot.Count(twice, d.watch.twice.Swap(0))
	shot.Count(disorder, d.watch.disorder.Swap(0))
	shot.End = d.clock.Now()
	if ctx.Err() != nil && len(missing) > 0 {
		shot.Class, shot.Err = shots.Cut, ctx.Err()
		return
	}
	own.mu.Lock()
	defer own.mu.Unlock()
	last := shot.Start
	for _, name := range s.names() {
		if at, came := own.came[name]; came {
			c.marks.AddTime([]byte(name), max(at-shot.Start, 0))
			last = max(last, at)
		}
	}
	shot.Count(never, int64(len(missing)))
	shot.Told = c.marks.List()
	at, came := own.came[s.Until]
	switch {
	case own.broken != nil && len(missing) > 0:
		shot.Class, shot.Err = shots.Reset, own.broken
		shot.End = d.clock.Now()
	case s.Until != "" && came:
		shot.End = at
	case s.Until != "" || len(missing) > 0:
		shot.Class = shots.Timeout
		shot.Err = fmt.Errorf("%s did not come within %s", units.List(missing), s.Within.D())
		for _, name := range missing {
			if err := own.said[name]; err != nil {
				shot.Err = fmt.Errorf("%w; %s could not be asked for: %w", shot.Err, name, err)
				break
			}
		}
	default:
		shot.End = last
	}
}

// show says what was done and seen.
func (c *client) show(shot *shots.Shot, answer []byte, own *deed) {
	v := shot.View
	if v == nil {
		return
	}
	v.Done, v.Known, v.Outcome = c.d.settings.Summary(), true, "ok"
	if shot.Err != nil {
		v.Outcome = strings.SplitN(shot.Err.Error(), "\n", 2)[0]
	}
	// A key is another each time, and where it stands in an answer says nothing of the work.
	text := bytes.ReplaceAll(answer, []byte(own.key), []byte(keyMark))
	v.Bytes, v.Body = int64(len(text)), text[:min(len(text), v.Room())]
}

// do does the deed, and returns what was answered.
func (d *driver) do(ctx context.Context, key string, shot *shots.Shot) (answer []byte, err error) {
	s := d.settings
	switch {
	case s.Request != nil:
		return d.request(ctx, key, shot)
	case s.Shell != "":
		return d.shell(ctx, d.fill(s.Shell, key), key)
	case s.Query != nil:
		answer, class, err := d.insert.Ask(ctx, key)
		if err != nil {
			err = &classed{err, class}
		}
		return answer.Text, err
	case s.Put != nil:
		text := d.fill(cmp.Or(s.Put.Text, keyMark), key)
		shot.Sent += int64(len(text))
		return nil, d.put(d.place(s.Put.File, key), text)
	}
	text := d.fill(cmp.Or(s.Send.Text, keyMark), key)
	shot.Sent += int64(len(text))
	return nil, d.watch.send(ctx, d.fill(s.Send.To, key), text)
}

// maxAnswer bounds what is read of an answer to a deed.
const maxAnswer = 1 << 20

var errStatus = errors.New("status")

func (d *driver) request(ctx context.Context, key string, shot *shots.Shot) ([]byte, error) {
	said := d.settings.Request
	body := d.fill(said.Body, key)
	r, err := http.NewRequestWithContext(ctx, d.settings.method(), d.fill(said.URL, key), strings.NewReader(body))
	if err != nil {
		return nil, err
	}
	for name, value := range said.Headers {
		r.Header.Set(name, d.fill(string(value), key))
	}
	shot.Sent += int64(len(body))
	answer, err := d.http.Do(r)
	switch {
	case errors.Is(err, io.EOF):
		return nil, fmt.Errorf("the other side closed the connection before it answered: %w", io.ErrUnexpectedEOF)
	case err != nil:
		return nil, errors.Unwrap(err)
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(io.LimitReader(answer.Body, maxAnswer))
	shot.Received += int64(len(text))
	shot.Length = int64(len(text))
	good := answer.StatusCode/100 == 2
	if said.Expect > 0 {
		good = answer.StatusCode == said.Expect
	}
	if !good {
		return text, fmt.Errorf("%w %s", errStatus, answer.Status)
	}
	return text, err
}

// shell runs a line.
func (d *driver) shell(ctx context.Context, line, key string) ([]byte, error) {
	k, err := keeper.Shared()
	if err != nil {
		return nil, err
	}
	seat, err := k.Seat()
	if err != nil {
		return nil, err
	}
	defer seat.Release()
	var out bytes.Buffer
	cmd := exec.CommandContext(ctx, "/bin/sh", "-c", line)
	cmd.Dir, cmd.Stdout = d.setup.Dir, &out
	cmd.Env = launch.Environment(d.setup.Dir, "KEY="+key, "RELAY_URL="+d.watch.url())
	const lastWords = 100 * time.Millisecond
	cmd.WaitDelay = lastWords
	if err := launch.Start(cmd, d.setup.Place(), seat); err != nil {
		return nil, err
	}
	group := cmd.Process.Pid
	err = cmd.Wait()
	keeper.EndGroup(group)
	return out.Bytes(), err
}

// coarse is how far a file's time may lie before it was written.
const coarse = 20 * time.Millisecond

// put puts a file in its place whole. What was there before the run is replaced in a workspace alone, which is ours.
func (d *driver) put(path, text string) error {
	ours := d.setup.Workspace != "" && strings.HasPrefix(path, d.setup.Workspace+string(filepath.Separator))
	if was, err := os.Lstat(path); err == nil && !ours && was.ModTime().Before(d.began) {
		return fmt.Errorf("put %s: it was there before the run, and is not replaced; take it away, or lay a workspace "+
			"(footing: { workspace: … })", path)
	}
	at := filepath.Join(filepath.Dir(path), ".paceduel-"+strconv.FormatUint(rand.Uint64(), 36))
	if err := os.WriteFile(at, []byte(text), 0o666); err != nil {
		return err
	}
	if err := os.Rename(at, path); err != nil {
		os.Remove(at)
		return err
	}
	return nil
}

// ask asks again and again for the effects that do not come by themselves, until what it returns is called.
func (d *driver) ask(ctx context.Context, own *deed) (stop func()) {
	asking, cancel := context.WithCancel(ctx)
	var wg sync.WaitGroup
	for name, e := range d.settings.Effects {
		if e.asked() {
			wg.Go(func() { d.askFor(asking, own, name, &e) })
		}
	}
	return func() { cancel(); wg.Wait() }
}

func (d *driver) askFor(ctx context.Context, own *deed, name string, e *Effect) {
	for ctx.Err() == nil {
		own.asked.Add(1)
		there, err := d.there(ctx, own.key, name, e)
		var refused *guard.RefusedError
		if errors.As(err, &refused) {
			own.fail(err)
			return
		}
		if there {
			d.watch.saw(own.number, name)
			return
		}
		var exit *exec.ExitError // a check that fails says that it is not there yet
		if ctx.Err() == nil && !errors.As(err, &exit) {
			own.heard(name, err)
		}
		pause := time.NewTimer(e.every())
		select {
		case <-pause.C:
		case <-ctx.Done():
			pause.Stop()
		}
	}
}

// there asks once whether an effect has come. What cannot be asked has not come yet.
func (d *driver) there(ctx context.Context, key, name string, e *Effect) (bool, error) {
	if e.Query != nil {
		answer, _, err := d.asking[name].Ask(ctx, key)
		return err == nil && answer.Rows > 0 && (e.Has == "" || bytes.Contains(answer.Text, []byte(e.has(key)))), err
	}
	if e.Check != "" {
		_, err := d.shell(ctx, d.fill(e.Check, key), key)
		return err == nil, err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, d.fill(e.Poll, key), nil)
	if err != nil {
		return false, err
	}
	answer, err := d.http.Do(r)
	if err != nil {
		return false, err
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(io.LimitReader(answer.Body, maxAnswer))
	return err == nil && answer.StatusCode/100 == 2 && bytes.Contains(text, []byte(e.has(key))), err
}

// classed is an error that has been sorted.
type classed struct {
	error
	class shots.Class
}

func (c *classed) Unwrap() error { return c.error }

// classOf sorts why a deed could not be done.
func classOf(ctx context.Context, err error) shots.Class {
	var exit *exec.ExitError
	var closed websocket.CloseError
	var sorted *classed
	switch {
	case ctx.Err() != nil:
		return shots.Cut
	case errors.As(err, &sorted):
		return sorted.class
	case errors.Is(err, errStatus):
		return shots.Status
	case errors.As(err, &exit):
		return shots.Exit
	case errors.As(err, &closed), errors.Is(err, io.ErrUnexpectedEOF):
		return shots.Reset
	case strings.Contains(err.Error(), "connection refused"):
		return shots.Refused
	case contender.IsOwnLimit(err):
		return shots.Limits
	}
	return shots.Other
}

var _ contender.Visited = (*driver)(nil)
