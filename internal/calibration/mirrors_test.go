package calibration

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"paceduel/core/conduct"
	"paceduel/core/contender/all"
	"paceduel/core/figure"
	"paceduel/core/judge"
	"paceduel/core/keeper"
	"paceduel/core/plan/read"
	"paceduel/core/rounds"
	"paceduel/harbour"
)

func TestMain(m *testing.M) {
	keeper.Run()
	os.Exit(m.Run())
}

var mirrors = flag.Int(
	"mirrors", 3, "how many duels of a baseline against itself are run for real, of a command and of the berth board each",
)

// Duels of a baseline against itself, on this machine and for real: how often any word is said of it. A few of them
// show only that it can be done; -mirrors 200 says how often.
func TestMirrors(t *testing.T) {
	dir := t.TempDir()
	if err := harbour.Lay(dir); err != nil {
		t.Fatal(err)
	}
	s, err := harbour.Listen("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	served := make(chan error)
	ctx := t.Context()
	go func() { served <- s.Serve(ctx) }()
	if err := s.Prepare(); err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string]string{
		"command": "duel: Sort\nbaseline: sorted\ncontenders:\n  sorted: { command: { run: [sort, tides.csv] } }\n  other: " +
			"{ command: { run: [sort, -r, tides.csv] } }\npace: { repeat: 20 }\nrounds: 10\n",
		"berth board": "duel: Board\nbaseline: joined\ncourse:\n  http: { url: \"" + s.URL() +
			"/berths?tide={{tide}}\", rows: tides.csv }\ncontenders:\n  joined: { http: { headers: { X-Board: joined } } }\n" +
			"  snapshot: { http: { headers: { X-Board: snapshot } } }\npace: { clients: 2, for: 150ms, warmup: 50ms " +
			"}\nrounds: 10\n",
	} {
		any, figures, alone, memory := 0, 0, 0, 0
		for i := range *mirrors {
			p, err := read.Plan(filepath.Join(dir, "mirror.duel.yaml"), []byte(text), read.Options{
				Kinds: all.PlanKinds(), Only: []string{map[string]string{"command": "sorted", "berth board": "joined"}[name]},
				Mirror: true,
			})
			if err != nil {
				t.Fatal(err)
			}
			o, err := conduct.Duel(ctx, conduct.Spec{
				Plan: p, Kinds: all.Kinds(), Program: "test", Seed: uint64(i + 1),
			}, func(rounds.Event) {})
			if err != nil {
				t.Fatal(err)
			}
			if len(o.Verdict.Faces) != 1 || !o.Result.Entrants[1].Mirror || o.Verdict.Rounds != 10 {
				t.Fatalf("%d faces, %d rounds", len(o.Verdict.Faces), o.Verdict.Rounds)
			}
			wrong := false
			for _, a := range o.Verdict.Faces[0].Figures {
				if a.Figure == figure.Memory && (a.Word == judge.Better || a.Word == judge.Worse) {
					memory++
				}
				if a.Corrected {
					figures++
					wrong = wrong || a.Word == judge.Better || a.Word == judge.Worse
					if a.Alone == judge.Better || a.Alone == judge.Worse {
						alone++
					}
				}
			}
			if wrong {
				any++
			}
		}
		line := fmt.Sprintf(
			"%s: %d of %d duels of a baseline against itself have a wrong word; alone, %d of %d figures have, and %d times "+
				"memory has", name, any, *mirrors, alone, figures, memory,
		)
		most := float64(*mirrors) * (0.05 + slack(0.05, *mirrors))
		if t.Log(line); *mirrors >= 100 && (float64(any) > most || float64(memory) > most) {
			t.Error(line)
		}
	}
}
