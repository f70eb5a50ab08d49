package result

import (
	"fmt"
	"slices"
	"time"

	"paceduel/core/cell"
)

// Sweep is what a run was swept over. Its heats are of cells with a point, and its order has the cells of all points.
type Sweep struct {
	Parameters []Parameter   `json:"parameters"` // one or two
	Points     []Point       `json:"points"`     // of one parameter in the order of its values
	Within     time.Duration `json:"within_ns,omitempty"`
	Bends      bool          `json:"where_bends,omitempty"`
}

// Sitting is when a sweep was gone on with.
type Sitting struct {
	Round int           `json:"round"` // the first one
	At    time.Duration `json:"at_ns"` // by the run's clock, which stands still between sittings
	Began time.Time     `json:"began"`
}

// Wall is the civil time of a moment of the run.
func (r *Result) Wall(at time.Duration) time.Time {
	wall := r.Started.Add(at)
	for _, s := range r.Sittings {
		if at >= s.At {
			wall = s.Began.Add(at - s.At)
		}
	}
	return wall
}

// Parameter is what varied.
type Parameter struct {
	Name   string   `json:"name" text:"name"`
	Sets   []string `json:"sets,omitempty"` // keys of the plan that its values were laid over
	Values []Value  `json:"values"`         // those that were added among them
	Counts string   `json:"counts" text:"ours"`
	Log    bool     `json:"log,omitempty"` // whether a logarithmic axis suits it
}

// Numbers reports whether its values are numbers.
func (p *Parameter) Numbers() bool { return p.Counts != words }

// words is what values count that are no numbers.
const words = "words"

// Find is its value of that text.
func (p *Parameter) Find(text string) (v Value, ok bool) {
	for _, v := range p.Values {
		if v.Text == text {
			return v, true
		}
	}
	return Value{Text: text}, false
}

// Value is a value of a parameter.
type Value struct {
	Text   string  `json:"text" text:"name"`
	Called string  `json:"called,omitempty"`
	Number float64 `json:"number,omitempty"` // in bytes, seconds, a second or plain; of a word nothing
}

// String is what people call it.
func (v Value) String() string {
	if v.Called != "" {
		return v.Called
	}
	return v.Text
}

// Point is the duel at one value of each parameter.
type Point struct {
	At       cell.Point `json:"at" text:"name"`
	Added    bool       `json:"added,omitempty"` // between those of the plan
	Pace     Pace       `json:"pace"`
	Entrants []Entrant  `json:"contenders"`
	Steps    []Cost     `json:"steps,omitempty"` // around each run there, as the footing has them
	Weighing *Weighing  `json:"same_work,omitempty"`
}

// Find is the number of the point there; -1 without one.
func (s *Sweep) Find(at cell.Point) int {
	return slices.IndexFunc(s.Points, func(p Point) bool { return p.At == at })
}

// Say writes a point for people, with what they call its values: "threads 12", "rows as in production, clients 8".
func (s *Sweep) Say(at cell.Point) string {
	values := at.Values()
	text := ""
	for i := range s.Parameters {
		p := &s.Parameters[i]
		v, _ := p.Find(values[p.Name])
		if text != "" {
			text += ", "
		}
		text += p.Name + " " + v.String()
	}
	return text
}

// AtPoint is the duel at one point of the sweep by itself, as if nothing else had been run: its cells have no point. It
// shares memory with the result. What the plan claims is left out, since a claim may be about several points.
func (r *Result) AtPoint(i int) *Result {
	point := &r.Sweep.Points[i]
	out := *r
	out.Sweep, out.Plan.Claims, out.Plan.Pace, out.Weighing = nil, nil, point.Pace, point.Weighing
	out.Plan.Name = r.Plan.Name + ", " + r.Sweep.Say(point.At)
	out.Entrants, out.Footing.Steps = slices.Clone(point.Entrants), point.Steps
	for j := range out.Entrants {
		if e := r.Entrant(out.Entrants[j].Name); e != nil {
			out.Entrants[j].LeftOut = e.LeftOut
		}
	}
	out.Order = make([][]cell.Cell, 0, len(r.Order))
	for _, round := range r.Order {
		var own []cell.Cell
		for _, c := range round {
			if c.Point == point.At {
				c.Point = ""
				own = append(own, c)
			}
		}
		out.Order = append(out.Order, own)
	}
	out.Heats = HeatsAt(r.Heats, point.At)
	return &out
}

// HeatsAt are the heats at a point, as cells without one.
func HeatsAt(heats []Heat, at cell.Point) (out []Heat) {
	for i := range heats {
		if h := &heats[i]; h.Point == at {
			own := *h
			own.Point = ""
			out = append(out, own)
		}
	}
	return out
}

// paceAt is how the contenders of a cell are driven.
func (r *Result) paceAt(c cell.Cell) *Pace {
	if r.Sweep != nil {
		if i := r.Sweep.Find(c.Point); i >= 0 {
			return &r.Sweep.Points[i].Pace
		}
	}
	return &r.Plan.Pace
}

// entrantAt is a cell's contender, with its touch there; nil without one.
func (r *Result) entrantAt(c cell.Cell) *Entrant {
	if r.Sweep != nil {
		if i := r.Sweep.Find(c.Point); i >= 0 {
			for j := range r.Sweep.Points[i].Entrants {
				if e := &r.Sweep.Points[i].Entrants[j]; e.Name == c.Contender {
					return e
				}
			}
		}
	}
	return r.Entrant(c.Contender)
}

const (
	maxParameters = 2
	maxPoints     = 200
)

// check finds what of a sweep does not hang together.
func (s *Sweep) check(r *Result) error {
	if s == nil {
		return nil
	}
	if n := len(s.Parameters); n < 1 || n > maxParameters {
		return fmt.Errorf("a sweep over %d parameters", n)
	}
	if n := len(s.Points); n < 1 || n > maxPoints {
		return fmt.Errorf("a sweep of %d points", n)
	}
	for i := range s.Points {
		p := &s.Points[i]
		values := p.At.Values()
		if len(values) != len(s.Parameters) {
			return fmt.Errorf("the point %q has %d values", p.At.String(), len(values))
		}
		for j := range s.Parameters {
			if _, ok := s.Parameters[j].Find(values[s.Parameters[j].Name]); !ok {
				return fmt.Errorf("the point %q has no value of %q", p.At.String(), s.Parameters[j].Name)
			}
		}
		if s.Find(p.At) != i {
			return fmt.Errorf("the point %q is there twice", p.At.String())
		}
		if len(p.Entrants) != len(r.Entrants) {
			return fmt.Errorf("%d contenders at %q", len(p.Entrants), p.At.String())
		}
		for j := range p.Entrants {
			if p.Entrants[j].Name != r.Entrants[j].Name {
				return fmt.Errorf("the contenders at %q are others", p.At.String())
			}
		}
	}
	return nil
}
