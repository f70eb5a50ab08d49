package rounds

import (
	"context"
	"time"

	"paceduel/core/cell"
	"paceduel/core/contender"
	"paceduel/core/meter"
)

// openAccount has a contender's own account of its work read before a heat.
func (h *heat) openAccount(ctx context.Context) error {
	if a, ok := h.entry.Driver.(contender.Accounted); ok && !h.at.plan.Pace.Rush {
		return a.BeginAccount(ctx)
	}
	return nil
}

// closeAccount reads it after the heat, whose clients have been closed, and asks how the contender would go on: another
// way than at the weigh-in is told.
func (h *heat) closeAccount(ctx context.Context) (err error) {
	if ctx.Err() != nil {
		return nil
	}
	if a, ok := h.entry.Driver.(contender.Accounted); ok && !h.at.plan.Pace.Rush {
		h.account, err = a.EndAccount(ctx)
	}
	e, ok := h.entry.Driver.(contender.Explained)
	if !ok || err != nil {
		return err
	}
	text, shape, failed := e.Explain(ctx)
	if was := h.r.shapeOf(h.cell); failed == nil && was != "" && was != shape {
		h.queryPlan = text
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
