package query

import (
	"fmt"
	"maps"
	"slices"

	"paceduel/core/contender"
	"paceduel/core/contender/query/database"
	"paceduel/core/guard"
	"paceduel/core/plan"
)

// watch keeps an account of a database that a contender of another kind uses.
func watch(setup contender.Setup, w *plan.Watch) (contender.Accounted, error) {
	s := watched(w)
	a, err := s.address(setup.Fill)
	if err != nil {
		return nil, err
	}
	e, err := s.server(a, setup)
	return &driver{settings: s, address: a, engine: e}, err
}

// watched are the settings of whoever would ask the database itself.
func watched(w *plan.Watch) *Settings {
	s := New().(*Settings)
	s.Password = w.Password
	for _, at := range w.Databases() {
		s.At = at
	}
	return s
}

// spoken are the schemes that an address under a key of a watch may have.
var spoken = map[string]string{"postgres": database.Postgres, "mysql": database.MySQL, "mariadb": database.MySQL}

// checkWatch finds fault with a database that is to be watched.
func checkWatch(w *plan.Watch, in plan.Surroundings) []plan.Fault {
	keys := slices.Sorted(maps.Keys(w.Databases()))
	switch len(keys) {
	case 0:
		return []plan.Fault{{
			What: "nothing says which database is watched",
			Try:  "set postgres:, mysql: or mariadb: to its address, as postgres://USER@HOST:PORT/NAME",
		}}
	case 1:
	default:
		return []plan.Fault{{Key: keys[1], What: "a second database", Try: "watch one"}}
	}
	key := keys[0]
	a, err := watched(w).address(pretend)
	switch {
	case err != nil:
		return []plan.Fault{{Key: key, What: err.Error()}}
	case a.Scheme == database.SQLite:
		return []plan.Fault{{
			Key: key, What: "SQLite runs within the program that uses it, and counts for nobody else",
			Try: "watch a server, or ask the statements themselves with query:",
		}}
	case a.Scheme != spoken[key]:
		return []plan.Fault{{
			Key: key, What: fmt.Sprintf("its address begins with %s://", a.Scheme), Try: "write " + a.Scheme + ":",
		}}
	case a.Host != "" && guard.New(in.Allow).Check(a.Host) != nil:
		return []plan.Fault{{Key: key, What: a.Host + " is not this machine", Try: guard.Try(a.Host)}}
	}
	return nil
}
