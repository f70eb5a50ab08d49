package http

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"paceduel/core/contender"
	"paceduel/core/contender/http/lean"
	"paceduel/core/shots"
	"paceduel/core/spans"
)

// batchClient performs a whole batch of requests as one shot: so many rows, some of them at once. The shot lasts from
// the start of the first to the end of the last, its bytes are those of all, and it fails when one of them does.
type batchClient struct {
	d     *driver
	first int // row
	next  int
	items []shots.Shot
	ids   [][8]byte // of the requests of a sampled shot
	marks shots.Marks

	inside  []spans.Span
	sampler *sampler
	sampled *shots.Shot // the shot at hand, if it is
	sent    uint64      // requests of sampled shots so far
	written int         // of the shot at hand
	crew    *lean.Crew  // performs them, or else each of askers does on a goroutine of its own
	err     error
	asks    []asker
}

// asker performs one request for a given row.
type asker interface {
	contender.Client
	ask(ctx context.Context, row int, shot *shots.Shot)
	errand(ctx context.Context, d *driver, e *errand)
}

// oneOfBatch is what a request of a batch is called inside a shot.
const oneOfBatch = "request"

// batch makes the i-th of n clients; its batches begin with row i times their size.
func (d *driver) batch(i, n int) contender.Client {
	size := d.settings.Batch
	b := &batchClient{
		d: d, first: i * size % len(d.requests), items: make([]shots.Shot, size), ids: make([][8]byte, size),
		sampler: d.newSampler(n),
	}
	atOnce := min(max(d.settings.AtOnce, 1), d.settings.Batch)
	if d.means == byCrew {
		b.crew, b.err = d.batchCrew(b, atOnce)
	} else {
		for k := range atOnce {
			b.asks = append(b.asks, d.single(i*atOnce+k, 1).(asker))
		}
	}
	b.Rewind()
	return b
}

// batchCrew makes the crew of a client.
func (d *driver) batchCrew(b *batchClient, atOnce int) (*lean.Crew, error) {
	cfg, err := d.lean()
	if err != nil {
		return nil, err
	}
	cfg.Beside = true
	if d.tracing != nil {
		cfg.Sample = func(row int, _ *shots.Shot) *lean.Request { // in the order of items
			b.written++
			e, sampled := b.mark(row, b.written-1)
			if !sampled {
				return nil
			}
			return &e.wire
		}
	}
	return d.crewOf(cfg, atOnce)
}

// mark makes the request of an item of a sampled shot; sampled is false for all others, and where it cannot be written.
func (b *batchClient) mark(row, item int) (e errand, sampled bool) {
	if b.sampled == nil || item >= len(b.ids) {
		return e, false
	}
	e.request = b.d.requests[row].marked(b.sampled.Trace, b.ids[item])
	if b.d.means == byFull {
		return e, true
	}
	wire, err := b.d.wire(&e.request)
	e.wire = wire
	return e, err == nil
}

func (b *batchClient) Rewind() { b.next = b.first }

func (b *batchClient) Close() {
	if b.crew != nil {
		b.crew.Close()
		b.crew = nil
	}
	for _, a := range b.asks {
		a.Close()
	}
}

// Shoot performs one batch.
func (b *batchClient) Shoot(ctx context.Context, shot *shots.Shot) {
	view := shot.View
	shot.Start = b.d.clock.Now()
	shot.End, shot.Row = shot.Start, b.next
	switch {
	case ctx.Err() != nil:
		shot.Class, shot.Err = shots.Cut, ctx.Err()
		return
	case b.err != nil:
		shot.Class, shot.Err = shots.Other, b.err
		return
	}
	for i := range b.items {
		b.items[i] = shots.Shot{}
		if view != nil {
			b.items[i].View = &shots.View{Limit: view.Limit, Sample: view.Sample}
		}
	}
	b.marks.Clear()
	b.written, b.sampled = 0, nil
	clear(b.ids)
	if b.sampler.next(shot) {
		b.sampled = shot
		for i := range b.ids {
			b.sent++
			b.ids[i] = b.sampler.part(b.sent)
		}
	}
	if b.crew != nil {
		b.byCrew(ctx)
	} else {
		b.byAskers(ctx)
	}
	b.next = (b.next + len(b.items)) % len(b.d.requests)
	b.sum(shot)
	if view != nil {
		b.show(view)
	}
}

func (b *batchClient) byCrew(ctx context.Context) {
	begun := 0
	at := map[int]int{} // connection to item
	b.crew.StartAt(b.next)
	b.crew.Drive(ctx, &contender.Job{ // an interrupt is seen in the shots that it cut
		Open: true,
		Next: func(int) (time.Duration, time.Duration, bool) { return 0, 0, begun < len(b.items) },
		Ask: func(i int, s *shots.Shot) {
			at[i] = begun
			s.View = b.items[begun].View
			begun++
		},
		Done: func(i int, s *shots.Shot) {
			b.items[at[i]] = *s
			b.listen(s)
		},
	})
	for i := begun; i < len(b.items); i++ {
		b.items[i].Class, b.items[i].Err = shots.Cut, ctx.Err()
	}
}

func (b *batchClient) byAskers(ctx context.Context) {
	var taken atomic.Int64
	var wg sync.WaitGroup
	var mu sync.Mutex
	for _, a := range b.asks {
		wg.Go(func() {
			for {
				i := int(taken.Add(1)) - 1
				if i >= len(b.items) {
					return
				}
				row := (b.next + i) % len(b.d.requests)
				if e, sampled := b.mark(row, i); sampled {
					e.shot.View = b.items[i].View
					a.errand(ctx, b.d, &e)
					b.items[i] = e.shot
				} else {
					a.ask(ctx, row, &b.items[i])
				}
				mu.Lock()
				b.listen(&b.items[i])
				mu.Unlock()
			}
		})
	}
	wg.Wait()
}

func (b *batchClient) listen(s *shots.Shot) {
	for _, m := range s.Told {
		b.marks.Add([]byte(m.Name), m.Unit, m.Value)
	}
}

// sum makes one shot of all.
func (b *batchClient) sum(shot *shots.Shot) {
	for i := range b.items {
		s := &b.items[i]
		for at := range lean.Shape.Amounts {
			if at != lean.FirstByte || i == 0 {
				shot.Count(at, s.Amounts[at])
			}
		}
		shot.End = max(shot.End, s.End)
		shot.Aside += s.Aside / time.Duration(max(len(b.asks), 1))
		shot.Sent += s.Sent
		shot.Received += s.Received
		shot.Length += s.Length
		if s.Class != shots.OK && (shot.Class == shots.OK || s.Class == shots.Cut) {
			shot.Class, shot.Err = s.Class, s.Err
			if s.Class.Failed() {
				shot.Err = fmt.Errorf("request %d of %d: %w", i+1, len(b.items), s.Err)
			}
		}
	}
	shot.Told = b.marks.List()
	if shot.Class == shots.OK && (b.sampler == nil || b.sampled != nil) {
		b.look(shot)
	}
}

// look makes spans of the requests. None needs another.
func (b *batchClient) look(shot *shots.Shot) {
	b.inside = b.inside[:0]
	for i := range b.items {
		s := &b.items[i]
		b.inside = append(b.inside, spans.Span{
			Name: oneOfBatch, Begin: max(s.Start-shot.Start, 0), End: min(s.End-shot.Start, shot.Latency()),
			Parent: spans.None, ID: b.ids[i], At: s.Start,
		})
	}
	shot.Inside, shot.InsideKnown = b.inside, true
}

// show puts the answers together in the order of their rows.
func (b *batchClient) show(view *shots.View) {
	first := b.items[0].View
	view.Known, view.Type, view.Encoding, view.Version, view.Headers, view.Outcome = first.Known, first.Type,
		first.Encoding, first.Version, first.Headers, first.Outcome
	view.Done = b.d.settings.Summary()
	for i := range b.items {
		v := b.items[i].View
		if i > 0 && v.Outcome != view.Outcome && b.items[i].Class.Failed() {
			view.Outcome = fmt.Sprintf("%s (request %d)", v.Outcome, i+1)
		}
		view.Bytes += v.Bytes
		if room := view.Room() - len(view.Body); room > 0 {
			view.Body = append(view.Body, v.Body[:min(len(v.Body), room)]...)
		}
	}
}
