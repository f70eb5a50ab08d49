package rounds

import (
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"math"
	mathrand "math/rand/v2"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"paceduel/core/contender"
	"paceduel/core/footing"
	"paceduel/core/pace"
	"paceduel/core/panics"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/shots"
)

// crashStream keeps the drawing of moments apart from what else is drawn by a run's seed.
const crashStream = 0x6372617368

// crashes has contenders ended while they work, when all rounds are over: each in turn, in an order that is drawn for
// each time anew. What cannot be done is kept with the crash, and the run goes on.
func (r *runner) crashes(ctx context.Context) error {
	at := r.stations[0]
	var whose []string
	most, all := 0, 0
	for _, c := range at.plan.Contenders {
		if c.Ground.Crash != nil && !c.Mirror && !slices.Contains(r.leftOut(), c.Name) {
			whose, most, all = append(whose, c.Name), max(most, c.Ground.Crash.Times), all+c.Ground.Crash.Times
		}
	}
	rng := mathrand.New(mathrand.NewPCG(r.result.Seed, crashStream))
	for no := 1; no <= most; no++ {
		rng.Shuffle(len(whose), func(a, b int) { whose[a], whose[b] = whose[b], whose[a] })
		for _, name := range whose {
			share := rng.Float64()
			if no > at.entry(name).Ground.Crash.Times {
				continue
			}
			c, err := r.crash(ctx, at, name, no, share)
			if ctx.Err() != nil {
				return ctx.Err()
			}
			if err != nil {
				c.Err = err.Error()
			}
			r.texts(&c)
			r.result.Crashes = append(r.result.Crashes, c)
			r.send(Crashed{c, all})
		}
	}
	return nil
}

// crash ends a contender once, at a share of the time in which it may be, and looks at what is there.
func (r *runner) crash(
	ctx context.Context, at *station, name string, no int, share float64,
) (c result.Crash, err error) {
	entry, ground := at.entry(name), at.footing.Of(name)
	said := entry.Ground.Crash
	c = result.Crash{Contender: name, No: no}
	defer func() {
		if end := ground.EndCrash(ctx); err == nil {
			err = end
		}
	}()
	if err = ground.BeginCrash(ctx, no); err != nil {
		return c, err
	}
	var before result.Crash // what is there before anything was asked for
	look := func(into *result.Crash) error {
		text, err := r.count(ctx, ground, &said.Count, c.Acknowledged)
		into.Said = text
		if err == nil && !counted(text, into) {
			err = fmt.Errorf("count says no number: %q", short(text))
		}
		return err
	}
	moment := r.momentOf(said, entry, share)
	if err = r.until(ctx, at, entry, func() error { return look(&before) }, ground.Kill, moment, &c); err != nil {
		return c, err
	}
	c.Acknowledged, c.Unknown = c.Acknowledged*int64(said.Each), c.Unknown*int64(said.Each)
	if c.Again, err = ground.Again(ctx); err != nil {
		return c, fmt.Errorf("it does not start again: %w", err)
	}
	if err = look(&c); err != nil {
		return c, err
	}
	c.Records, c.Torn, c.Doubled = c.Records-before.Records, c.Torn-before.Torn, c.Doubled-before.Doubled
	return c, nil
}

// count says what is there, in the words of whatever counts.
func (r *runner) count(
	ctx context.Context, ground *footing.Ground, by *plan.Count, acknowledged int64,
) (string, error) {
	if by.Kind == "" {
		return ground.Count(ctx, by.Shell, acknowledged)
	}
	i := slices.IndexFunc(r.cfg.Kinds, func(k contender.Kind) bool { return k.Name == by.Kind })
	setup := ground.Setup()
	setup.Traces, setup.Printed, setup.Pings = nil, nil, nil
	d, err := r.cfg.Kinds[i].Open(setup, by.Settings)
	if err != nil {
		return "", fmt.Errorf("count: %w", err)
	}
	defer d.Close()
	client := d.Client(0, 1)
	defer client.Close()
	shot := shots.Shot{View: &shots.View{Sample: true}}
	client.Shoot(ctx, &shot)
	if shot.Class != shots.OK {
		return "", fmt.Errorf("count, %s: %w", by.Summary(), shot.Err)
	}
	return string(shot.View.Body), nil
}

func short(text string) string {
	const most = 100
	text = strings.TrimSpace(text)
	return strings.ToValidUTF8(text[:min(len(text), most)], "")
}

// momentOf is when a contender is ended, from its first shot on: within the plan's bounds, or of what is a process of
// its own for each shot within what that usually takes.
func (r *runner) momentOf(said *plan.Crash, entry contender.Entry, share float64) time.Duration {
	if r.ownProcess(entry.Kind) && entry.Ground.Service == nil {
		if usual := r.usual(entry.Name); usual > 0 {
			return time.Duration(share * float64(usual))
		}
	}
	return said.From.D() + time.Duration(share*float64(said.To-said.From))
}

// usual is what a contender's shots take on average; 0 where that is not known.
func (r *runner) usual(name string) time.Duration {
	var sum time.Duration
	n := int64(0)
	for i := range r.result.Heats {
		if h := &r.result.Heats[i]; h.Contender == name && h.Counts() {
			sum, n = sum+h.LatencySum, n+h.OK
		}
	}
	if n == 0 {
		return 0
	}
	return sum / time.Duration(n)
}

// until has the contender's clients shoot until the moment comes, ends it, and takes down what was answered by then.
// first is called when its processes are there and before they are asked for anything.
func (r *runner) until(
	ctx context.Context, at *station, entry contender.Entry, first func() error, kill func(), moment time.Duration,
	c *result.Crash,
) error {
	n := pace.Clients(at.plan.Pace)
	if at.plan.Pace.Open() { // who asks at a rate asks as fast as may be here
		n = min(n, 8)
	}
	if housed, ok := entry.Driver.(contender.Housed); ok {
		if _, err := housed.Begin(ctx, n); err != nil {
			return err
		}
		defer housed.End()
		if pid := housed.Resident().PID; pid != 0 { // else those at work are ended with their shots
			kill = func() { syscall.Kill(-pid, syscall.SIGKILL) }
		}
	}
	if err := first(); err != nil {
		return err
	}
	working, stop := context.WithCancel(ctx)
	defer stop()
	var acknowledged, unknown atomic.Int64
	var ended atomic.Bool
	var wg sync.WaitGroup
	faults := make([]error, n)
	for i := range n {
		client := entry.Driver.Client(i, n)
		wg.Go(func() {
			defer client.Close()
			defer panics.Catch("work until it is ended", &faults[i])
			for working.Err() == nil && !ended.Load() {
				var shot shots.Shot
				client.Shoot(working, &shot)
				if shot.Class == shots.OK {
					acknowledged.Add(1)
					continue
				}
				unknown.Add(1)
				if ended.Load() {
					return
				}
				pause := time.NewTimer(time.Millisecond) // it fails before it is ended
				select {
				case <-pause.C:
				case <-working.Done():
				}
			}
		})
	}
	began := r.clock.Now()
	wait := time.NewTimer(moment)
	select {
	case <-wait.C:
	case <-ctx.Done():
	}
	wait.Stop()
	c.After = r.clock.Now() - began
	ended.Store(true)
	kill()
	stop() // and what is no service of ours to end is ended with its shot
	wg.Wait()
	c.Acknowledged, c.Unknown = acknowledged.Load(), unknown.Load()
	for _, err := range faults {
		if err != nil {
			return err
		}
	}
	return ctx.Err()
}

// countedLine is a line of what a count prints: a number of records, or one that a word says of what it is.
var countedLine = regexp.MustCompile(`^\s*(?:"?(records|torn|doubled)"?\s*[:=]?\s*)?([0-9]+)\s*(records|torn|doubled)?\s*,?\s*$`)

// counted reads what a count said: a number on a line of its own, with the word for what it is before or behind it, or
// none for the records; or JSON: a number, or an object (or one row of them) with these words, or with one number. ok
// is false without a number of records.
func counted(said string, c *result.Crash) (ok bool) {
	var value any
	if json.Unmarshal([]byte(said), &value) == nil {
		return countedIn(value, c)
	}
	lines := bufio.NewScanner(strings.NewReader(said))
	for lines.Scan() {
		found := countedLine.FindStringSubmatch(lines.Text())
		if found == nil {
			continue
		}
		n, err := strconv.ParseInt(found[2], 10, 64)
		if err != nil {
			continue
		}
		ok = enter(c, cmp.Or(found[1]+found[3], "records"), n) || ok
	}
	return ok
}

// countedIn is counted of JSON.
func countedIn(value any, c *result.Crash) (ok bool) {
	switch v := value.(type) {
	case float64:
		return whole(v) && enter(c, "records", int64(v))
	case []any:
		return len(v) == 1 && countedIn(v[0], c)
	case map[string]any:
		for name, member := range v {
			if n, isNumber := member.(float64); isNumber && whole(n) {
				if len(v) == 1 && name != "torn" && name != "doubled" {
					name = "records" // whatever a database calls it
				}
				ok = enter(c, name, int64(n)) || ok
			}
		}
	}
	return ok
}

// whole reports whether a number of JSON is a number of records.
func whole(v float64) bool { return v >= 0 && v <= 1<<53 && v == math.Trunc(v) }

// enter takes down a number by what it is of, and reports whether it is that of the records.
func enter(c *result.Crash, what string, n int64) bool {
	switch what {
	case "torn":
		c.Torn = n
	case "doubled":
		c.Doubled = n
	case "records":
		c.Records = n
		return true
	}
	return false
}

// hasCrashes reports whether any contender is to be ended while it works.
func hasCrashes(p *plan.Plan) bool {
	return slices.ContainsFunc(p.Contenders, func(c plan.Contender) bool { return c.Ground.Crash != nil })
}
