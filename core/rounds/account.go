package rounds

import (
	"context"
	"fmt"
	"slices"
	"time"

	"paceduel/core/cell"
	"paceduel/core/contender"
	"paceduel/core/meter"
	"paceduel/core/plan"
)

// lasts reports whether what the contender asks is there before and after the heat's shots.
func (h *heat) lasts() bool {
	s := h.entry.Ground.Service
	return !h.at.plan.Pace.Rush && (s == nil || s.Fresh != plan.EveryRun)
}

// openAccount has what a contender counts of its own work read before a heat, or of one that counts nothing what a
// database counts that it uses: both would have the same work twice. It is nil where nothing is counted. An account
// that cannot be read is told once, and the heat goes on without.
func (h *heat) openAccount(ctx context.Context) contender.Accounted {
	a, own := h.entry.Driver.(contender.Accounted)
	if !own {
		a = h.at.watched[h.cell.Contender]
	}
	if a == nil || own && !h.lasts() {
		return nil
	}
	if err := a.BeginAccount(ctx); err != nil {
		h.unread(ctx, err)
		return nil
	}
	return a
}

// workers are processes of this machine that work for the contender without being its service, as a database server
// that somebody else runs, and what they had used when the heat began.
type workers struct {
	tree  *meter.Tree // nil: there are none
	began time.Duration
}

// workersOf finds those that an account is of, which may be nil. Whoever belongs to the contender's service is seen by
// watching that.
func workersOf(account contender.Accounted, service int) (w workers) {
	s, ok := account.(contender.Seated)
	if !ok {
		return w
	}
	pid := s.Process()
	if pid == 0 || service != 0 && meter.NewTree(service).Has(pid) {
		return w
	}
	w.tree = meter.NewTree(pid)
	w.began = w.tree.CPU()
	return w
}

// used is the CPU time of all of them since then.
func (w *workers) used() time.Duration {
	if w.tree == nil {
		return 0
	}
	w.tree.Find()
	return w.tree.CPU() - w.began
}

// closeAccount reads it after the heat, whose clients have been closed, and asks how the contender would go on: another
// way than at the weigh-in is told.
func (h *heat) closeAccount(ctx context.Context, opened contender.Accounted) {
	if ctx.Err() != nil {
		return
	}
	if opened != nil {
		counts, err := opened.EndAccount(ctx)
		h.unread(ctx, err)
		h.account = counts
	}
	e, ok := h.entry.Driver.(contender.Explained)
	if !ok || !h.lasts() {
		return
	}
	text, shape, err := e.Explain(ctx)
	if was := h.r.shapeOf(h.cell); err == nil && was != "" && was != shape {
		h.queryPlan = text
	}
}

// unread says what of a contender's own account could not be had.
func (h *heat) unread(ctx context.Context, err error) {
	if err == nil || ctx.Err() != nil {
		return
	}
	words := h.r.cfg.Plan.Mask(fmt.Sprintf("what is counted for %s is missing: %s", h.entry.Name, err))
	if known := &h.r.result.Footing.Cannot; !slices.Contains(*known, words) {
		*known = append(*known, words)
	}
}

// watch opens accounts of the databases that contenders use.
func (r *runner) watch(s *station) error {
	s.watched = map[string]contender.Accounted{}
	for _, c := range s.plan.Contenders {
		if c.Ground.Watch == nil {
			continue
		}
		for _, k := range r.cfg.Kinds {
			if k.Watch == nil {
				continue
			}
			a, err := k.Watch(s.footing.Of(c.Name).Setup(), c.Ground.Watch)
			if err != nil {
				return fmt.Errorf("watch the database of %s: %w", c.Name, err)
			}
			s.watched[c.Name] = a
		}
	}
	return nil
}

// shapeOf is how a cell's contender carried out its work at the weigh-in; empty where that is not known.
func (r *runner) shapeOf(c cell.Cell) string {
	for _, list := range r.entrantsAt(c.Point) {
		for i := range list {
			if list[i].Name == c.Contender && list[i].Touch != nil {
				return list[i].Touch.QueryShape
			}
		}
	}
	return ""
}

// library is a contender that runs within us, and what it used in the judged part of a heat. A nil one is none.
type library struct {
	contender.Embedded
	began, used time.Duration
}

func embeddedIn(d contender.Driver) *library {
	e, ok := d.(contender.Embedded)
	if !ok {
		return nil
	}
	e.Held() // what it held before is forgotten
	return &library{Embedded: e}
}

// reading is one of the machine with what the library used so far taken from us.
func (l *library) reading(r meter.Reading) meter.Reading {
	if l == nil {
		return r
	}
	return r.Library(l.Used())
}

// mark begins the judged part, pass ends it.
func (l *library) mark() {
	if l != nil {
		l.began = l.Used()
	}
}

func (l *library) pass() {
	if l != nil {
		l.used = l.Used() - l.began
	}
}
