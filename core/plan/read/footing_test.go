package read_test

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"paceduel/core/plan"
	"paceduel/core/plan/read"
)

const packers = `duel: Pack
baseline: quick
contenders:
  quick: { command: { run: [gzip, -1, -c, manifest.txt] } }
  dense: { command: { run: [gzip, -9, -c, manifest.txt] } }
pace: { repeat: 5 }
`

// inFolder is the path of a plan in a folder with a fixture.
func inFolder(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	for _, name := range []string{"in/manifest.txt", "in/deep/list.txt", "alone.txt"} {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, name), nil, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	return filepath.Join(dir, "p.duel.yaml")
}

func TestAContendersGroundLiesOverTheFooting(t *testing.T) {
	path := inFolder(t)
	src := strings.Replace(
		packers, "  dense: {", "  dense: { footing: { stores: own, nice: 4, before: { run: mine } },", 1,
	) +
		"footing: { workspace: in, caches: [cold, warm], stores: shared, nice: 2, cpus: '3,0-1', before: { heat: ours, " +
		"run: [a, b] } }\n"
	p, err := read.Plan(path, []byte(src), options())
	if err != nil {
		t.Fatal(err)
	}
	quick, dense := p.Contenders[0].Ground, p.Contenders[1].Ground
	if quick.Stores[0] != "shared" || quick.Nice != 2 || !slices.Equal(quick.Before.Run, []string{"a", "b"}) ||
		quick.CPUs.String() != "0-1,3" {
		t.Errorf("shared ground: %+v", quick)
	}
	if dense.Stores[0] != "own" || dense.Nice != 4 || !slices.Equal(dense.Before.Run, []string{"mine"}) ||
		!slices.Equal(dense.Before.Heat, []string{"ours"}) {
		t.Errorf("own ground: %+v", dense)
	}
	if dense.Workspace.Fresh != plan.EveryHeat || !slices.Equal(dense.Pages, []string{"."}) ||
		!slices.Equal(p.Footing.Caches, []plan.State{plan.Cold, plan.Warm}) {
		t.Errorf("what was left out: %+v, %v", dense, p.Footing.Caches)
	}
}

// It is long since its cases are listed in it.
func TestFootingsThatCannotBe(t *testing.T) {
	path := inFolder(t)
	tests := []struct{ name, footing, pace, want string }{
		{
			"cold with clients", "footing: { caches: cold, machine: true }", "{ clients: 2 }",
			"cold is made anew before each run, so runs have to follow one another; set repeat: instead of clients:",
		},
		{
			"warm without warm-up", "footing: { caches: warm }", "{ repeat: 2, warmup: 0 }",
			"without a warm-up nothing makes caches warm",
		},
		{
			"cold what", "footing: { caches: cold }", "{ repeat: 2 }",
			"quick: nothing says what is to be cold; name pages: or stores:, or set machine: true",
		},
		{"unknown state", "footing: { caches: col }", "{ repeat: 2 }", `caches cannot be "col"; did you mean "cold"?`},
		{
			"a state twice", "footing: { caches: [cold, cold], machine: true }", "{ repeat: 2 }",
			"these states do not make figures of their own",
		},
		{
			"states of two pairs", "footing: { caches: [cold, awake], machine: true }", "{ repeat: 2 }",
			"cold and awake do not go together; write [cold, warm], [asleep, awake] or [first, returning]",
		},
		{
			"a claim about a state that nothing is run in", "claims: [quick asleep mean under 2s]", "{ repeat: 2 }",
			`nothing is run asleep, as "quick asleep mean under 2s" has it; set footing: { caches: asleep }`,
		},
		{
			"a claim about another state",
			"footing: { caches: [cold, warm], machine: true }\nclaims: [quick awake mean under 2s]", "{ repeat: 2 }",
			"nothing is run awake",
		},
		{
			"a claim about crashes without any", "claims: [lost records of quick under 1%]", "{ repeat: 2 }",
			`quick is not ended while it works, as "lost records of quick under 1%" has it; add crash: to quick`,
		},
		{
			"a claim about nobody's waiting", "claims: [quick held up under 1%]", "{ repeat: 2 }",
			"nobody asks while quick works",
		},
		{"machine without cold", "footing: { machine: true }", "{ repeat: 2 }", "nothing is run cold"},
		{"workspace of nothing", "footing: { workspace: out }", "{ repeat: 2 }", "the workspace cannot be copied: open "},
		{
			"fresh for each of many at once", "footing: { workspace: { from: in, fresh: run } }", "{ clients: 2 }",
			"a fresh copy for every run needs runs that follow one another",
		},
		{
			"store outside the workspace", "footing: { workspace: in, stores: ../x }", "{ repeat: 2 }",
			"../x does not lie in the workspace",
		},
		{
			"store around the plan", "footing: { stores: .. }", "{ repeat: 2 }",
			"would remove the plan itself; name the folder that holds nothing but the cache",
		},
		{
			"step for each of many at once", "footing: { before: { run: x } }", "{ clients: 2 }",
			"before.run belongs to runs that follow one another",
		},
		{
			"processors", "footing: { cpus: 3-1 }", "{ repeat: 2 }",
			`"3-1" names no processors, write it as 0 or 2-5,8, up to 1023`,
		},
		{
			"files without a workspace", "same: { files: hash }", "{ repeat: 2 }",
			"quick has no workspace, so what it writes cannot be seen",
		},
		{
			"key that is no pattern", "same: { body: rows, key: id }", "{ repeat: 2 }",
			`"id" identifies no rows; write a JSON Pointer as /id, or a regular expression with a group`,
		},
		{"list without its key", "same: { body: rows, list: /a }", "{ repeat: 2 }", "list says where rows of JSON are"},
		{"service of nothing", "course: { service: {} }", "{ repeat: 2 }", "nothing says what its service is"},
		{
			"service without a port", "course: { service: { run: [board] } }", "{ repeat: 2 }",
			"its service is not told its port, so it cannot be seen when that accepts; hand it ${PORT}",
		},
		{
			"two ways to be ready", "course: { service: { run: [board], ready: { line: x, file: y } } }", "{ repeat: 2 }",
			"more than one way to be ready is set; keep one of url, line, file and notify",
		},
		{
			"fresh service for each of many at once", "course: { service: { run: [board, '${PORT}'], fresh: run } }",
			"{ clients: 2 }", "a fresh service for every run needs runs that follow one another",
		},
		{
			"port without a service", "course: { command: { env: { P: '${PORT}' } } }", "{ repeat: 2 }",
			"the variable PORT is not set, and quick has no service that would be given one",
		},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			src := strings.Replace(packers, "{ repeat: 5 }", tt.pace, 1) + tt.footing + "\n"
			_, err := read.Plan(path, []byte(src), options())
			if err == nil || !strings.Contains(err.Error(), tt.want) || !strings.Contains(err.Error(), "p.duel.yaml:") {
				t.Errorf("error %v; want %q", err, tt.want)
			}
		})
	}
}

// What a contender names is looked for where it will stand.
func TestFilesAreLookedForInTheWorkspace(t *testing.T) {
	path := inFolder(t)
	for stdin, ok := range map[string]bool{
		"manifest.txt": true, "deep/list.txt": true, "alone.txt": true, "other.txt": false, "in/manifest.txt": false,
	} {
		src := packers + "course: { command: { stdin: " + stdin + " } }\nfooting: { workspace: [in, alone.txt] }\n"
		if _, err := read.Plan(path, []byte(
			strings.Replace(src, "workspace: [in, alone.txt]", "workspace: { from: [in, alone.txt] }", 1),
		), options()); (err == nil) != ok {
			t.Errorf("stdin %s: %v", stdin, err)
		}
	}
}

// A process that lasts does not stand in a folder that is taken away beneath it.
func TestLastingProcessesKeepTheirFolder(t *testing.T) {
	path := inFolder(t)
	for _, tt := range []struct {
		workspace, process string
		refused            bool
	}{
		{"in", "", false}, {"in", "fresh: duel, ", true}, {"{ from: in, fresh: duel }", "fresh: duel, ", false},
		{"{ from: in, fresh: run }", "", true},
	} {
		src := `duel: Pier
baseline: a
course: { worker: { ` + tt.process + `run: [./pier] } }
contenders: { a: { worker: { function: x } }, b: { worker: { function: y } } }
pace: { repeat: 2 }
footing: { workspace: ` + tt.workspace + ` }
decides: operation
`
		_, err := read.Plan(path, []byte(src), options())
		if refused := err != nil && strings.Contains(err.Error(), "its process lasts"); refused != tt.refused {
			t.Errorf("workspace %s, %q: %v", tt.workspace, tt.process, err)
		}
		if err != nil && strings.Contains(err.Error(), "no figure is called") {
			t.Errorf("what is refused takes its figures along: %v", err)
		}
	}
}
