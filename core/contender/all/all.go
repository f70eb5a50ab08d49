// Package all lists the kinds of contender that this program knows: the one place that names them.
package all

import (
	"paceduel/core/contender"
	"paceduel/core/contender/command"
	"paceduel/core/contender/http"
	"paceduel/core/contender/path"
	"paceduel/core/contender/query"
	"paceduel/core/contender/relay"
	"paceduel/core/contender/worker"
	"paceduel/core/draft"
	"paceduel/core/plan"
)

// Kinds returns every kind, in the order in which people should see them.
func Kinds() []contender.Kind {
	return []contender.Kind{command.Kind, http.Kind, path.Kind, query.Kind, relay.Kind, worker.Kind}
}

// PlanKinds is the part of Kinds that plans are read with.
func PlanKinds() []plan.Kind { return contender.PlanKinds(Kinds()) }

// Drafts are how plans are drafted for each kind that can be.
func Drafts() (out []*draft.Kind) {
	for _, k := range Kinds() {
		if k.Draft != nil {
			out = append(out, k.Draft)
		}
	}
	return out
}
