package history

import (
	"fmt"
	"slices"

	"paceduel/core/judge"
	"paceduel/core/result"
	"paceduel/core/units"
)

// Pair is two runs face to face.
type Pair struct {
	Then, Now *result.Result
	Changes   []Change
	Pairings  []*judge.Pairing // by contender, then by point and state
	Cautions  []string
}

// PairOf holds two runs to each other: a contender of each, or, where none is named, every contender that both have.
func PairOf(then, now *result.Result, a, b string) (*Pair, error) {
	p := &Pair{Then: then, Now: now, Changes: Changes(Of(then, nil, nil), Of(now, nil, nil))}
	var corners [][2]string
	switch {
	case a == "" && b == "":
		for _, name := range judge.Shared(then, now) {
			corners = append(corners, [2]string{name, name})
		}
		if len(corners) == 0 {
			return nil, fmt.Errorf("runs %s and %s have no contender of the same name; name one of each, as in %s:%s %s:%s",
				then.ID, now.ID, then.ID, then.Plan.Baseline, now.ID, now.Plan.Baseline)
		}
	case a == "":
		a = b
		fallthrough
	case b == "":
		if b == "" {
			b = a
		}
		fallthrough
	default:
		corners = append(corners, [2]string{a, b})
	}
	for _, c := range corners {
		own, err := judge.Pairings(judge.Corner{Run: then, Contender: c[0]}, judge.Corner{Run: now, Contender: c[1]})
		if err != nil {
			return nil, err
		}
		p.Pairings = append(p.Pairings, own...)
	}
	slices.SortStableFunc(p.Pairings, func(a, b *judge.Pairing) int { // those with a bridge say more
		return length(b.Bridge) - length(a.Bridge)
	})
	p.cautions()
	return p, nil
}

func length(text string) int { return min(len(text), 1) }

// cautions are what speaks against taking the figures as they stand.
func (p *Pair) cautions() {
	bridge := ""
	without := false
	for _, one := range p.Pairings {
		if one.Bridge == "" {
			without = true
		} else {
			bridge = one.Bridge
		}
	}
	differ := map[string]string{"machine": "machines", "kernel": "machines", "agents": "agents"}
	var drive []string // in which runs differ, as far as that is fast or slow
	for _, c := range p.Changes {
		if what := differ[c.What]; what != "" && !slices.Contains(drive, what) {
			drive = append(drive, what)
		}
	}
	if bridge != "" {
		then, now := p.Then.Entrant(bridge), p.Now.Entrant(bridge)
		if then.Does != now.Does || then.Version != now.Version {
			p.Cautions = append(p.Cautions, fmt.Sprintf(
				"%s, which both are held to, is not the same in both runs: what changed may be its own doing.", bridge))
		}
		if len(drive) > 0 {
			p.Cautions = append(p.Cautions, fmt.Sprintf("The %s differ: %s takes that out only as far as it makes "+
				"all contenders faster or slower alike.", units.List(drive), bridge))
		}
	}
	if without {
		p.Cautions = append(p.Cautions, "Where there is no baseline between the two, time and machine are in the figures: "+
			"what else this machine did then and does now is not told apart from what changed.")
	}
	if p.Then.Plan.SHA256 != p.Now.Plan.SHA256 {
		p.Cautions = append(p.Cautions, "The plans differ, and so may the work.")
	}
	p.Cautions = append(p.Cautions,
		"There is one run of each: intervals know what varies within a run. What differs from "+
			"one run of the same to the next shows when runs are repeated; paceduel again does that.")
}

// Title says which runs they are.
func (p *Pair) Title() string {
	name := p.Now.Plan.Name
	if p.Then.Plan.Name != name {
		name = p.Then.Plan.Name + " and " + name
	}
	return name
}

// Runs says which runs they are, then first.
func (p *Pair) Runs() string {
	return fmt.Sprintf("%s of %s, then, and %s of %s, now.", p.Then.ID, when(p.Then), p.Now.ID, when(p.Now))
}

func when(r *result.Result) string { return r.Started.Format("2 Jan 2006 15:04") }

// Changed says what differs between the two runs besides what they found.
func (p *Pair) Changed() string {
	if len(p.Changes) == 0 {
		return "Plan, versions and machine are the same, as far as they are known."
	}
	var out []string
	for _, c := range p.Changes {
		out = append(out, c.String())
	}
	return "What changed: " + units.List(out) + "."
}
