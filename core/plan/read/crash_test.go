package read_test

import (
	"strings"
	"testing"

	"paceduel/core/contender/all"
	"paceduel/core/contender/http"
	"paceduel/core/plan/read"
)

const crashing = `duel: Boards
baseline: a
course:
  http: { url: "http://127.0.0.1:${PORT}/board", headers: { X-A: one }, timeout: 3s }
  service: { run: [x, "${PORT}"], ready: { line: x } }
  crash: { count: COUNT }
contenders: { a: , b: }
pace: { repeat: 5 }
`

// What counts is a shell line or a shot of a kind, and one of the contender's own kind is laid over its settings.
func TestWhatCountsIsRead(t *testing.T) {
	for said, want := range map[string]string{
		`"wc -l < log"`: "wc -l < log",
		`{ http: { url: "http://127.0.0.1:${PORT}/count", headers: { X-B: two } } }`: "/count",
		`{ query: { at: "sqlite:log.db", statement: "select count(*) from log" } }`:  "select count(*) from log",
	} {
		p, err := readText(strings.Replace(crashing, "COUNT", said, 1), read.Options{Kinds: all.PlanKinds()})
		if err != nil {
			t.Errorf("%s: %v", said, err)
			continue
		}
		c := &p.Contenders[0].Ground.Crash.Count
		if !strings.Contains(c.Summary(), want) {
			t.Errorf("%s: %s", said, c.Summary())
		}
		if own, ok := c.Settings.(*http.Settings); ok {
			of := p.Contenders[0].Settings.(*http.Settings)
			if own.Timeout != of.Timeout || len(own.Headers) != 2 || len(of.Headers) != 1 || own.URL == of.URL {
				t.Errorf("%+v beside %+v", own, of)
			}
		}
		_, apart := p.Aspects()
		shared, _ := p.Aspects()
		told := false
		for _, a := range append(shared, apart[0]...) {
			told = told || a.Key == "crash.count" && strings.Contains(a.Value, want)
		}
		if !told {
			t.Errorf("%s is not told: %v", said, shared)
		}
	}
	for said, want := range map[string]string{
		"":                                      "nothing says what is there afterwards",
		"{ htp: { url: x } }":                   `no kind is called "htp"`,
		"{ http: { uri: x } }":                  `unknown key "uri"`,
		"[a]":                                   "must be a shell line or have the key of one kind",
		"{ http: , query: }":                    "must be a shell line or have the key of one kind",
		`{ http: { url: "http://10.1.2.3/" } }`: "10.1.2.3 is not this machine",
		"{ query: { at: \"sqlite:log.db\" } }":  "nothing says what is asked",
	} {
		_, err := readText(strings.Replace(crashing, "COUNT", said, 1), read.Options{Kinds: all.PlanKinds()})
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v; want %s", said, err, want)
		}
	}
}
