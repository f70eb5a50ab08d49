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

// openAccounts has what a contender counts of its own work, and what a database counts that it uses, read before a
// heat. An account that cannot be read is told once, and the heat goes on without.
func (h *heat) openAccounts(ctx context.Context) (opened []contender.Accounted) {
	var all []contender.Accounted
	if a, ok := h.entry.Driver.(contender.Accounted); ok && h.lasts() {
		all = append(all, a)
	}
	if a := h.at.watched[h.cell.Contender]; a != nil {
		all = append(all, a)
	}
	for _, a := range all {
		err := a.BeginAccount(ctx)
		h.unread(ctx, err)
		if err == nil {
			opened = append(opened, a)
		}
	}
	return opened
}

// workers are processes of this machine that work for the contender without being its service, as a database server
// that somebody else runs, and what they had used when the heat began.
type workers struct {
	trees []*meter.Tree
	began time.Duration
}

// workersOf finds them, each once. Whoever belongs to the contender's service is seen by watching that.
func workersOf(accounts []contender.Accounted, service int) (w workers) {
	var known []*meter.Tree
	if service != 0 {
		known = append(known, meter.NewTree(service))
	}
	for _, a := range accounts {
		s, ok := a.(contender.Seated)
		if !ok {
			continue
		}
		pid := s.Process()
		if pid == 0 || slices.ContainsFunc(known, func(t *meter.Tree) bool { return t.Has(pid) }) {
			continue
		}
		tree := meter.NewTree(pid)
		known, w.trees = append(known, tree), append(w.trees, tree)
	}
	w.began = w.used()
	return w
}

// used is the CPU time of all of them.
func (w *workers) used() (sum time.Duration) {
	for _, t := range w.trees {
		t.Find()
		sum += t.CPU()
	}
	return sum
}

// closeAccounts reads them after the heat, whose clients have been closed, and asks how the contender would go on:
// another way than at the weigh-in is told.
func (h *heat) closeAccounts(ctx context.Context, opened []contender.Accounted) {
	if ctx.Err() != nil {
		return
	}
	for _, a := range opened {
		counts, err := a.EndAccount(ctx)
		h.unread(ctx, err)
		for name, n := range counts {
			if h.account == nil {
				h.account = map[string]int64{}
			}
			h.account[name] += n
		}
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
