package weighin

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"sync/atomic"

	"paceduel/core/launch"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/shots"
)

// Bounds of what is kept of answers during a run.
const (
	maxSampled    = 4 << 20  // bytes of one answer; a longer one is held to its length alone
	maxHeld       = 64 << 20 // bytes of the answers of a heat, over all clients
	maxRows       = 1 << 16  // rows whose lengths and answers are known apart
	maxRemembered = 32 << 20 // bytes of a contender's answers to other rows than the first
)

// Standard is what answers during the run are held to: those of the weigh-in, and for other rows than the first the
// first answer that was seen. Its checkers run at the same time; everything else belongs to one goroutine.
type Standard struct {
	rules    *plan.Same
	baseline string
	frac     float64
	of       map[string]*reference
	dir      string                    // the plan's
	place    func(string) launch.Place // of a contender, for its filter
}

// reference is how one contender answers.
type reference struct {
	known   bool           // whether its answers can be seen at all during the run
	steady  bool           // it answers the same bytes each time
	own     bool           // the plan says which outcome is good of it
	unequal bool           // it was accepted although it does other work than the baseline
	lengths *lengths       // nil unless steady
	answers map[int]Answer // by row
	held    int
}

// lengths are those of answers by row, one more than the bytes; 0: not seen yet. Most contenders have few rows, so that
// room is made by the block. It may be used by all clients at once.
type lengths [maxRows / rowBlock]atomic.Pointer[[rowBlock]atomic.Int64]

// rowBlock is how many rows there is room for at a time.
const rowBlock = 1 << 10

// at is that of a row below maxRows.
func (l *lengths) at(row int) *atomic.Int64 {
	block := &l[row/rowBlock]
	if block.Load() == nil {
		block.CompareAndSwap(nil, new([rowBlock]atomic.Int64))
	}
	return &block.Load()[row%rowBlock]
}

func newStandard(p *plan.Plan) *Standard {
	return &Standard{
		rules: p.Same, baseline: p.Baseline, frac: p.Same.SampleFrac(), of: map[string]*reference{}, dir: p.Dir,
		place: func(string) launch.Place { return launch.Place{} },
	}
}

func (s *Standard) set(a Answer, t *result.Touch) {
	ref := &reference{own: a.Own, known: t.Bytes > 0 || t.Steady, steady: t.Steady, answers: map[int]Answer{}}
	if max(len(a.Body), len(a.raw)) <= maxSampled && a.Whole {
		ref.answers[0] = a
	}
	if ref.steady {
		ref.lengths = &lengths{}
		ref.lengths.at(0).Store(cmp.Or(a.length, t.Bytes) + 1)
	}
	s.of[a.Name] = ref
}

// apart marks who does other work than the baseline, so that it is held to its own answers.
func (s *Standard) apart(names []string) {
	for _, name := range names {
		s.of[name].unequal = true
	}
}

// Checker looks at the shots of one client in one heat.
type Checker struct {
	s      *Standard
	name   string
	ref    *reference
	rng    *rand.Rand
	every  float64
	next   float64 // shots until the next sample
	room   int     // bytes that may still be held
	held   []shots.Shot
	sample bool
	// scratch is where an answer is read to.
	scratch []byte
}

// heldBeside is about what a held shot takes beside its answer.
const heldBeside = 1 << 10

// Checkers returns one checker for each of n clients of a contender's heat. The first shot of the first client is
// always sampled, the others at random from seed.
func (s *Standard) Checkers(name string, n int, seed uint64) []*Checker {
	out := make([]*Checker, n)
	for i := range out {
		out[i] = &Checker{
			s: s, name: name, ref: s.of[name], rng: rand.New(rand.NewPCG(seed, uint64(i))), room: maxHeld / n, every: 1 / s.frac,
		}
		out[i].next = out[i].gap()
		if i == 0 && s.frac > 0 {
			out[i].next = 0
		}
	}
	return out
}

// gap draws the shots until the next sample, so that each shot is as likely as any other to be sampled.
func (c *Checker) gap() float64 {
	if c.s.frac <= 0 {
		return math.Inf(1)
	}
	if c.s.frac >= 1 {
		return 0
	}
	return math.Floor(math.Log(1-c.rng.Float64()) / math.Log1p(-c.s.frac))
}

// Ask has the shot kept in view when it is to be sampled.
func (c *Checker) Ask(shot *shots.Shot) {
	c.sample = c.next <= 0 && c.ref != nil && c.ref.known && c.room > 0
	c.next--
	if c.sample {
		c.next = c.gap()
		if c.scratch == nil {
			c.scratch = make([]byte, 0, len(c.ref.answers[0].raw)+64<<10) // so that keeping an answer never has to make room
		}
		shot.View = &shots.View{Sample: true, Limit: maxSampled, Body: c.scratch}
	}
}

// Take holds an answer's length to what it was before. It reports false for a sample, which Settle looks at.
func (c *Checker) Take(shot *shots.Shot) bool {
	if shot.Class == shots.OK && c.ref != nil && c.ref.lengths != nil && shot.Row < maxRows && shot.Length > 0 {
		seen := c.ref.lengths.at(shot.Row)
		if !seen.CompareAndSwap(0, shot.Length+1) && seen.Load() != shot.Length+1 {
			shot.Class = shots.Unequal
			shot.Err = fmt.Errorf("an answer of %d bytes, %d before", shot.Length, seen.Load()-1)
		}
	}
	if shot.View == nil {
		return true
	}
	c.scratch = shot.View.Body[:0]
	shot.View.Body = bytes.Clone(shot.View.Body) // when the shot is over, and as large as it is
	c.room -= len(shot.View.Body) + heldBeside
	shot.Keep()
	c.held = append(c.held, *shot)
	return false
}

// Settle compares what was sampled in a heat that is over, and hands each sampled shot to record, its class changed
// where the answer is not what it was at the weigh-in. It returns how many were compared; when ctx ends, what would
// have to go through the plan's filter counts as it came.
func (c *Checker) Settle(ctx context.Context, record func(*shots.Shot)) (compared int64) {
	for i := range c.held {
		shot := &c.held[i]
		if shot.Class == shots.OK && shot.View.Known && shot.View.Bytes == int64(len(shot.View.Body)) {
			err := c.compare(ctx, shot)
			if !errors.Is(err, errNotCompared) {
				compared++
				if err != nil {
					shot.Class, shot.Err = shots.Unequal, err
				}
			}
		}
		shot.View = nil
		record(shot)
	}
	c.held = nil
	return compared
}

// errNotCompared says that nobody waits for a comparison any more.
var errNotCompared = errors.New("not compared")

// compare holds a sampled answer to the baseline's for the same row, by the plan's rules; without rules, or where the
// baseline's is not known, to the contender's own.
func (c *Checker) compare(ctx context.Context, shot *shots.Shot) error {
	body, note := decode(shot.View.Encoding, shot.View.Body)
	if note != "" {
		return errors.New(note)
	}
	a := Answer{Name: c.name, Outcome: shot.View.Outcome, Type: shot.View.Type, Body: body, raw: body, Whole: true}
	a.Own = c.ref.own
	own, known := c.ref.answers[shot.Row]
	if known && bytes.Equal(own.raw, a.raw) {
		return nil
	}
	if c.s.rules != nil && c.s.rules.Through != "" {
		a.refine(ctx, filter{c.s.rules.Through, c.s.dir, c.s.place(c.name)})
		if ctx.Err() != nil {
			return errNotCompared
		}
	}
	if !known {
		if base, ok := c.s.of[c.s.baseline].answers[shot.Row]; ok && !c.ref.unequal && c.s.rules.Ruled() {
			own, known = base, true
		}
		if c.ref.held += len(body); shot.Row < maxRows && c.ref.held <= maxRemembered {
			c.ref.answers[shot.Row] = a
		}
	}
	switch {
	case !known:
		return nil
	case c.s.rules.Ruled():
		rules := *c.s.rules
		rules.Files = ""
		w := Compare(&rules, []Answer{own, a})
		for _, check := range w.Checks {
			if !check.Same {
				return fmt.Errorf("not %s as at the weigh-in%s", check.Rule, firstOf(check))
			}
		}
		return nil
	case c.ref.steady:
		check := exact(own, a)
		return fmt.Errorf("not the same bytes as before%s", firstOf(check))
	}
	return nil
}

func firstOf(c result.Check) string {
	if len(c.Differences) == 0 {
		return ""
	}
	d := c.Differences[0]
	return ": " + d.Words()
}
