package judge

import (
	"math"
	"strconv"

	"paceduel/core/cell"
	"paceduel/core/figure"
	"paceduel/core/judge/curve"
	"paceduel/core/units"
)

// Table is a curve in numbers: a row for each point, a column for each contender, and who is best.
type Table struct {
	Head  []string
	Rows  [][]string
	Words [][]Word // of the contenders in each row, against the baseline; empty where there is none
}

// Table sets a curve out in numbers. It has no rows where there is nothing on that scale.
func (s *Sweep) Table(slice int, fig figure.Name, scale Scale) (t Table) {
	of := &s.Slices[slice]
	c := s.Curve(slice, fig, scale)
	t.Head = []string{s.Labelled(of, fig, scale) + ", " + s.Parameter(of).Name}
	if where := s.Where(of); where != "" {
		t.Head[0] += " (" + where + ")"
	}
	t.Head = append(append(t.Head, s.Contenders...), "best", "by")
	if c == nil {
		return t
	}
	for p := range of.Points {
		row, words := []string{s.Value(of, p).String()}, []Word{}
		for j, name := range s.Contenders {
			row = append(row, s.ShowOn(fig, scale, c.Typical[j][p].V))
			words = append(words, s.Word(of, p, fig, name))
		}
		t.Rows, t.Words = append(t.Rows, append(row, s.best(c, p)...)), append(t.Words, words)
	}
	return t
}

// Numbers sets a curve out for a program to read: a head, then a row for each point with the value of each contender
// and its 95 % interval, in the figure's unit, and who is best. Values that are not known are empty.
func (s *Sweep) Numbers(slice int, fig figure.Name, scale Scale) (rows [][]string) {
	of := &s.Slices[slice]
	c := s.Curve(slice, fig, scale)
	if c == nil {
		return nil
	}
	head := []string{s.Parameter(of).Name}
	for _, name := range s.Contenders {
		head = append(head, name, name+" low", name+" high")
	}
	rows = append(rows, append(head, "best", "best stands"))
	number := func(x float64) string {
		if math.IsNaN(x) || math.IsInf(x, 0) {
			return ""
		}
		return strconv.FormatFloat(x, 'g', 8, 64)
	}
	for p := range of.Points {
		row := []string{s.Value(of, p).Text}
		for j := range s.Contenders {
			a := c.Typical[j][p]
			row = append(row, number(a.V), number(a.Low), number(a.High))
		}
		best := ""
		if at := c.Places[p].Leader; at >= 0 {
			best = s.Contenders[at]
		}
		rows = append(rows, append(row, best, c.Places[p].Standing.String()))
	}
	return rows
}

// Word is what may be said of a contender at a point of a slice, against the baseline: of the figure that decides, with
// all points together; NoWord of the baseline and other figures.
func (s *Sweep) Word(of *Slice, point int, fig figure.Name, contender string) Word {
	if fig != s.Decides {
		return NoWord
	}
	at := cell.Cell{Contender: contender, State: of.State, Point: s.r.Sweep.Points[of.Points[point]].At}
	if w, ok := s.words[at]; ok {
		return w
	}
	return NoWord
}

// ShowOn writes a value of a figure on a scale.
func (s *Sweep) ShowOn(fig figure.Name, scale Scale, v float64) string {
	switch {
	case math.IsNaN(v):
		return units.None
	case scale == AgainstBaseline && v < 0.995:
		return units.Significant(v) + "x"
	case scale == AgainstBaseline:
		return units.Times(v)
	}
	return fig.Show(v)
}

// best says who is best at a point and by how much.
func (s *Sweep) best(c *Curve, point int) []string {
	place := c.Places[point]
	by := units.None
	if place.By.Known() {
		if by = units.Times(max(place.By.V, 1)); place.By.Sure() {
			by += " (" + withinTimes(place.By) + ")"
		}
	}
	switch place.Standing {
	case curve.Ahead:
		return []string{s.Contenders[place.Leader], by}
	case curve.Even:
		var names []string
		for _, j := range place.Equals {
			names = append(names, s.Contenders[j])
		}
		return []string{"too close: " + units.List(names), by}
	case curve.Open:
		return []string{"open, leans " + s.Contenders[place.Leader], by}
	}
	return []string{units.None, units.None}
}
