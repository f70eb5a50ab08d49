package shots

import (
	"slices"

	"paceduel/core/figure"
	"paceduel/core/units"
)

// Shape is what shots of a kind are made of. A kind declares it once; shots carry parts and amounts by their places in
// it.
type Shape struct {
	Parts   []string // what a latency is made of, in the order in which they follow one another
	Amounts []Amount // what is counted of each shot
	// OwnProcess says that each shot is a process of its own, so that the first of a heat may differ from later ones.
	OwnProcess bool
	// Account are what contenders of the kind may count of their own work, in whole heats.
	Account []Amount
	// ToldMore are names of what shots tell of which more is better.
	ToldMore []string
}

// Limits of a shape.
const (
	MaxParts   = 8
	MaxAmounts = 12
)

// Amount is something that is counted of each shot.
type Amount struct {
	Name string     `json:"name"` // of a figure of the table, or its own
	Unit units.Unit `json:"unit"` // it is counted in nanoseconds where that is seconds, else in whole units
	Fold Fold       `json:"fold,omitempty"`
	Row  string     `json:"row,omitempty"` // what the scorecard calls it; empty: it has no line there
	// what that line divides it by: Shot, Success, or another amount's name; empty: nothing
	Per  string `json:"per,omitempty"`
	Site Site   `json:"site,omitempty"`
	More bool   `json:"more,omitempty"` // whether more of it is better
	// Rate says that so much of it a second is a figure that the verdict rests on.
	Rate bool `json:"rate,omitempty"`
}

// Used is what is known of a contender's service, whatever kind its shots are of.
var Used = []Amount{{Name: CPU, Unit: units.Second}, {Name: Memory, Unit: units.Byte, Fold: Most}}

// Figures are what plans may name of an amount beside the figures of the table. The most of several shots is none: it
// cannot be shared out among them.
func (a *Amount) Figures() (out []figure.Name) {
	if a.Row != "" && a.Fold == Sum {
		out = append(out, figure.Amount(a.Name, a.Unit))
	}
	if a.Rate {
		out = append(out, figure.RateOf(a.Name, a.Unit))
	}
	return out
}

// What the scorecard divides an amount by.
const (
	PerShot    = "shot"
	PerSuccess = "success"
)

// Fold is how amounts of several shots become one.
type Fold string

// The folds.
const (
	Sum  Fold = ""
	Most Fold = "most"
)

// Site is the part of the scorecard that an amount's line stands in.
type Site string

// The sites, in their order.
const (
	Takes    Site = "takes"    // times beside latencies
	Uses     Site = "uses"     // of the machine
	Answers  Site = "answers"  // what came back
	Connects Site = "connects" // what was opened
)

// The amounts that others know by their names: figures of the table are read from them, a caution tells of many
// connections. A kind that counts them declares them.
const (
	CPU         = "cpu"
	Memory      = "memory"
	Connections = "connections"
	// Idle is the CPU time that a contender's processes used since their last shot in another heat, while others had
	// their turn, and Rest how long that was.
	Idle = "idle cpu"
	Rest = "rest"
)

// Part is the place of a part; -1 where the shape has none of that name.
func (s *Shape) Part(name string) int { return slices.Index(s.Parts, name) }

// Amount is the place of an amount; -1 where the shape has none of that name.
func (s *Shape) Amount(name string) int {
	return slices.IndexFunc(s.Amounts, func(a Amount) bool { return a.Name == name })
}

// Of is so much of an amount of a shot, by the amount's name; 0 where the shape has none of that name.
func (s *Shape) Of(shot *Shot, name string) int64 {
	if at := s.Amount(name); at >= 0 {
		return shot.Amounts[at]
	}
	return 0
}

// Value is so much of an amount in its unit.
func (a *Amount) Value(n int64) float64 {
	if a.Unit == units.Second {
		return float64(n) / 1e9
	}
	return float64(n)
}
