package read_test

import (
	"bytes"
	"encoding/json"
	"os"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"paceduel/core/contender/all"
	"paceduel/core/plan/read"
	"paceduel/internal/golden"
)

func schema(t *testing.T) *jsonschema.Schema {
	t.Helper()
	text, err := read.Schema(all.PlanKinds())
	if err != nil {
		t.Fatal(err)
	}
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("plan.json", doc); err != nil {
		t.Fatal(err)
	}
	s, err := c.Compile("plan.json")
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func asJSON(t *testing.T, src string) any {
	t.Helper()
	text, err := yaml.YAMLToJSON([]byte(src))
	if err != nil {
		t.Fatal(err)
	}
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	return doc
}

// Reader and schema accept and refuse the same documents, as far as a schema can tell. It is long since its cases are
// listed in it.
func TestReaderAndSchemaAgree(t *testing.T) {
	s := schema(t)
	replace := func(pairs ...string) string { return strings.NewReplacer(pairs...).Replace(berthBoard) }
	tests := []struct {
		name, src string
		ok        bool
	}{
		{"as it is", berthBoard, true},
		{"shots", replace("for: 2s", "shots: 100"), true},
		{"warm-up in shots", replace("warmup: 500ms", "warmup: 3"), true},
		{"no warm-up", replace("warmup: 500ms", "warmup: 0"), true},
		{"interest in per cent", replace("rounds: 8", "interest: 2.5%"), true},
		{"interest as a number", replace("rounds: 8", "interest: 0.1"), true},
		{"figure that decides", replace("rounds: 8", "decides: p99"), true},
		{"size with a unit", replace("timeout: 3s", "max-body: 10 MiB"), true},
		{"size in bytes", replace("timeout: 3s", "max-body: 4096"), true},
		{
			"contender without settings",
			replace("per-vessel: { note: what runs today, http: { headers: { X-Board: per-vessel } } }", "per-vessel:"), true,
		},
		{"numbers as header values", replace("X-Board: joined", "X-Board: 3.5"), true},
		{"no connection kept", replace("timeout: 3s", "connections: new"), true},

		{"rules for the same work", replace(
			"rounds: 8", "same: { body: json, ignore: [/at], tolerance: 1%, at: [/tide], match: x, count: y, unordered: true }",
		), true},
		{"a rate", replace("clients: 8", "rate: 500/s, spread: poisson, most: 32"), true},
		{"a rate a minute", replace("clients: 8", "rate: 90.5/m"), true},
		{"a rate without its unit", replace("clients: 8", "rate: 500"), false},
		{"a rate of nothing", replace("clients: 8", "rate: 5/h"), false},
		{"unknown spread", replace("clients: 8", "rate: 5/s, spread: wide"), false},
		{"footing", replace(
			"rounds: 8",
			"footing: { workspace: ., caches: warm, before: { duel: a, heat: [b, c] }, cpus: 0-1, own-cpus: 1, nice: -3, "+
				"stores: s, pages: [x, y] }",
		), true},
		{"footing in full", replace("rounds: 8", "footing: { workspace: { from: [., ..], fresh: duel, at: w } }"), true},
		{
			"footing of a contender", replace("note: what runs today,", "note: x, footing: { nice: 3, before: { heat: a } },"),
			true,
		},
		{"states for one contender", replace("note: what runs today,", "note: x, footing: { caches: cold },"), false},
		{
			"steps for the duel of one contender",
			replace("note: what runs today,", "note: x, footing: { before: { duel: a } },"), false,
		},
		{"unknown state", replace("rounds: 8", "footing: { caches: tepid }"), false},
		{"no state", replace("rounds: 8", "footing: { caches: [] }"), false},
		{"workspace of nothing", replace("rounds: 8", "footing: { workspace: { fresh: run } }"), false},
		{"processors in words", replace("rounds: 8", "footing: { cpus: all }"), false},
		{"niceness out of range", replace("rounds: 8", "footing: { nice: 20 }"), false},
		{"service", replace(
			"note: what runs today,",
			"note: x, service: { run: [board, '${PORT}'], ready: { url: 'http://127.0.0.1:1/', status: 204 }, limit: 3s, "+
				"fresh: duel, stop: { signal: INT, grace: 1s } },",
		), true},
		{"service in the course", replace("course:", "course:\n  service: { shell: 'board ${PORT}' }"), true},
		{
			"service with an unknown signal",
			replace("note: what runs today,", "note: x, service: { shell: 'b ${PORT}', stop: { signal: USR1 } },"), false,
		},
		{"rows by key", replace("rounds: 8", "same: { body: rows, list: /b, key: /id, sample: 5% }"), true},
		{"unknown rule", replace("rounds: 8", "same: { bodies: exact }"), false},
		{"unknown comparison", replace("rounds: 8", "same: { body: alike }"), false},

		{"unknown key", replace("rounds: 8", "round: 8"), false},
		{"unknown key of a contender", replace("note: what", "nota: what"), false},
		{"unknown key of a kind", replace("timeout: 3s", "tiempo: 3s"), false},
		{"kind under another name", replace("  http: { url", "  htp: { url"), false},
		{"no duel", replace("duel: Berth board\n", ""), false},
		{"no pace", replace("pace: { clients: 8, for: 2s, warmup: 500ms }\n", ""), false},
		{"empty name", replace("duel: Berth board", `duel: ""`), false},
		{"rounds as text", replace("rounds: 8", "rounds: eight"), false},
		{"too many rounds", replace("rounds: 8", "rounds: 1001"), false},
		{"too many clients", replace("clients: 8", "clients: 1025"), false},
		{"span without a unit", replace("for: 2s", "for: 2"), false},
		{"negative span", replace("for: 2s", "for: -2s"), false},
		{"interest over one", replace("rounds: 8", "interest: 1.5"), false},
		{"interest over a hundred per cent", replace("rounds: 8", "interest: 101%"), false},
		{"unknown choice", replace("timeout: 3s", "connections: some"), false},
		{"unknown method", replace("timeout: 3s", "method: FETCH"), false},
		{"status out of range", replace("timeout: 3s", "expect: 99"), false},
		{"allow as text", replace("rounds: 8", "allow: localhost"), false},
		{
			"one contender",
			replace("  joined: { avoid: the moon is full, http: { headers: { X-Board: joined }, timeout: 3s } }\n", ""), false,
		},
		{"seed of zero", replace("rounds: 8", "seed: 0"), false},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			_, readErr := read.Plan("b.duel.yaml", []byte(tt.src), options())
			schemaErr := s.Validate(asJSON(t, tt.src))
			if (readErr == nil) != tt.ok {
				t.Errorf("reader: %v; want accepted %v", readErr, tt.ok)
			}
			if (schemaErr == nil) != tt.ok {
				t.Errorf("schema: %v; want accepted %v", schemaErr, tt.ok)
			}
		})
	}
}

// Every key in the schema is one that the reader knows, and the other way round.
func TestSchemaNamesTheReadersKeys(t *testing.T) {
	text, err := read.Schema(all.PlanKinds())
	if err != nil {
		t.Fatal(err)
	}
	golden.Check(t, "schema.json", string(text)+"\n")
	var doc struct {
		Properties map[string]json.RawMessage
	}
	if err := json.Unmarshal(text, &doc); err != nil {
		t.Fatal(err)
	}
	for key := range doc.Properties {
		_, err := read.Plan("k.duel.yaml", []byte(key+": {}\n"), options())
		if err != nil && strings.Contains(err.Error(), "unknown key") {
			t.Errorf("the reader does not know %q of the schema", key)
		}
	}
	_, err = read.Plan("k.duel.yaml", []byte("zzzzzzzzzzzzzzzz: 1\n"), options())
	_, list, _ := strings.Cut(err.Error(), "known here: ")
	for key := range strings.SplitSeq(strings.TrimSpace(strings.Split(list, "\n")[0]), ", ") {
		if _, ok := doc.Properties[key]; !ok {
			t.Errorf("the schema lacks %q of the reader", key)
		}
	}
	for _, k := range all.PlanKinds() {
		fields := reflect.TypeOf(k.New()).Elem()
		for f := range fields.Fields() {
			name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
			if f.Tag.Get("jsonschema_description") == "" {
				t.Errorf("%s.%s has no description in the schema", k.Name, name)
			}
		}
	}
}

// The reference of the plan names every key.
func TestReferenceIsComplete(t *testing.T) {
	text, err := os.ReadFile("../../../docs/plan.md")
	if err != nil {
		t.Fatal(err)
	}
	var keys []string
	for _, k := range all.PlanKinds() {
		keys = append(keys, k.Name)
		for f := range reflect.TypeOf(k.New()).Elem().Fields() {
			name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
			keys = append(keys, name)
		}
	}
	keys = append(keys, "duel", "question", "baseline", "course", "contenders", "pace", "rounds", "seed",
		"interest", "decides", "allow", "note", "avoid",
		"repeat", "clients", "for", "shots", "warmup", "same", "body", "ignore", "unordered", "tolerance", "at", "match",
		"count", "key", "list", "files", "sample", "footing", "workspace", "from", "fresh",
		"before", "after", "caches", "stores", "pages", "machine", "idle", "cpus", "own-cpus", "nice",
		"rate", "spread", "most", "service", "run", "shell", "dir", "env", "ready", "url", "status", "line", "file", "limit",
		"stop", "signal", "grace")
	slices.Sort(keys)
	for _, key := range slices.Compact(keys) {
		if !strings.Contains(string(text), "`"+key+"`") {
			t.Errorf("docs/plan.md does not explain %q", key)
		}
	}
}
