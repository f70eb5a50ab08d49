package relay

import (
	"maps"
	"slices"

	"paceduel/core/plan"
)

// afar finds fault with a relay that agents on other machines are to drive: deeds and effects have to be asked of
// somebody, not done or looked for on the machine itself. It needs no files.
func afar(settings plan.Settings) (_ []string, faults []plan.Fault) {
	s := settings.(*Settings)
	own := func(key, what string) {
		faults = append(faults, plan.Fault{
			Key: key, What: what + " is on the machine that drives it, and agents are elsewhere", Try: "leave load: out",
		})
	}
	if s.Shell != "" {
		own("shell", "a shell line")
	}
	if s.Put != nil {
		own("put", "a file")
	}
	if s.Query != nil {
		faults = append(faults, s.Query.Afar("query")...)
	}
	for _, name := range slices.Sorted(maps.Keys(s.Effects)) {
		e, key := s.Effects[name], plan.JoinKeys("effects", name)
		switch {
		case e.Call:
			own(plan.JoinKeys(key, "call"), "where calls are listened for")
		case e.File != "":
			own(plan.JoinKeys(key, "file"), "a file")
		case e.Log != "":
			own(plan.JoinKeys(key, "log"), "a file")
		case e.Check != "":
			own(plan.JoinKeys(key, "check"), "a shell line")
		case e.Query != nil:
			faults = append(faults, e.Query.Afar(plan.JoinKeys(key, "query"))...)
		}
	}
	return nil, faults
}
