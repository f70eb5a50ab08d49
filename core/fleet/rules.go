package fleet

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"time"

	"paceduel/core/contender"
	"paceduel/core/guard"
	"paceduel/core/plan"
	"paceduel/core/shares"
)

// Rules are an agent's owner's: what it may be asked, whatever a plan says.
type Rules struct {
	Allow   []string      `json:"allow,omitempty"` // hosts other than the agent's own machine that it may ask
	Lend    []string      `json:"lend,omitempty"`  // names of variables of its environment that plans may use
	Clients int           `json:"clients"`         // at once, at most
	Rate    float64       `json:"rate"`            // shots a second, at most
	Heat    time.Duration `json:"heat_ns"`         // how long a heat may be, warm-up included
}

// DefaultRules are those of an owner who said nothing: this machine alone, and what a plan may ask of any.
func DefaultRules() Rules {
	return Rules{Clients: plan.MaxClients, Rate: 100_000, Heat: 10 * time.Minute}
}

// ownersWord is that an owner allows something not. It stays so however often an agent is asked.
type ownersWord struct{ words string }

func (w *ownersWord) Error() string { return w.words }

func isOwnersWord(err error) bool {
	var w *ownersWord
	return errors.As(err, &w)
}

// lookup is what of an environment plans may use.
func (r Rules) lookup(env func(string) (string, bool)) func(string) (string, bool) {
	return func(name string) (string, bool) {
		if !slices.Contains(r.Lend, name) || env == nil {
			return "", false
		}
		return env(name)
	}
}

// refuse is why a plan may not be driven here as the part that is meant for this agent; nil where it may. The part may
// become another from heat to heat, see refuseAmounts.
func (r Rules) refuse(p *plan.Plan, kinds []contender.Kind, part shares.Part, laid map[string]string) error {
	for _, one := range p.Plans() {
		if err := errors.Join(r.refuseHosts(one), r.refuseAmounts(one.Pace, part)); err != nil {
			return err
		}
		if one.Same != nil && one.Same.Through != "" {
			return errors.New("the plan puts answers through a shell line, and agents run none")
		}
		if err := refuseContenders(one, kinds, laid); err != nil {
			return err
		}
	}
	return nil
}

// refuseHosts is why a plan asks somebody whom the owner does not allow; nil where it does not.
func (r Rules) refuseHosts(p *plan.Plan) error {
	for _, host := range p.Allow {
		if !slices.Contains(r.Allow, host) && guard.New(nil).Check(host) != nil {
			return fmt.Errorf("the plan asks %s, which the agent's owner does not allow; it has to join with --allow %s",
				host,
				host)
		}
	}
	return nil
}

// refuseAmounts is why a part of a heat is more than the owner allows; nil where it is not.
func (r Rules) refuseAmounts(p plan.Pace, part shares.Part) error {
	clients := part.Count(max(p.Clients, p.Most, 1))
	rate := float64(p.Rate)
	if !part.Whole() && rate > 0 { // its share of a second's shots
		const second = 1 << 16
		rate *= float64(part.Count(second)) / second
	}
	length := p.For.D()
	if p.Warmup != nil {
		length += p.Warmup.For.D()
	}
	var more string
	switch {
	case clients > r.Clients:
		more = fmt.Sprintf("%d clients at once are more than the %d", clients, r.Clients)
	case rate > r.Rate:
		more = fmt.Sprintf("%.0f shots a second are more than the %.0f", rate, r.Rate)
	case length > r.Heat:
		more = fmt.Sprintf("heats of %s are longer than the %s", length, r.Heat)
	default:
		return nil
	}
	return &ownersWord{more + " that whoever owns the agent allows"}
}

// refuseContenders holds contenders to what an agent does: ask somebody, with files that it was handed.
func refuseContenders(p *plan.Plan, kinds []contender.Kind, laid map[string]string) error {
	for i := range p.Contenders {
		c := &p.Contenders[i]
		at := slices.IndexFunc(kinds, func(k contender.Kind) bool { return k.Name == c.Kind })
		if at < 0 || kinds[at].Afar == nil {
			return fmt.Errorf("%s is a %s, and agents drive none", c.Name, c.Kind)
		}
		files, faults := kinds[at].Afar(c.Settings)
		if len(faults) > 0 {
			return fmt.Errorf("%s: %s", c.Name, faults[0].What)
		}
		for _, file := range files {
			if _, ok := laid[filepath.Clean(file)]; !ok {
				return fmt.Errorf("%s uses the file %s, which was not handed over", c.Name, file)
			}
		}
	}
	return nil
}
