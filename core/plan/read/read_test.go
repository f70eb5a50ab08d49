package read_test

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"paceduel/core/contender/all"
	"paceduel/core/contender/command"
	"paceduel/core/contender/http"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
)

const berthBoard = `duel: Berth board
baseline: per-vessel
course:
  http: { url: "${HARBOUR}/berths", headers: { Accept: application/json, X-Tide: 7 } }
contenders:
  per-vessel: { note: what runs today, http: { headers: { X-Board: per-vessel } } }
  joined: { avoid: the moon is full, http: { headers: { X-Board: joined }, timeout: 3s } }
pace: { clients: 8, for: 2s, warmup: 500ms }
rounds: 8
`

func env(name string) (string, bool) {
	v, ok := map[string]string{"HARBOUR": "http://127.0.0.1:8080", "TOKEN": "oyster-catcher"}[name]
	return v, ok
}

func options() read.Options { return read.Options{Kinds: all.PlanKinds(), Lookup: env} }

func reading(t *testing.T, src string, opt read.Options) *plan.Plan {
	t.Helper()
	p, err := read.Plan("berth.duel.yaml", []byte(src), opt)
	if err != nil {
		t.Fatalf("Read: %v", err)
	}
	return p
}

func TestContenderSettingsLieOverTheCourse(t *testing.T) {
	p := reading(t, berthBoard, options())
	if len(p.Contenders) != 2 || p.Contenders[0].Name != "per-vessel" || p.Contenders[1].Name != "joined" {
		t.Fatalf("contenders = %+v; want per-vessel and joined in the order of the file", p.Contenders)
	}
	joined := p.Contenders[1].Settings.(*http.Settings)
	want := map[string]plan.Word{"Accept": "application/json", "X-Tide": "7", "X-Board": "joined"}
	if !reflect.DeepEqual(joined.Headers, want) {
		t.Errorf("headers of joined = %v; want %v", joined.Headers, want)
	}
	if joined.URL != "http://127.0.0.1:8080/berths" || joined.Timeout.D() != 3*time.Second {
		t.Errorf("joined asks %q for %s; want the course's URL and its own timeout", joined.URL, joined.Timeout.D())
	}
	other := p.Contenders[0].Settings.(*http.Settings)
	if other.Headers["X-Board"] != "per-vessel" || other.Timeout.D() != 10*time.Second {
		t.Errorf("per-vessel took over settings of joined: %+v", other)
	}
	if p.Contenders[1].Avoid != "the moon is full" || p.Contenders[0].Note != "what runs today" {
		t.Errorf("notes were lost: %+v", p.Contenders)
	}
	if p.Interest != plan.DefaultInterest || p.Pace.Warmup.For.D() != 500*time.Millisecond || p.Rounds != 8 {
		t.Errorf("pace and defaults = %+v", p)
	}
}

func TestCommandArgumentsKeepTheirText(t *testing.T) {
	p := reading(t, `duel: Pack
baseline: quick
course: { command: { stdout: discard } }
contenders:
  quick: { command: { run: [gzip, -1, -c, 007, 1e3] } }
  dense: { command: { shell: "gzip -9 -c x | wc -c" } }
pace: { repeat: 5 }
`, options())
	quick := p.Contenders[0].Settings.(*command.Settings)
	if got, want := quick.Summary(), "gzip -1 -c 007 1e3"; got != want {
		t.Errorf("Summary() = %q; want %q", got, want)
	}
	if p.Pace.Warmup.Shots != 1 || p.Rounds != plan.DefaultRounds || !p.Pace.Sequential() {
		t.Errorf("pace = %+v, rounds %d; want one warm-up shot and the default rounds", p.Pace, p.Rounds)
	}
}

// It is long since its cases are listed in it.
func TestTroublesNamePlaceAndWayOut(t *testing.T) {
	base := func(old, new string) string { return strings.Replace(berthBoard, old, new, 1) }
	tests := []struct {
		name, src string
		want      []string // lines of the error
	}{
		{"no YAML", "duel: [", []string{
			`berth.duel.yaml:1:7: this is not YAML: sequence end token ']' not found; paceduel new prints a plan to start from`,
		}},
		{"empty", "", []string{"berth.duel.yaml: the plan is empty; paceduel new prints one to start from"}},
		{"unknown key", base("rounds: 8", "roundz: 8"), []string{
			`berth.duel.yaml:9:1: unknown key "roundz" in the plan; did you mean "rounds"?`,
		}},
		{"unknown key of a pace", base("clients: 8", "client: 8"), []string{
			`berth.duel.yaml:8:9: unknown key "client" in pace; did you mean "clients"?`,
		}},
		{"unknown key of a kind", base("timeout: 3s", "timeot: 3s"), []string{
			`berth.duel.yaml:7:76: unknown key "timeot" in contenders.joined.http; did you mean "timeout"?`,
		}},
		{"unknown kind", base("joined: { avoid: the moon is full, http:", "joined: { htpp:"), []string{
			`berth.duel.yaml:7:13: unknown key "htpp" in contenders.joined; did you mean "http"?`,
		}},
		{"wrong type", base("clients: 8", "clients: many"), []string{
			`berth.duel.yaml:8:18: pace.clients must be a whole number, this is the text "many"`,
		}},
		{"no text", base("duel: Berth board", "duel: 12"), []string{
			`berth.duel.yaml:1:7: duel must be text, this is 12; put it in quotes`,
		}},
		{"a list for keys", base("{ clients: 8, for: 2s, warmup: 500ms }", "[8]"), []string{
			`berth.duel.yaml:8:7: pace must hold keys and values, this is a list; its keys: repeat, clients, rate, spread, climb, think, stagger, most, for, shots, warmup, rush, wake`,
		}},
		{"impossible number", base("rounds: 8", "rounds: 0"), []string{
			`berth.duel.yaml:9:9: rounds: "0" is not a number of rounds, write 1 to 1000, or auto`,
		}},
		{"a folder of data that nobody gives", base("timeout: 3s", "timeout: 3s, body: \"${DATA}\""), []string{
			`berth.duel.yaml:7:95: the variable DATA is not set, and joined has no service with data:, which would be given a folder; set it before the run: export DATA=…, or add data: to its service`,
		}},
		{"too many", base("clients: 8", "clients: 5000"), []string{
			`berth.duel.yaml:8:18: pace.clients: 5000 is out of range; the maximum is 1024`,
		}},
		{"no duration", base("for: 2s", "for: 2"), []string{
			`berth.duel.yaml:8:26: pace.for: "2" is not a length of time, write it as 500ms, 2s or 1m30s`,
		}},
		{"missing baseline", base("baseline: per-vessel\n", ""), []string{
			`berth.duel.yaml:1:1: the key "baseline" is missing; add baseline: …`,
		}},
		{"unknown baseline", base("baseline: per-vessel", "baseline: per-vesel"), []string{
			`berth.duel.yaml:2:11: no contender is called "per-vesel"; did you mean "per-vessel"?`,
		}},
		{"in the course, said once", base("url: \"${HARBOUR}/berths\",", "ulr: /berths, timeout: soon,"), []string{
			`berth.duel.yaml:4:11: unknown key "ulr" in course.http; did you mean "url"?`,
			`berth.duel.yaml:4:34: course.http.timeout: "soon" is not a length of time, write it as 500ms, 2s or 1m30s`}},
		{"no keys at all", strings.Repeat("tide ", 100), []string{
			`berth.duel.yaml:1:1: the plan must hold keys and values, this is the text "` + strings.Repeat("tide ", 12) +
				`…"; its keys: duel, question, baseline, course, contenders, pace, rounds, seed, interest, interests, rungs, stakes, claims, until, sweep, decides, footing, same, allow, load`,
			`berth.duel.yaml:1:1: the key "duel" is missing; add duel: …`,
			`berth.duel.yaml:1:1: the key "baseline" is missing; add baseline: …`,
			`berth.duel.yaml:1:1: the key "contenders" is missing; add contenders: …`,
			`berth.duel.yaml:1:1: the key "pace" is missing; add pace: …`}},
		{"unset variable", base("${HARBOUR}", "${HARBOR}"), []string{
			`berth.duel.yaml:4:16: the variable HARBOR is not set; set it before the run: export HARBOR=…`,
		}},
		{"not a variable", base("${HARBOUR}", "${HARB OUR}"), []string{
			`berth.duel.yaml:4:16: a ${ that names no variable; write ${NAME}, or $${ for the two characters themselves`,
		}},
		{
			"one contender",
			base("  joined: { avoid: the moon is full, http: { headers: { X-Board: joined }, timeout: 3s } }\n", ""),
			[]string{`berth.duel.yaml:6:3: a duel needs 2 to 8 contenders, this one has 1; name 2 to 8`},
		},
		{"key twice", base("rounds: 8", "rounds: 8\nduel: Again"), []string{
			`berth.duel.yaml:10:1: this is not YAML: mapping key "duel" already defined at [1:1]; paceduel new prints a plan to start from`,
		}},
		{"no rate", base("clients: 8", "rate: 500"), []string{
			`berth.duel.yaml:8:15: pace.rate: "500" is not a rate, write it as 500/s or 90/m, up to 200000/s`,
		}},
		{"spread without a rate", base("clients: 8,", "clients: 8, spread: even,"), []string{
			`berth.duel.yaml:8:7: spread and most belong to rate; set rate:`,
		}},
		{
			"throughput of a rate", strings.Replace(base("clients: 8", "rate: 500/s"), "rounds: 8", "decides: throughput", 1),
			[]string{`berth.duel.yaml:9:10: at a set rate, throughput is what the plan says; name p99`},
		},
		{"two paces", base("clients: 8,", "clients: 8, repeat: 3,"), []string{
			`berth.duel.yaml:8:7: more than one of repeat, clients, rate and climb is set; keep one of them`,
		}},
		{"a secret in clear", base("X-Board: joined }, timeout: 3s", "X-Board: joined }, auth: { bearer: oyster }"),
			[]string{
				`berth.duel.yaml:7:92: contenders.joined.http.auth.bearer stands in the plan in clear; take it from the environment: ${NAME}`}},
		{"no connections", base("X-Board: joined }, timeout: 3s", "X-Board: joined }, connections: some"), []string{
			`berth.duel.yaml:7:89: contenders.joined.http.connections: "some" is not how connections are opened, write kept, new or a number of connections shared by all, up to 1024`}},
		{"a climb to nowhere", base("clients: 8, for: 2s", "climb: { from: 100/s, to: 50/s, under: 20ms }"), []string{
			`berth.duel.yaml:8:35: this is not a climb: it ends where it began, or below; set it above from`,
		}},
		{"a climb of two kinds", base("clients: 8, for: 2s", "climb: { from: 100/s, to: 64, under: 20ms }"), []string{
			`berth.duel.yaml:8:16: a climb goes from a rate to a rate, or from clients to clients; give both as rates or both as clients`,
		}},
		{"a climb without a limit", base("clients: 8, for: 2s", "climb: { from: 1, to: 64 }"), []string{
			`berth.duel.yaml:8:16: nothing says what a level has to keep to be held; set under: 20ms, or what your users bear`,
		}},
		{"a climb of half clients", base("clients: 8, for: 2s", "climb: { from: 1, to: 4, steps: 9, under: 1s }"), []string{
			`berth.duel.yaml:8:41: more steps than there are numbers of clients; set up to 4`,
		}},
		{"thinking without clients", base("clients: 8", "rate: 9/s, think: 1s"), []string{
			`berth.duel.yaml:8:7: think and stagger belong to clients; set clients:`,
		}},
		{"no load", base("clients: 8, for: 2s", "climb: { from: some, to: 4, under: 1s }"), []string{
			`berth.duel.yaml:8:24: pace.climb.from: "some" is not a load, write a rate (500/s) or a number of clients (up to 1024)`,
		}},
		{"until nothing", base("rounds: 8", "rounds: 8\nuntil: { within: 5% }"), []string{
			`berth.duel.yaml:10:8: nothing says which figure is to be known; set figure: p99`,
		}},
		{"until too few", base("rounds: 8", "rounds: 8\nuntil: { figure: p99, within: 5%, most: 7 }"), []string{
			`berth.duel.yaml:10:41: 7 rounds are fewer than are run in any case; set at least 8`,
		}},
		{"a climb decides by holds", strings.Replace(
			base("clients: 8, for: 2s", "climb: { from: 1, to: 64, under: 1s }"), "rounds: 8", "decides: p99", 1,
		), []string{`berth.duel.yaml:9:10: holds is the figure of a climb, and its only one`}},
		{"off this machine", base("${HARBOUR}", "http://far.example"), []string{
			`berth.duel.yaml:4:16: per-vessel and joined: far.example is not this machine; if you may put load on it, add the line: allow: [far.example]`}},
		{"unknown column", base("/berths", "/berths?t={{tide}}"), []string{
			`berth.duel.yaml:4:16: per-vessel and joined: no column is called "tide"; set rows: to a CSV file that has it`}},
		{"anchor to itself", base("rounds: 8", "rounds: *r"), []string{
			`berth.duel.yaml:9:9: no anchor "r" in this file; name an anchor that is set above it with &`,
		}},
		{"name with control characters", base("joined:", `"jo\u001bined":`), []string{
			`berth.duel.yaml:7:3: "jo·ined" is not a name for a contender; use 1 to 40 printable characters`,
		}},
		{"no JSON Pointer", base("rounds: 8", "same: { at: [a.b] }"), []string{
			`berth.duel.yaml:9:13: "a.b" is not a JSON Pointer; write it as /a/b`,
		}},
		{"no regular expression", base("rounds: 8", "same: { match: '(' }"), []string{
			"berth.duel.yaml:9:16: error parsing regexp: missing closing ): `(`; see RE2 syntax",
		}},
		{"a filter for nothing", base("rounds: 8", "same: { through: gzip -dc }"), []string{
			`berth.duel.yaml:9:18: nothing looks at what comes through; set body: exact`,
		}},
		{"rule without its comparison", base("rounds: 8", "same: { unordered: true }"), []string{
			`berth.duel.yaml:9:7: ignore, unordered and tolerance belong to body: json; set body: json`,
		}},
		{"all at once", base("rounds: 8", "rounds: 2000\nallow: yes"), []string{
			`berth.duel.yaml:9:9: rounds: "2000" is not a number of rounds, write 1 to 1000, or auto`,
			`berth.duel.yaml:10:8: allow must be a list, this is the text "yes"; write it in brackets: [a, b]`}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			_, err := read.Plan("berth.duel.yaml", []byte(tt.src), options())
			var problems read.Problems
			if !errors.As(err, &problems) {
				t.Fatalf("Read = %v; want Problems", err)
			}
			if got, want := err.Error(), strings.Join(tt.want, "\n"); got != want {
				t.Errorf("Read says\n%s\nwant\n%s", got, want)
			}
		})
	}
}

func TestSetsLieOverTheFile(t *testing.T) {
	opt := options()
	opt.Sets = []string{"pace.clients=16", "rounds=3", "course.http.headers.X-Tide=9",
		"contenders.joined.http.timeout=1s"}
	p := reading(t, berthBoard, opt)
	joined := p.Contenders[1].Settings.(*http.Settings)
	if p.Pace.Clients != 16 || p.Rounds != 3 || joined.Timeout.D() != time.Second || joined.Headers["X-Tide"] != "9" ||
		joined.Headers["X-Board"] != "joined" {
		t.Errorf(
			"clients %d, rounds %d, timeout %s, headers %v; want the values set", p.Pace.Clients, p.Rounds,
			joined.Timeout.D(),
			joined.Headers,
		)
	}
	for set, want := range map[string]string{
		"pace.clinets=3": `--set pace.clinets=3: unknown key "clinets" in pace; did you mean "clients"?`,
		"nonsense":       `--set nonsense: this is not KEY=VALUE; for example --set pace.clients=16`,
	} {
		opt.Sets = []string{set}
		if _, err := read.Plan("x.duel.yaml", []byte(berthBoard), opt); err == nil || err.Error() != want {
			t.Errorf("--set %s says %v; want %s", set, err, want)
		}
	}
}

// Who does not say how many rounds gets enough for words about all that is compared.
func TestRoundsUnlessSaid(t *testing.T) {
	tests := []struct {
		name, more string
		challenger int
		want       int
	}{
		{"two challengers", "", 2, 10},
		{"three", "", 3, 12},
		{"seven", "", 7, 14},
		{"two, cold and warm", "footing: { caches: [cold, warm], pages: [tides.csv] }\n", 2, 12},
		{"one figure that decides", "decides: mean\n", 7, 10},
		{"until one is known", "until: { figure: mean, within: 5%, most: 11 }\n", 7, 10},
		{"said", "rounds: 5\n", 7, 5},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			src := "duel: Rounds\nbaseline: c0\npace: { repeat: 1 }\n" + tt.more + "contenders:\n"
			for i := range tt.challenger + 1 {
				src += fmt.Sprintf("  c%d: { command: { run: [sleep, %q] } }\n", i, fmt.Sprint(i))
			}
			if p := reading(t, src, options()); p.Rounds != tt.want {
				t.Errorf("%d rounds; want %d", p.Rounds, tt.want)
			}
		})
	}
}

func TestOnlyKeepsTheBaseline(t *testing.T) {
	opt := options()
	opt.Only = []string{"joined"}
	three := strings.Replace(berthBoard, "pace:", "  third: { http: { url: \"http://localhost/\" } }\npace:", 1)
	p := reading(t, three, opt)
	if len(p.Contenders) != 2 || p.Contenders[0].Name != "per-vessel" || p.Contenders[1].Name != "joined" {
		t.Errorf("contenders = %v; want the baseline and joined", p.Contenders)
	}
	opt.Only = []string{"joint"}
	if _, err := read.Plan("x.duel.yaml", []byte(three), opt); err == nil ||
		!strings.Contains(err.Error(), `did you mean "joined"?`) {
		t.Errorf("an unknown --only says %v; want the nearest contender", err)
	}
}

func TestValuesOfTheEnvironmentAreMasked(t *testing.T) {
	p := reading(t, strings.Replace(berthBoard, "X-Tide: 7", `X-Key: "${TOKEN}"`, 1), options())
	if got := p.Mask(
		"GET http://127.0.0.1:8080/berths with oyster-catcher",
	); got != "GET ${HARBOUR}/berths with ${TOKEN}" {
		t.Errorf("Mask = %q", got)
	}
	if strings.Contains(p.Source, "oyster") {
		t.Error("the plan's source holds a secret")
	}
	if got := p.Vars(); !reflect.DeepEqual(got, []string{"HARBOUR", "TOKEN"}) {
		t.Errorf("Vars() = %v", got)
	}
	shared, own := p.Aspects()
	for _, a := range append(shared, own[0]...) {
		if strings.Contains(a.Value, "oyster") {
			t.Errorf("aspect %v shows a secret", a)
		}
	}
}

// What is left at its default says nothing, of services neither.
func TestAspectsLeaveDefaultsOut(t *testing.T) {
	p := reading(t, `duel: Predictor
baseline: a
course: { http: { url: "http://127.0.0.1:${PORT}/" }, service: { ready: { line: up } } }
contenders:
  a: { service: { run: [predict, a] } }
  b: { service: { run: [predict, b] } }
pace: { clients: 2, for: 1s }
`, options())
	shared, own := p.Aspects()
	for _, a := range shared {
		if a.Key != "url" && a.Key != "service.ready.line" {
			t.Errorf("%v is the default", a)
		}
	}
	if len(own) != 2 || len(own[0]) != 1 || own[0][0].Key != "service.run" {
		t.Errorf("own: %v", own)
	}
}

func TestAspectsSetDifferencesOff(t *testing.T) {
	shared, own := reading(t, berthBoard, options()).Aspects()
	wantShared := []plan.Aspect{{
		Key: "url", Value: "${HARBOUR}/berths",
	}, {Key: "headers.Accept", Value: "application/json"}, {Key: "headers.X-Tide", Value: "7"}}
	if !reflect.DeepEqual(shared, wantShared) {
		t.Errorf("shared = %v; want %v", shared, wantShared)
	}
	wantOwn := [][]plan.Aspect{
		{{Key: "headers.X-Board", Value: "per-vessel"}, {Key: "timeout", Value: "10s"}},
		{{Key: "headers.X-Board", Value: "joined"}, {Key: "timeout", Value: "3s"}},
	}
	if !reflect.DeepEqual(own, wantOwn) {
		t.Errorf("own = %v; want %v", own, wantOwn)
	}
}

func TestReadFile(t *testing.T) {
	dir := t.TempDir()
	rows := filepath.Join(dir, "tides.csv")
	if err := os.WriteFile(rows, []byte("tide\n001-high\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(dir, "b.duel.yaml")
	src := strings.Replace(berthBoard, `/berths"`, `/berths?tide={{tide}}", rows: tides.csv`, 1)
	if err := os.WriteFile(path, []byte(src), 0o644); err != nil {
		t.Fatal(err)
	}
	p, err := read.File(path, options())
	if err != nil || p.Dir != dir {
		t.Fatalf("ReadFile = %v, %v; want rows found in the plan's folder", p, err)
	}
	if _, err := read.File(filepath.Join(dir, "none.duel.yaml"), options()); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("a missing file says %v", err)
	}
	if err := os.Truncate(path, 2<<20); err != nil {
		t.Fatal(err)
	}
	if _, err := read.File(path, options()); err == nil ||
		!strings.Contains(err.Error(), "more than the 1.0 MiB that are read") {
		t.Errorf("a huge file says %v", err)
	}
}

func TestSlug(t *testing.T) {
	for in, want := range map[string]string{
		"Berth board": "berth-board", "gzip -1 | xz": "gzip-1-xz", "///": "duel", "Ölhafen µ": "ölhafen-µ",
		strings.Repeat("ab ", 40): strings.TrimSuffix(strings.Repeat("ab-", 20), "-"),
	} {
		if got := plan.Slug(in); got != want {
			t.Errorf("Slug(%q) = %q; want %q", in, got, want)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add(berthBoard, "pace.clients=16")
	f.Add("duel: &a [*a]\n", "a.b.c={}")
	f.Add("? [x]\n: {y: !!int z}\n<<: *q", "x=&a *a")
	f.Add("a: |\n  ${X}\nb: >-\n $${\n", "=")
	f.Fuzz(func(t *testing.T, src, set string) {
		opt := options()
		opt.Sets = []string{set}
		p, err := read.Plan("f.duel.yaml", []byte(src), opt)
		var problems read.Problems
		if err != nil && (!errors.As(err, &problems) || len(problems) == 0 || p != nil) {
			t.Fatalf("Read(%q) = %v, %v; want a plan or problems", src, p, err)
		}
		if err == nil && (len(p.Contenders) < plan.MinContenders || p.Pace.Warmup == nil || p.Rounds < 1) {
			t.Fatalf("Read(%q) accepted %+v", src, p)
		}
	})
}

// The pace in words tells all that shapes a heat.
func TestPaceInWords(t *testing.T) {
	tests := []struct{ pace, want string }{
		{"{ repeat: 1 }", "1 run a heat"},
		{"{ repeat: 3, wake: 1s }", "3 runs a heat, one after another, once more after 1s of silence"},
		{"{ clients: 4, for: 1s }", "4 clients for 1s"},
		{"{ clients: 4, shots: 100, think: 5ms }", "4 clients that think 5ms, 100 shots a heat"},
		{"{ rate: 60/s, for: 2s, spread: poisson }", "60/s, as independent users come, for 2s"},
	}
	for _, tt := range tests {
		src := strings.Replace(berthBoard, "{ clients: 8, for: 2s, warmup: 500ms }", tt.pace, 1)
		if got := reading(t, src, options()).Pace.String(); got != tt.want {
			t.Errorf("%s is %q; want %q", tt.pace, got, tt.want)
		}
	}
	rushed := plan.Pace{Rate: 60, For: plan.Span(2 * time.Second), Rush: true}
	if got, want := rushed.String(), "60/s for 2s from the creation of the service on"; got != want {
		t.Errorf("rushed is %q; want %q", got, want)
	}
}

// Texts are taken as YAML and editors have them.
func TestTextsOfAllEditors(t *testing.T) {
	const src = "duel: Berths\nbaseline: a\npace: { repeat: 1 }\ncontenders:\n  a: { command: { run: [java, " +
		"-Xshare:off, -Xlog:gc*:stderr, 'x:y', http://127.0.0.1:80/, a:b:c, é:x] } }\n  b: { command: { shell: 'true' } }\n"
	want := []plan.Word{"java", "-Xshare:off", "-Xlog:gc*:stderr", "x:y", "http://127.0.0.1:80/", "a:b:c", "é:x"}
	opt := read.Options{Kinds: []plan.Kind{command.Kind.Kind}}
	for name, text := range map[string]string{
		"plain": src, "with a mark of its byte order": "\ufeff" +
			src, "with carriage returns": strings.ReplaceAll(src, "\n", "\r\n"),
	} {
		p, err := read.Plan("x.duel.yaml", []byte(text), opt)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if got := p.Contenders[0].Settings.(*command.Settings).Run; !slices.Equal(got, want) {
			t.Errorf("%s: it runs %q; want %q", name, got, want)
		}
	}
	_, err := read.Plan("x.duel.yaml", []byte(strings.Replace(src, "-Xshare:off", "{ x:off }", 1)), opt)
	if err == nil {
		t.Error("keys in braces are taken for a word")
	}
	crlf := "duel: Berths\r\nbaseline: a\r\npace: { repeat: 1 }\r\ncontenders:\r\n  a:\r\n    command:\r\n      shell: " +
		"|\r\n        one\r\n        two\r\n  b: { command: { run: [ls] } }\r\n"
	p, err := read.Plan("x.duel.yaml", []byte(crlf), opt)
	if err != nil || p.Contenders[0].Settings.(*command.Settings).Shell != "one\ntwo\n" {
		t.Errorf("a script with carriage returns: %v", err)
	}
}

// Whatever is too much is refused before it takes time, in few words.
func TestTextsThatAreTooMuch(t *testing.T) {
	if testing.Short() {
		t.Skip("it reads much, in one goroutine")
	}
	many := func(s string, n int) string { return strings.Repeat(s, n) }
	const good = "duel: Berths\nbaseline: a\npace: { repeat: 1 }\n"
	for name, src := range map[string]string{
		"brackets": "duel: " + many("[", 100_000), "braces": "duel: " + many("{a: ", 100_000), "closed brackets": "duel: " +
			many("[", 1000) + many("]", 1000),
		"dashes": "duel:\n  " + many("- ", 20_000) + "a", "question marks": many("? ", 20_000) + "a", "tags": "duel: " +
			many("!!str ", 20_000) + "a",
		"anchors": "duel: " + many("&a ", 20_000) +
			"x", "colons": many("a: ", 20_000), "documents": many("---\n", 100_000), "keys": many("k: 1\n", 100_000),
		"a long key": good + "contenders: { " + many("x", 500_000) + ": , b: }\n", "a long name": "duel: " +
			many("x", 500_000) + "\nbaseline: a\npace: { repeat: 1 }\ncontenders: { a: , b: }\n",
		"a long kind": good + "contenders: { a: { " + many("x", 500_000) + ": 1 }, b: }\n", "a long value": good +
			"rounds: " + many("x", 500_000) + "\ncontenders: { a: , b: }\n",
	} {
		_, err := read.Plan("x.duel.yaml", []byte(src), options())
		if err == nil || len(err.Error()) > 2000 {
			t.Errorf("%s: %d bytes of error; want a few words", name, len(fmt.Sprint(err)))
		}
	}
}
