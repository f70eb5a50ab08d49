package chart

import (
	"slices"
	"strings"
	"time"

	"paceduel/core/footing"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/units"
)

// Ground is the picture of the footing: what is done around a run, from the outside in and out again, and what each
// step costs each contender.
type Ground struct {
	Columns []GroundColumn
	Rows    []GroundRow
	Timed   string // the runs themselves, in all
	Aside   string // everything around them, in all; "–" before anything was done
}

// GroundColumn is one contender in one state.
type GroundColumn struct {
	Side
	State string
}

// GroundRow is one step, for those who have it.
type GroundRow struct {
	Depth int    // 0 for the duel, 1 for a round, 2 for a heat, 3 for a run
	Level string // duel, round, heat or run
	After bool   // it closes its level and does not open it
	Timed bool   // it is the run itself
	What  string
	Cells []GroundCell // one for each column
}

// GroundCell is what a step costs one column.
type GroundCell struct {
	Has  bool   // it is done there at all
	Each string // the time it takes once; "–" when it was not done yet
	Said string // the end of what it printed or did at the last time
}

var levels = []string{"duel", "round", "heat", "run"}

// NewGround arranges the footing of a run, with what its heats have cost so far.
func NewGround(r *result.Result, heats []result.Heat) *Ground {
	g := &Ground{Timed: units.None, Aside: units.None}
	spent := r.Spent(heats)
	for i, e := range r.Entrants {
		states := r.States()
		if len(r.Places()) > 0 {
			states = []string{""} // the ground is the same wherever shots come from
		}
		for _, state := range states {
			g.Columns = append(g.Columns, GroundColumn{Side{e.Name, SignOf(i), e.Name == r.Plan.Baseline}, state})
		}
	}
	var aside, timed time.Duration
	for _, c := range r.Footing.Costs {
		aside += c.Took
	}
	for i := range heats {
		for _, c := range heats[i].Costs {
			aside += c.Took
		}
		timed += heats[i].LatencySum
	}
	if aside > 0 || timed > 0 {
		g.Aside, g.Timed = units.Duration(aside), units.Duration(timed)
	}
	g.arrange(spent)
	return g
}

// PlannedGround arranges the footing of a plan that has not been run.
func PlannedGround(p *plan.Plan) *Ground {
	r := &result.Result{Plan: result.Plan{Baseline: p.Baseline}}
	for i := range p.Contenders {
		r.Entrants = append(r.Entrants, result.Entrant{Name: p.Contenders[i].Name})
		for _, s := range p.CacheStates() {
			if s != plan.AsFound && i == 0 {
				r.Footing.States = append(r.Footing.States, string(s))
			}
			r.Footing.Steps = append(r.Footing.Steps, footing.Steps(p, &p.Contenders[i], s)...)
		}
	}
	return NewGround(r, nil)
}

// arrange makes one row of each step, in an order that agrees with every column's own.
func (g *Ground) arrange(costs []result.Cost) {
	last := -1 // the row of the column's step before this one
	column := -1
	for _, c := range costs {
		at := slices.IndexFunc(
			g.Columns, func(col GroundColumn) bool { return col.Name == c.Contender && col.State == c.State },
		)
		if at < 0 {
			continue
		}
		if at != column {
			column, last = at, -1
		}
		row := rowOf(c)
		i := slices.IndexFunc(g.Rows, func(o GroundRow) bool {
			return o.Level == row.Level && o.After == row.After && o.Timed == row.Timed && (o.What == row.What || row.Timed)
		})
		if i < 0 {
			row.Cells = make([]GroundCell, len(g.Columns))
			i = last + 1
			g.Rows = slices.Insert(g.Rows, i, row)
		}
		last = i
		cell := GroundCell{Has: true, Each: units.None, Said: c.Said}
		if c.Times > 0 {
			cell.Each = units.Duration(c.Took / time.Duration(c.Times))
		}
		g.Rows[i].Cells[at] = cell
	}
}

func rowOf(c result.Cost) GroundRow {
	row := GroundRow{What: c.What, Timed: c.When == footing.Timed}
	row.Level = strings.TrimPrefix(strings.TrimPrefix(c.When, "before "), "after ")
	row.After = strings.HasPrefix(c.When, "after ")
	if row.Timed {
		row.Level, row.What = "run", "the run itself"
	}
	row.Depth = max(slices.Index(levels, row.Level), 0)
	return row
}

// Bare reports whether nothing is done around the runs.
func (g *Ground) Bare() bool {
	return !slices.ContainsFunc(g.Rows, func(r GroundRow) bool { return !r.Timed })
}

// ChangesWords puts what changed in a workspace into a line.
func ChangesWords(c *result.Changes) string {
	var out []string
	say := func(n int, how string) {
		if n > 0 {
			out = append(out, units.Plural(n, "file")+" "+how)
		}
	}
	say(c.Added, "added")
	say(c.Changed, "changed")
	say(c.Removed, "removed")
	say(c.Rewritten, "rewritten with the same bytes")
	text := "nothing"
	if len(out) > 0 {
		text = strings.Join(out, ", ")
		if c.Bytes > 0 {
			text += ", " + units.Bytes(float64(c.Bytes))
		}
		if len(c.List) > 0 && len(c.List) <= 2 {
			var names []string
			for _, f := range c.List {
				names = append(names, f.Path)
			}
			text += ": " + units.List(names)
		}
	}
	if c.StoreFiles > 0 {
		text += "; its own caches hold " + units.Plural(c.StoreFiles, "file") + ", " + units.Bytes(float64(c.StoreBytes))
	}
	return text
}
