package query

import (
	"paceduel/core/contender"
	"paceduel/core/contender/query/database"
	"paceduel/core/guard"
	"paceduel/core/plan"
)

// watch keeps an account of a database that a contender of another kind uses.
func watch(setup contender.Setup, w *plan.Watch) (contender.Accounted, error) {
	s := New().(*Settings)
	s.At, s.Password = w.At, w.Password
	a, err := s.address(setup.Fill)
	if err != nil {
		return nil, err
	}
	e, err := s.server(a, setup)
	return &driver{settings: s, address: a, engine: e}, err
}

// checkWatch finds fault with a database that is to be watched.
func checkWatch(w *plan.Watch, in plan.Surroundings) []plan.Fault {
	s := New().(*Settings)
	s.At, s.Password = w.At, w.Password
	a, err := s.address(pretend)
	switch {
	case err != nil:
		return []plan.Fault{{Key: "at", What: err.Error()}}
	case a.Scheme == database.SQLite:
		return []plan.Fault{{
			Key: "at", What: "SQLite runs within the program that uses it, and counts for nobody else",
			Try: "watch a server, or ask the statements themselves with query:",
		}}
	case a.Host != "" && guard.New(in.Allow).Check(a.Host) != nil:
		return []plan.Fault{{Key: "at", What: a.Host + " is not this machine", Try: guard.Try(a.Host)}}
	}
	return nil
}
