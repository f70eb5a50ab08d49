package query

import (
	"strings"

	"paceduel/core/plan"
)

// afar is what agents on other machines need to send statements, and cannot do.
func afar(settings plan.Settings) (files []string, faults []plan.Fault) {
	s := settings.(*Settings)
	if s.Rows != "" {
		files = append(files, s.Rows)
	}
	faults = append(faults, nearAlone("at", string(s.At))...)
	if s.Connections > 0 {
		faults = append(faults, plan.Fault{
			Key: "connections", What: "clients on several machines cannot share a pool", Try: "set connections: kept",
		})
	}
	return files, faults
}

// Afar finds fault with a question that agents on other machines are to ask.
func (q *Question) Afar(key string) []plan.Fault {
	return nearAlone(plan.JoinKeys(key, "at"), string(q.At))
}

func nearAlone(key, at string) []plan.Fault {
	if !strings.HasPrefix(at, "sqlite:") {
		return nil
	}
	return []plan.Fault{{Key: key, What: "SQLite runs within the program that asks it",
		Try: "ask a server, or leave load: out"}}
}
