package main

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"paceduel/core/logbook"
	"paceduel/internal/sample"
)

// command runs the program with arguments in an environment of its own and returns what it printed.
func command(t *testing.T, env map[string]string, args ...string) string {
	t.Helper()
	var out, errs bytes.Buffer
	root := rootCommand(func(name string) (string, bool) { v, ok := env[name]; return v, ok }, newConsole())
	root.SetOut(&out)
	root.SetErr(&errs)
	root.SetArgs(args)
	if err := root.Execute(); err != nil {
		t.Fatalf("%q: %v\n%s", args, err, errs.String())
	}
	return out.String()
}

func TestTheShellIsOfferedWhatThereIs(t *testing.T) {
	dir := t.TempDir()
	t.Chdir(dir)
	plan := "duel: Sorts\nbaseline: plain\ncontenders:\n  plain: { command: { run: [sort] } }\n" +
		"  unique: { note: leaves out doubles, command: { run: [sort, -u] } }\npace: { repeat: 2 }\n"
	for name, text := range map[string]string{
		"sorts.duel.yaml": plan, "notes.txt": "x", "yard/more.duel.yaml": plan, "broken.duel.yaml": "duel: [",
	} {
		os.MkdirAll(filepath.Dir(name), 0o755)
		if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	book, err := logbook.Open(filepath.Join(dir, "log.sqlite"), false)
	if err != nil {
		t.Fatal(err)
	}
	r := sample.Make(sample.Duel{Rounds: 1, Shots: 5, Entrants: []sample.Entrant{
		{Name: "plain", Latency: sample.Times(0.01, 0)}, {Name: "unique", Latency: sample.Times(0.01, 0)},
	}})
	if err := book.Begin(r); err != nil {
		t.Fatal(err)
	}
	if err := book.End(r, logbook.Summary{}); err != nil {
		t.Fatal(err)
	}
	book.Close()
	env := map[string]string{"HOME": dir}
	for _, tt := range []struct {
		args []string
		want []string
		not  string
	}{
		{[]string{"run", ""}, []string{"sorts.duel.yaml", "yard/"}, "notes.txt"},
		{[]string{"check", "yard/"}, []string{"yard/more.duel.yaml"}, "sorts"},
		{[]string{"run", "sorts.duel.yaml", "--only", ""}, []string{"unique\tleaves out doubles"}, "plain"},
		{[]string{"run", "broken.duel.yaml", "--only", ""}, nil, "unique"},
		{[]string{"run", "x", "--set", "pa"}, []string{"pace."}, "rounds"},
		{[]string{"run", "x", "--set", "pace.cli"}, []string{"pace.clients="}, "pace.rate"},
		{[]string{"run", "x", "--set", "rou"}, []string{"rounds="}, "pace"},
		{[]string{"run", "x", "--set", "course.crash.count.q"}, []string{"course.crash.count.query."}, "rounds"},
		{[]string{"run", "x", "--set", "course.bystander.http.met"}, []string{"course.bystander.http.method="}, "rounds"},
		{[]string{"show", "--logbook", "log.sqlite", ""}, []string{r.ID + "\tBerth board, 9 Mar 2031 06:40"}, "sorts"},
		{[]string{"export", "--logbook", "log.sqlite", "none"}, nil, r.ID},
		{[]string{"pair", "--logbook", "log.sqlite", "other", ""}, []string{r.ID}, "sorts"},
		{[]string{"show", "--logbook", "log.sqlite", r.ID, ""}, nil, r.ID},
		{[]string{"again", "--logbook", "log.sqlite", ""}, []string{r.ID}, "sorts"},
		{[]string{"log", "note", "--logbook", "log.sqlite", ""}, []string{r.ID}, "sorts"},
		{[]string{"log", "duels", "--logbook", "log.sqlite", "Be"}, []string{"Berth board\t1 run"}, r.ID},
		{[]string{"show", "--logbook", "notes.txt", ""}, nil, r.ID},
	} {
		got := command(t, env, append([]string{"__complete"}, tt.args...)...)
		for _, want := range tt.want {
			if !strings.Contains(got, want) {
				t.Errorf("%q is offered %q, which lacks %q", tt.args, got, want)
			}
		}
		if strings.Contains(got, tt.not) {
			t.Errorf("%q is offered %q, of which %q is none", tt.args, got, tt.not)
		}
	}
}

func TestEveryCommandHasAManPage(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "man")
	command(t, nil, "man", dir)
	root := rootCommand(func(string) (string, bool) { return "", false }, newConsole())
	for _, c := range root.Commands() {
		if c.Hidden {
			continue
		}
		page, err := os.ReadFile(filepath.Join(dir, "paceduel-"+c.Name()+".1"))
		if err != nil || !bytes.Contains(page, []byte(".SH NAME")) {
			t.Errorf("%s: %v, %.60q", c.Name(), err, page)
		}
	}
}
