package history

import (
	"fmt"
	"time"

	"paceduel/core/judge"
	"paceduel/core/units"
)

// Gate says what becomes of a run that is held to an earlier one, as claims are: no challenger may surely be worse than
// it was then, over the baseline that both have and in the figures that the verdict is spoken of by. goodFor is how old
// the earlier run may be; 0: of any age.
func (p *Pair) Gate(goodFor time.Duration) (out []judge.Claim) {
	if age := p.Now.Started.Sub(p.Then.Started); goodFor > 0 && age > goodFor {
		return []judge.Claim{{
			Text: "the run that it is held to is good", Finding: judge.Undecided,
			Why: fmt.Sprintf("run %s is %s old, and good for %s: make another", p.Then.ID, days(age), days(goodFor)),
		}}
	}
	for _, one := range p.Pairings {
		if one.Bridge == "" || one.Now == one.Bridge {
			continue
		}
		for _, a := range one.Spoken() {
			c := judge.Claim{
				Text: fmt.Sprintf("%s is not surely worse than it was %s%s", title(one), at(a.Figure), suffix(", at ",
					one.Point)),
				Why: a.Changed(), Finding: judge.Upheld,
			}
			switch {
			case a.Word == judge.Worse:
				c.Finding = judge.Refuted
			case a.Interval() == "":
				c.Finding = judge.Undecided
			}
			out = append(out, c)
		}
	}
	if len(out) == 0 {
		out = append(out, judge.Claim{
			Text: "it can be held to an earlier run", Finding: judge.Undecided,
			Why: fmt.Sprintf("run %s and this one have no baseline and challenger in common", p.Then.ID),
		})
	}
	return out
}

func title(p *judge.Pairing) string { return p.Now + suffix(" ", p.State) }

func suffix(before, text string) string {
	if text == "" {
		return ""
	}
	return before + text
}

// days writes an age.
func days(d time.Duration) string {
	if d < 48*time.Hour {
		return units.Plural(int(d/time.Hour), "hour")
	}
	return units.Plural(int(d/(24*time.Hour)), "day")
}
