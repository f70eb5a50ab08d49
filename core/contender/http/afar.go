package http

import (
	"paceduel/core/plan"
)

// afar is what agents on other machines need to send a request, and cannot do.
func afar(settings plan.Settings) (files []string, faults []plan.Fault) {
	s := settings.(*Settings)
	add := func(file string) {
		if file != "" {
			files = append(files, file)
		}
	}
	parts := func(list []Part) {
		for i := range list {
			add(list[i].File)
		}
	}
	add(s.Rows)
	add(s.BodyFile)
	parts(s.Parts)
	for i := range s.Legs {
		add(s.Legs[i].BodyFile)
		parts(s.Legs[i].Parts)
	}
	if s.TLS != nil {
		add(s.TLS.CA)
	}
	if s.TLS != nil && s.TLS.Key != "" {
		faults = append(faults, plan.Fault{
			Key: "tls.key", What: "a private key does not travel to agents", Try: "leave it out, or load:",
		})
	}
	if s.Connections > 0 {
		faults = append(faults, plan.Fault{
			Key: "connections", What: "clients on several machines cannot share a pool", Try: "set connections: kept",
		})
	}
	return files, faults
}
