package read_test

import (
	"slices"
	"strings"
	"testing"

	"paceduel/core/contender/all"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
)

// Settings within settings are told one by one, by their keys, however deep they stand.
func TestSettingsWithinSettingsAreTold(t *testing.T) {
	for _, tt := range []struct {
		course string
		want   [][2]string
	}{
		{`relay: { put: "in/{{key}}", effects: { done: { file: "out/{{key}}" }, ` +
			`seen: { query: { at: "sqlite:a.db", statement: select 1 } } } }`,
			[][2]string{
				{"put.file", "in/{{key}}"}, {"effects.done.file", "out/{{key}}"}, {"effects.seen.query.statement", "select 1"},
			}},
		{`http: { url: "http://127.0.0.1:1/", legs: [ { name: a, url: /a }, { name: b, url: /b, needs: [a] } ] }`,
			[][2]string{{"legs[0].name", "a"}, {"legs[1].url", "/b"}, {"legs[1].needs", "a"}}},
	} {
		p, err := readText("duel: T\nbaseline: a\ncourse: { "+tt.course+" }\ncontenders: { a: , b: }\npace: { repeat: 3 }\n",
			read.Options{Kinds: all.PlanKinds()})
		if err != nil {
			t.Fatal(err)
		}
		shared, _ := p.Aspects()
		for _, a := range tt.want {
			if !slices.Contains(shared, plan.Aspect{Key: a[0], Value: a[1]}) {
				t.Errorf("%v is not told: %v", a, shared)
			}
		}
		for _, a := range shared {
			if strings.Contains(a.Value, "<nil>") || strings.HasPrefix(a.Value, "{") {
				t.Errorf("%s is told as %q", a.Key, a.Value)
			}
		}
	}
}

// As many deeds may be under way as a heat has, unless the plan says how many; of what does its work at once it is
// fewer.
func TestHowManyMayBeUnderWay(t *testing.T) {
	for course, pace := range map[string]map[string]int{
		"relay: { put: x, effects: { done: { call: true } } }": {
			"{ rate: 150/s, for: 3s }": 451, "{ rate: 150/s, for: 3s, most: 20 }": 20, "{ rate: 2/s, for: 3s }": 64,
			"{ rate: 9000/s, for: 3s }": 10_000, "{ rate: 150/s, shots: 900 }": 901,
		},
		`http: { url: "http://127.0.0.1:1/" }`: {"{ rate: 150/s, for: 3s }": 64},
	} {
		for said, want := range pace {
			p, err := readText("duel: T\nbaseline: a\ncourse: { "+course+" }\ncontenders: { a: , b: }\npace: "+said+"\n",
				read.Options{Kinds: all.PlanKinds()})
			if err != nil || p.Pace.Most != want {
				t.Errorf("%s, %s: %v, %v; want %d", course, said, p, err, want)
			}
		}
	}
}
