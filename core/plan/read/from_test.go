package read_test

import (
	"slices"
	"strings"
	"testing"

	"paceduel/core/contender/all"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
)

func fromPlan(contenders, course string) string {
	return "duel: Packer\nbaseline: old\n" + course + "contenders:\n" + contenders + "pace: { repeat: 1 }\n"
}

func TestContendersFromCommits(t *testing.T) {
	p, err := read.Plan("/srv/t.duel.yaml", []byte(fromPlan(
		"  old: { command: { run: [./packer, \"${TREE}/rows\"] }, from: { git: v1 } }\n"+
			"  new: { command: { run: [./packer] }, from: { git: HEAD, in: ../tool, within: 90s } }\n"+
			"  here: { command: { run: [./packer] } }\n",
		"course: { from: { build: make } }\n")), read.Options{Kinds: all.PlanKinds()})
	if err != nil {
		t.Fatal(err)
	}
	old, fresh, here := p.Contenders[0].Ground.From, p.Contenders[1].Ground.From, p.Contenders[2].Ground.From
	if old == nil || old.Git != "v1" || old.Build != "make" || old.Folder(p.Dir) != "/srv" ||
		old.Limit().Minutes() != 10 {
		t.Errorf("old comes from %+v", old)
	}
	if fresh == nil || fresh.Folder(p.Dir) != "/tool" || fresh.Limit().Seconds() != 90 || fresh.Build != "make" {
		t.Errorf("new comes from %+v", fresh)
	}
	if here != nil {
		t.Errorf("who names no revision comes from %+v", here)
	}
}

func TestWhatCannotComeFromACommit(t *testing.T) {
	for _, tt := range []struct{ name, contenders, want string }{
		{"no revision", "  old: { command: { shell: ':' }, from: { build: make } }\n", "nothing says which commit old"},
		{
			"no program", "  old: { http: { url: http://127.0.0.1/ }, from: { git: v1 } }\n",
			"no program of old is started here that could be built",
		},
		{"no commit", "  old: { command: { run: [\"${TREE}/packer\"] } }\n",
			"TREE is not set, and old comes from no commit"},
		{"too long", "  old: { command: { shell: ':' }, from: { git: v1, within: 3h } }\n", "too long for a build"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			_, err := read.Plan("t.duel.yaml", []byte(fromPlan(tt.contenders+"  new: { command: { shell: ':' } }\n", "")),
				read.Options{Kinds: all.PlanKinds()})
			if err == nil || !strings.Contains(err.Error(), tt.want) {
				t.Errorf("%v", err)
			}
		})
	}
}

// What a contender is built from is one of its settings, for people too.
func TestCommitsAreAspects(t *testing.T) {
	p, err := read.Plan("t.duel.yaml", []byte(fromPlan(
		"  old: { command: { run: [./packer] }, from: { git: v1 } }\n  new: { command: { run: [./packer] }, from: { git: "+
			"v2 } }\n",
		"course: { from: { build: make } }\n")), read.Options{Kinds: all.PlanKinds()})
	if err != nil {
		t.Fatal(err)
	}
	shared, own := p.Aspects()
	if !slices.Contains(shared, plan.Aspect{Key: "from.build", Value: "make"}) ||
		!slices.Contains(own[1], plan.Aspect{Key: "from.git", Value: "v2"}) {
		t.Errorf("shared %v, own %v", shared, own)
	}
}
