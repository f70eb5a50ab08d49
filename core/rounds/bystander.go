package rounds

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"paceduel/core/bystander"
	"paceduel/core/contender"
	"paceduel/core/plan"
	"paceduel/core/result"
)

// onlooker is a heat's bystander.
type onlooker struct {
	h       *heat
	said    *plan.Bystander
	clients []contender.Client // none where it waits for ticks
	ticks   *bystander.Ticks
	watch   *bystander.Watch

	quiet, meanwhile *bystander.Account
}

// openBystanders opens the drivers of a station's bystanders.
func (r *runner) openBystanders(s *station) error {
	s.bystanders = map[string]contender.Driver{}
	for _, c := range s.plan.Contenders {
		b := c.Ground.Bystander
		if b == nil || b.Kind == "" {
			continue
		}
		for i := range r.cfg.Kinds {
			if k := &r.cfg.Kinds[i]; k.Name == b.Kind {
				setup := s.footing.Of(c.Name).Setup()
				setup.Traces = nil
				d, err := k.Open(setup, b.Settings)
				if err != nil {
					return fmt.Errorf("open the bystander of %s: %w", c.Name, err)
				}
				s.bystanders[c.Name] = d
			}
		}
	}
	return nil
}

// closeBystanders releases them.
func (s *station) closeBystanders() {
	for _, d := range s.bystanders {
		d.Close()
	}
	s.bystanders = nil
}

// onlooker makes the heat's bystander; nil where it has none.
func (h *heat) onlooker() *onlooker {
	said := h.entry.Ground.Bystander
	if said == nil {
		return nil
	}
	o := &onlooker{h: h, said: said}
	setup := h.ground.Setup()
	switch {
	case said.Line != nil:
		o.ticks = h.ground.Ticks()
	case said.Ping:
		o.clients = h.ground.Pings().Clients(bystander.Clients)
	case said.TCP != "":
		o.clients = bystander.Contacts(h.r.clock, setup.Guard, setup.Fill(string(said.TCP)), bystander.Clients)
	default:
		d, n := h.at.bystanders[h.cell.Contender], bystander.FewClients
		if slices.ContainsFunc(h.r.cfg.Kinds, func(k contender.Kind) bool { return k.Name == said.Kind && k.Light }) {
			n = bystander.Clients
		}
		o.clients = bystander.Lazy(n, func(i int) contender.Client { return d.Client(i, n) })
	}
	return o
}

// accompanied has the heat driven while its bystander asks, who has asked alone before; without one it is just driven.
func (h *heat) accompanied(ctx context.Context, drive func() error) error {
	h.watching = h.onlooker()
	defer h.watching.close()
	if err := h.watching.before(ctx); err != nil {
		return err
	}
	h.watching.begin(ctx)
	err := drive()
	return cmp.Or(err, h.watching.after(ctx))
}

// before watches while nothing else is done. The receiver may be nil.
func (o *onlooker) before(ctx context.Context) error {
	if o == nil {
		return nil
	}
	o.begin(ctx)
	from := o.h.r.clock.Now()
	pause := time.NewTimer(o.said.Quiet.D())
	defer pause.Stop()
	select {
	case <-pause.C:
	case <-ctx.Done():
	}
	account, err := o.end(ctx, from, o.h.r.clock.Now())
	o.quiet = account
	if err == nil {
		err = ctx.Err()
	}
	return err
}

// begin has it ask from now on.
func (o *onlooker) begin(ctx context.Context) {
	if o != nil && o.ticks == nil {
		o.watch = bystander.Begin(ctx, o.h.r.clock, o.said, o.clients)
	}
}

// end has it ask no more, and says what became of those that were due in between.
func (o *onlooker) end(ctx context.Context, from, to time.Duration) (*bystander.Account, error) {
	if o.ticks != nil {
		probes := o.ticks.Between(from, to)
		o.ticks.Forget(from)
		return bystander.Look(probes, from, to, o.said.Within.D()), nil
	}
	probes, err := o.watch.End(ctx, to)
	return bystander.Look(probes, from, to, o.said.Within.D()), err
}

// after takes down what became of those that were due while the contender was judged. The receiver may be nil.
func (o *onlooker) after(ctx context.Context) (err error) {
	if o == nil {
		return nil
	}
	o.meanwhile, err = o.end(ctx, o.h.span.Start, o.h.span.End)
	return err
}

// close releases its clients. The receiver may be nil.
func (o *onlooker) close() {
	if o == nil {
		return
	}
	for _, c := range o.clients {
		c.Close()
	}
}

// document enters what was seen into a heat's. The receiver may be nil.
func (o *onlooker) document(doc *result.Heat) error {
	if o == nil || o.quiet == nil || o.meanwhile == nil {
		return nil
	}
	doc.Bystander = &result.Bystander{
		Does: o.said.Summary(), Ticks: o.ticks != nil, Every: o.said.Every(), Within: o.said.Within.D(),
		Quiet: probesOf(o.quiet), Meanwhile: probesOf(o.meanwhile),
	}
	for _, s := range []struct {
		name string
		of   *bystander.Account
	}{{result.BystanderStream, o.meanwhile}, {result.QuietStream, o.quiet}} {
		if s.of.OK == 0 {
			continue
		}
		lengths, err := result.EncodeHistogram(s.of.Waits)
		if err != nil {
			return err
		}
		doc.Splits = append(doc.Splits, result.Split{
			Name: s.name, Told: true, Stream: true, Sum: int64(s.of.WaitSum), Lengths: lengths,
		})
	}
	return nil
}

func probesOf(a *bystander.Account) result.Probes {
	return result.Probes{
		Span: a.Span, Due: a.Due, OK: a.OK, Failed: a.Failed, Waiting: a.Waiting, Longest: a.Longest, HeldUp: a.HeldUp,
		Silences: pairs(a.Silences), Dots: pairs(a.Dots),
	}
}

func pairs(list []bystander.Silence) (out [][2]int64) {
	for _, s := range list {
		out = append(out, [2]int64{int64(s.At), int64(s.Lasted)})
	}
	return out
}
