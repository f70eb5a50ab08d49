package fleet

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"paceduel/core/bus"
	"paceduel/core/plan"
	"paceduel/core/units"
)

// List asks who is on a bus, until nobody has answered for quiet, and sorts them by place and name. Odd lists in words
// who cannot be worked with, and why.
func List(ctx context.Context, link *bus.Link, quiet time.Duration) (cards []Card, odd []string, err error) {
	err = link.AskAll(ctx, helloAll, nil, quiet, func(text []byte) {
		var c Card
		err := decode(text, &c)
		if err == nil {
			err = c.check()
		}
		if err != nil {
			odd = append(odd, fmt.Sprintf("an agent %s: %s", units.Printable(short(c.Name)), units.Printable(err.Error())))
			return
		}
		cards = append(cards, c)
	})
	slices.SortFunc(cards, func(a, b Card) int {
		return cmp.Or(cmp.Compare(a.Place, b.Place), cmp.Compare(a.Name, b.Name), cmp.Compare(a.Instance, b.Instance))
	})
	return cards, odd, err
}

// choose picks those that a load names among who is there, in the order in which load is dealt to them. missing says in
// words whom it lacks; empty: nobody.
func choose(l *plan.Load, there []Card) (chosen []Card, missing []string) {
	var busy []string
	var free []Card
	for _, c := range there {
		if c.Run != "" {
			busy = append(busy, fmt.Sprintf("%s works for run %s", c.Name, c.Run))
			continue
		}
		free = append(free, c)
	}
	for _, name := range l.Agents.Names() {
		if !slices.ContainsFunc(free, func(c Card) bool { return c.Name == name }) {
			missing = append(missing, "agent "+name+" is not there")
		}
	}
	places := l.Places
	if len(places) == 0 {
		places = []string{""}
	}
	for _, place := range places {
		var here []Card
		for _, c := range free {
			named := len(l.Agents.Names()) == 0 || slices.Contains(l.Agents.Names(), c.Name)
			if named && (place == "" || c.Place == place) {
				here = append(here, c)
			}
		}
		want, counted := l.Agents.Number()
		if !counted {
			want = max(len(here), 1)
		}
		if len(here) < want && len(missing) == 0 {
			at := ""
			if place != "" {
				at = " at " + place
			}
			missing = append(missing, fmt.Sprintf("%s%s of %d", units.Plural(len(here), "free agent"), at, want))
		}
		chosen = append(chosen, here[:min(want, len(here))]...)
	}
	if len(missing) > 0 {
		missing = append(missing, busy...)
	}
	return chosen, missing
}

// namesakes are names that several agents have.
func namesakes(cards []Card) (names []string) {
	for i := range cards {
		for j := range cards[:i] {
			if cards[j].Name == cards[i].Name && !slices.Contains(names, cards[i].Name) {
				names = append(names, cards[i].Name)
			}
		}
	}
	return names
}
