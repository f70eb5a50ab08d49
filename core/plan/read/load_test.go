package read_test

import (
	"strings"
	"testing"

	"paceduel/core/contender/all"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
)

// loaded reads a plan of two requests that has these lines besides.
func loaded(lines string) (*plan.Plan, error) {
	text := "duel: Board\nbaseline: joined\ncourse: { http: { url: \"http://127.0.0.1:1/\" } }\n" +
		"contenders: { joined: , plain: }\n" + lines
	return read.Plan("board.duel.yaml", []byte(text), read.Options{Kinds: all.PlanKinds()})
}

func TestLoads(t *testing.T) {
	tests := []struct {
		load, words string
		states      int
	}{
		{"{ agents: 4 }", "4 agents", 1},
		{"{ agents: quay-1 }", "quay-1", 1},
		{"{ agents: [quay-1, quay-2], weights: { quay-2: 3 } }", "quay-1 and quay-2", 1},
		{"{ places: [near, far] }", "the agents at near and far", 2},
		{"{ places: far }", "the agents at far", 1},
		{"{ agents: 2, places: [near, roads, far], lost: go on, within: 2s }", "2 agents at each of near, roads and far",
			3},
		{"{}", "the agents", 1},
	}
	for _, tt := range tests {
		p, err := loaded("pace: { clients: 8, for: 1s }\nload: " + tt.load + "\n")
		if err != nil {
			t.Errorf("load %s: %v", tt.load, err)
			continue
		}
		if p.Load.String() != tt.words || len(p.States()) != tt.states || len(p.CacheStates()) != 1 {
			t.Errorf("load %s: %q in %v", tt.load, p.Load, p.States())
		}
	}
	p, err := loaded("pace: { clients: 8, for: 1s }\nload: { places: [near, far] }\nclaims: [plain far p50 under 9ms]\n")
	if err != nil || p.Claims[0].State != "far" {
		t.Errorf("a claim about a place: %v", err)
	}
}

func TestTroublesOfLoads(t *testing.T) {
	const clients = "pace: { clients: 4, for: 1s }\n"
	tests := []struct{ lines, want string }{
		{clients + "load: { agents: 0 }", "0 is no number of agents"},
		{clients + "load: { agents: 5 }", "4 clients cannot be shared by 5 agents"},
		{"pace: { repeat: 9 }\nload: { agents: 2 }", "1 client cannot be shared by 2 agents"},
		{"pace: { clients: 4, shots: 3 }\nload: { agents: 4 }", "3 clients cannot be shared"},
		{clients + "load: { agents: [Quay] }", `"Quay" is not the name of an agent`},
		{clients + "load: { agents: [a, a] }", "a stands twice"},
		{clients + "load: { agents: [a], weights: { b: 2 } }", `no agent of the load is called "b"`},
		{clients + "load: { weights: { b: 101 } }", "101 is no weight"},
		{clients + "load: { places: [near, near] }", "near stands twice"},
		{clients + "load: { places: [cold, far] }", `"cold" is not a name for a place`},
		{clients + "load: { places: [joined, far] }", `"joined" is not a name for a place`},
		{clients + "load: { places: [a, b, c, d, e, f, g] }", "7 places are more than 6"},
		{clients + "load: { lost: perhaps }", "lost"},
		{clients + "load: { within: 1ms }", "no agent is lost before 500ms"},
		{"pace: { repeat: 9 }\nload: { places: [near, far] }\nfooting: { caches: [cold, warm], before: { run: ls } }",
			"caches and places are two sets of states"},
		{"pace: { repeat: 9 }\nload: { agents: 1 }\nfooting: { before: { run: ls } }", "run does not go with agents"},
		{clients + "load: { agents: 1 }\nsame: { body: exact, through: cat }", "agents run no shell lines"},
		{clients + "load: { places: [near, far] }\nclaims: [plain farther p50 under 9ms]", "farther"},
		{clients + "load: { agents: 1 }\nclaims: [plain cold p50 under 9ms]", "nothing is run cold"},
	}
	for _, tt := range tests {
		if _, err := loaded(tt.lines + "\n"); err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s: %v; want %q", tt.lines, err, tt.want)
		}
	}
	text := "duel: Pack\nbaseline: a\nload: { agents: 1 }\npace: { repeat: 3 }\n" +
		"contenders: { a: { command: { run: [ls] } }, b: { command: { run: [ls] } } }\n"
	_, err := read.Plan("pack.duel.yaml", []byte(text), read.Options{Kinds: all.PlanKinds()})
	if err == nil || !strings.Contains(err.Error(), "agents are elsewhere") {
		t.Errorf("commands driven by agents: %v", err)
	}
}

func TestWhatAgentsCannotBeAsked(t *testing.T) {
	tests := []struct{ course, want string }{
		{`query: { at: "sqlite:board.db", statement: select 1 }`, "SQLite runs within the program"},
		{`query: { at: "postgres://a@127.0.0.1/b", statement: select 1, connections: 4 }`, "cannot share a pool"},
		{`http: { url: "http://127.0.0.1:1/", connections: 4 }`, "cannot share a pool"},
		{`http: { url: "http://127.0.0.1:1/", rows: /etc/hosts }`, "/etc/hosts lies elsewhere"},
		{`relay: { shell: ls, effects: { seen: { poll: "http://127.0.0.1:1/" } } }`, "a shell line is on the machine"},
		{`relay: { request: "http://127.0.0.1:1/", effects: { seen: { file: a } } }`, "a file is on the machine"},
		{`relay: { request: "http://127.0.0.1:1/", effects: { seen: { call: true } } }`, "where calls are listened for"},
	}
	for _, tt := range tests {
		text := "duel: Board\nbaseline: a\nload: { agents: 1 }\npace: { clients: 4, for: 1s }\ncourse: { " + tt.course +
			" }\ncontenders: { a: , b: }\n"
		_, err := read.Plan("board.duel.yaml", []byte(text), read.Options{Kinds: all.PlanKinds()})
		if err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s: %v; want %q", tt.course, err, tt.want)
		}
	}
}

// What is made anew for each run is not made by whoever drives from elsewhere.
func TestFreshRunsAreNotDrivenFromElsewhere(t *testing.T) {
	for what, want := range map[string]string{
		"service: { run: [ls, \"${PORT}\"], fresh: run }":  "service.fresh: run does not go with agents",
		"service: { run: [ls, \"${PORT}\"] }":              "",
		"footing: { workspace: { from: ., fresh: run } }":  "workspace.fresh: run does not go with agents",
		"footing: { workspace: { from: ., fresh: heat } }": "",
	} {
		_, err := read.Plan("board.duel.yaml", []byte("duel: Board\nbaseline: joined\npace: { repeat: 9 }\n"+
			"load: { agents: 1 }\ncontenders:\n  plain: { http: { url: \"http://127.0.0.1:1/\" } }\n"+
			"  joined: { http: { url: \"http://127.0.0.1:1/\" }, "+what+" }\n"), read.Options{Kinds: all.PlanKinds()})
		if (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), "joined: "+want) {
			t.Errorf("%s: %v; want %q", what, err, want)
		}
	}
}
