// Package cell names what a heat belongs to, and what verdicts are of: a contender in a state of caches at a point of a
// parameter.
//
// It is a leaf, and the one type for it: plans make cells, runs put them in order, results, verdicts and pictures speak
// of them.
package cell

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Cell is comparable, so that it can be the key of a map.
type Cell struct {
	Contender string `json:"contender" text:"name"`
	State     string `json:"state,omitempty" text:"ours"` // of caches: cold, warm; empty: as found
	Point     Point  `json:"point,omitzero" text:"name"`  // of the parameters that the duel is run over; empty without any
}

// Of is the cell of a contender in a state.
func Of(contender, state string) Cell { return Cell{Contender: contender, State: state} }

// String names the cell for people: "joined", "joined cold", "joined cold, clients 8".
func (c Cell) String() string {
	text := c.Contender
	if c.State != "" {
		text += " " + c.State
	}
	if c.Point != "" {
		text += ", " + c.Point.String()
	}
	return text
}

// With is the cell of another contender in the same state and at the same point: what it is compared with.
func (c Cell) With(contender string) Cell {
	c.Contender = contender
	return c
}

// Point is a value for each parameter. It is comparable and in JSON an object of names and values.
type Point string

// between separates a point's parameters, and each name from its value; neither may hold it.
const between, equals = "\n", "\t"

// At is the point of these values by their names. Line ends and tabs in them become spaces.
func At(values map[string]string) Point {
	plain := strings.NewReplacer(between, " ", equals, " ")
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(values)) {
		parts = append(parts, plain.Replace(name)+equals+plain.Replace(values[name]))
	}
	return Point(strings.Join(parts, between))
}

// Values are the point's values by the names of their parameters.
func (p Point) Values() map[string]string {
	if p == "" {
		return nil
	}
	out := map[string]string{}
	for part := range strings.SplitSeq(string(p), between) {
		name, value, _ := strings.Cut(part, equals)
		out[name] = value
	}
	return out
}

// String writes the point for people: "clients 8, size 64KiB".
func (p Point) String() string {
	return strings.NewReplacer(between, ", ", equals, " ").Replace(string(p))
}

// MarshalJSON writes the point as an object.
func (p Point) MarshalJSON() ([]byte, error) { return json.Marshal(p.Values()) }

// UnmarshalJSON reads an object whose values are texts.
func (p *Point) UnmarshalJSON(text []byte) error {
	var values map[string]string
	if err := json.Unmarshal(text, &values); err != nil {
		return fmt.Errorf("a point names texts: %w", err)
	}
	*p = At(values)
	return nil
}
