// Package all lists the kinds of contender that this program knows: the one place that names them.
package all

import (
	"paceduel/core/contender"
	"paceduel/core/contender/command"
	"paceduel/core/contender/http"
	"paceduel/core/plan"
)

// Kinds returns every kind, in the order in which people should see them.
func Kinds() []contender.Kind {
	return []contender.Kind{http.Kind, command.Kind}
}

// PlanKinds is the part of Kinds that plans are read with.
func PlanKinds() (out []plan.Kind) {
	for _, k := range Kinds() {
		out = append(out, k.Kind)
	}
	return out
}
