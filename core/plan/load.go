package plan

import (
	"slices"
	"strconv"
	"time"

	"github.com/invopop/jsonschema"

	"paceduel/core/units"
)

// Load says that a duel is driven by agents on other machines.
type Load struct {
	Agents  Agents         `json:"agents,omitempty" jsonschema_description:"how many drive a heat together, at each place, or which, by their names; all that are there unless said"`
	Places  Lines          `json:"places,omitempty" jsonschema_description:"from where: each place is a state of its own, driven by the agents there and compared with the others"`
	Weights map[string]int `json:"weights,omitempty" jsonschema_description:"how much of the load an agent takes beside the others, as { quay-2: 3 }; 1 unless said"`
	Beside  string         `json:"beside,omitempty" jsonschema_description:"the agent that sits beside the service: what contenders start from, services and what is watched are there; whoever runs the duel unless said"`
	Lost    string         `json:"lost,omitempty" jsonschema:"enum=stop,enum=go on" jsonschema_description:"when an agent is lost for good: stop the run, or go on with the others; stop unless said"`
	Within  Span           `json:"within,omitempty" jsonschema_description:"how long an agent that does not answer is waited for before it is lost; 5s unless said"`
}

// Agents are how many, or which.
type Agents []string

// Limits of a load.
const (
	MaxAgents       = 1000
	MaxPlaces       = 6
	MaxWeight       = 100
	DefaultPatience = 5 * time.Second
	LeastPatience   = 500 * time.Millisecond
)

// GoOn is what is done about a lost agent where the others go on.
const GoOn = "go on"

// Short reads agents that are written as one text: their number, or one name.
func (a *Agents) Short(text string) { *a = Agents{text} }

// JSONSchema describes agents for the published schema.
func (Agents) JSONSchema() *jsonschema.Schema {
	name := &jsonschema.Schema{Type: "string", MinLength: new(uint64(1))}
	return &jsonschema.Schema{
		Description: "how many drive a heat together, at each place, or which, by their names; all that are there unless " +
			"said",
		OneOf: []*jsonschema.Schema{
			{Type: "integer", Minimum: "1", Maximum: "1000"}, name,
			{Type: "array", Items: name, MinItems: new(uint64(1))},
		},
	}
}

// Number is how many there are to be at each place; ok is false where names are given, or nothing.
func (a Agents) Number() (n int, ok bool) {
	if len(a) != 1 {
		return 0, false
	}
	n, err := strconv.Atoi(a[0])
	return n, err == nil
}

// Names are those that are named; none where a number is given.
func (a Agents) Names() []string {
	if _, ok := a.Number(); ok {
		return nil
	}
	return a
}

// Weight is how much of the load an agent takes beside the others.
func (l *Load) Weight(agent string) int { return max(l.Weights[agent], 1) }

// Patience is how long an agent that does not answer is waited for.
func (l *Load) Patience() time.Duration {
	if l.Within > 0 {
		return l.Within.D()
	}
	return DefaultPatience
}

// String says it for people: "2 agents at each of near and far".
func (l *Load) String() string {
	text := "the agents"
	if n, ok := l.Agents.Number(); ok {
		text = plural(n, "agent")
	} else if len(l.Agents) > 0 {
		text = units.List(l.Agents)
	}
	switch len(l.Places) {
	case 0:
		return text
	case 1:
		return text + " at " + l.Places[0]
	}
	at := " at "
	if _, counted := l.Agents.Number(); counted {
		at = " at each of "
	}
	return text + at + units.List(l.Places)
}

// IsName reports whether an agent, or a place, may be called so: it has to fit into the subjects of a bus.
func IsName(text string) bool {
	return text != "" && len(text) <= MaxName && !slices.ContainsFunc([]rune(text), func(r rune) bool {
		return (r < 'a' || r > 'z') && (r < '0' || r > '9') && r != '-' && r != '_'
	})
}

// CacheStates are the states of caches that contenders are run in, at least one.
func (p *Plan) CacheStates() []State {
	if len(p.Footing.Caches) == 0 {
		return []State{AsFound}
	}
	return p.Footing.Caches
}

// States are what contenders have heats of their own in, at least one: states of caches, or the places that they are
// driven from.
func (p *Plan) States() []State {
	if p.Load == nil || len(p.Load.Places) < 2 {
		return p.CacheStates()
	}
	out := make([]State, len(p.Load.Places))
	for i, place := range p.Load.Places {
		out[i] = State(place)
	}
	return out
}
