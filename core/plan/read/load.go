package read

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"paceduel/core/plan"
	"paceduel/core/units"
)

// checkLoad checks who drives a duel from elsewhere, and that it can be driven so.
func (r *reader) checkLoad(p *plan.Plan) {
	l := r.doc.Load
	if p.Load = l; l == nil {
		return
	}
	r.checkAgents(l)
	taken := append([]string{string(plan.AsFound)}, plan.StateNames...)
	for i, place := range l.Places {
		at := fmt.Sprintf("load.places[%d]", i)
		switch {
		case !plan.IsName(place) || slices.Contains(taken, place) || slices.Contains(r.names, place):
			r.fault(at, "use a word of small letters, digits, - and _, as near", "%q is not a name for a place", short(place))
		case slices.Contains(l.Places[:i], place):
			r.fault(at, "leave one out", "%s stands twice among the places", place)
		}
	}
	if len(l.Places) > plan.MaxPlaces {
		r.fault("load.places", "leave some out", "%d places are more than %d", len(l.Places), plan.MaxPlaces)
	}
	if len(l.Places) > 1 && len(p.Footing.Caches) > 0 {
		r.fault("footing.caches", "keep one of the two, and run the duel once for each of the other's",
			"caches and places are two sets of states")
	}
	if l.Within > 0 && l.Within.D() < plan.LeastPatience {
		r.fault("load.within", "wait a little longer", "no agent is lost before %s", plan.LeastPatience)
	}
	r.checkAfar(p)
	if n, ok := l.Agents.Number(); ok && clientsOf(p) < n {
		r.fault("load.agents", "set as many clients, or fewer agents", "%s cannot be shared by %d agents",
			units.Plural(clientsOf(p), "client"), n)
	}
}

// clientsOf is among how many clients the shots of a heat are shared out at the least.
func clientsOf(p *plan.Plan) int {
	n := max(p.Pace.Clients, p.Pace.Most, 1)
	if c := p.Pace.Climb; c != nil && c.From.Clients > 0 {
		n = c.From.Clients
	}
	if p.Pace.Shots > 0 {
		n = min(n, p.Pace.Shots)
	}
	return n
}

func (r *reader) checkAgents(l *plan.Load) {
	if n, ok := l.Agents.Number(); ok && (n < 1 || n > plan.MaxAgents) {
		r.fault("load.agents", fmt.Sprintf("use 1 to %d", plan.MaxAgents), "%d is no number of agents", n)
	}
	if l.Beside != "" && !plan.IsName(l.Beside) {
		r.fault("load.beside", "paceduel agents lists those that are there", "%q is not the name of an agent",
			short(l.Beside))
	}
	names := l.Agents.Names()
	if l.Beside != "" && slices.Contains(names, l.Beside) {
		r.fault("load.beside", "leave it out of agents:", "%s sits beside the service, and drives nothing", l.Beside)
	}
	for i, name := range names {
		switch {
		case !plan.IsName(name):
			r.fault("load.agents", "paceduel agents lists those that are there", "%q is not the name of an agent",
				short(name))
		case slices.Contains(names[:i], name):
			r.fault("load.agents", "leave one out", "%s stands twice among the agents", name)
		}
	}
	for name, w := range l.Weights {
		if w < 1 || w > plan.MaxWeight {
			r.fault("load.weights."+name, fmt.Sprintf("use 1 to %d", plan.MaxWeight), "%d is no weight", w)
		}
		if len(names) > 0 && !slices.Contains(names, name) {
			r.fault("load.weights."+name, plan.PointTo(name, names), "no agent of the load is called %q", short(name))
		}
	}
}

// checkAfar finds what of a plan has to be done where the contenders are driven, which agents do not do.
func (r *reader) checkAfar(p *plan.Plan) {
	reason := "it is done around shots, which others elsewhere perform"
	for key, set := range map[string]bool{
		"footing.before.run": len(p.Footing.Before.Run) > 0, "footing.after.run": len(p.Footing.After.Run) > 0,
		"footing.idle": p.Footing.Idle > 0, "pace.rush": p.Pace.Rush,
	} {
		if set {
			r.fault(key, "leave it out, or load:", "%s does not go with agents: %s", key[strings.LastIndex(key, ".")+1:],
				reason)
		}
	}
	for _, s := range p.Footing.Caches {
		if s != plan.AsFound && s != plan.First && s != plan.Returning {
			r.fault("footing.caches", "leave it out, or load:", "%s does not go with agents: %s", s, reason)
			break
		}
	}
	if p.Same != nil && p.Same.Through != "" {
		r.fault("same.through", "leave it out, or load:", "agents run no shell lines")
	}
	told := map[string]bool{}
	for i := range p.Contenders {
		c := &p.Contenders[i]
		at := slices.IndexFunc(r.opt.Kinds, func(k plan.Kind) bool { return k.Name == c.Kind })
		if k := &r.opt.Kinds[at]; k.Afar == nil {
			if !told[c.Kind] {
				r.fault("load", "leave load: out",
					"a contender of kind %s is on the machine that drives it, and agents are elsewhere",
					c.Kind)
			}
			told[c.Kind] = true
			continue
		}
		files, faults := r.opt.Kinds[at].Afar(c.Settings)
		for _, file := range files {
			if !filepath.IsLocal(file) {
				faults = append(faults, plan.Fault{
					What: fmt.Sprintf("agents are handed files from the plan's folder, and %s lies elsewhere", short(file)),
					Try:  "put it, or a link to it, beside the plan",
				})
			}
		}
		for i := range faults {
			faults[i].What = c.Name + ": " + faults[i].What
		}
		r.faultsAt(plan.JoinKeys("contenders."+c.Name, c.Kind), faults)
		for key, set := range map[string]bool{
			"traces": c.Ground.Traces != nil, "crash": c.Ground.Crash != nil,
			"footing.before.run":   len(c.Ground.Before.Run) > len(p.Footing.Before.Run), // those of all are told above
			"footing.after.run":    len(c.Ground.After.Run) > len(p.Footing.After.Run),
			"service.fresh: run":   c.Ground.Service != nil && c.Ground.Service.Fresh == plan.EveryRun,
			"workspace.fresh: run": c.Ground.Workspace != nil && c.Ground.Workspace.Fresh == plan.EveryRun,
		} {
			if set {
				at, _, _ := strings.Cut(key, ":")
				r.fault(plan.JoinKeys("contenders."+c.Name, at), "leave it out, or load:", "%s: %s does not go with agents",
					c.Name, key)
			}
		}
	}
}

// placesOf are the places that a plan's contenders are driven from.
func placesOf(p *plan.Plan) []string {
	if p.Load == nil {
		return nil
	}
	return p.Load.Places
}
