package between_test

import (
	"context"
	"os"
	"strings"
	"testing"

	"paceduel/core/between"
	"paceduel/core/contender/all"
	"paceduel/core/contender/command"
	"paceduel/core/keeper"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
)

func TestMain(m *testing.M) {
	keeper.Run()
	os.Exit(m.Run())
}

func infer(t *testing.T, given ...string) (*plan.Plan, error) {
	t.Helper()
	return between.Plan(
		t.Context(), t.TempDir(), given, between.Wishes{}, all.Kinds(), func(string) (string, bool) { return "", false },
	)
}

func TestCommandLinesBecomeAPlan(t *testing.T) {
	p, err := infer(t, "true -1 'two words'", "echo ${HOME} | wc -c", "true -1 'two words'")
	if err != nil {
		t.Fatal(err)
	}
	if p.Baseline != "true -1 'two words'" || len(p.Contenders) != 3 || p.Contenders[2].Name != "true -1 'two words' #2" {
		t.Errorf("baseline %q of %d contenders, the last called %q", p.Baseline, len(p.Contenders), p.Contenders[2].Name)
	}
	first := p.Contenders[0].Settings.(*command.Settings)
	if len(first.Run) != 3 || first.Run[2] != "two words" {
		t.Errorf("run = %q; want three words", first.Run)
	}
	if line := p.Contenders[1].Settings.(*command.Settings); line.Shell != "echo ${HOME} | wc -c" {
		t.Errorf("shell = %q; want the line untouched", line.Shell)
	}
	if p.Pace.Repeat < 1 || p.Pace.Repeat > 200 || p.Rounds != plan.DefaultRounds {
		t.Errorf("pace %+v of %d rounds", p.Pace, p.Rounds)
	}
	// What is kept reads as the same plan.
	again, err := read.Plan("kept.duel.yaml", []byte(p.Source), read.Options{Kinds: all.PlanKinds()})
	if err != nil || again.Pace.Repeat != p.Pace.Repeat || len(again.Contenders) != 3 {
		t.Errorf("the kept plan reads as %+v, %v", again, err)
	}
}

func TestURLsBecomeAPlan(t *testing.T) {
	p, err := infer(t, "http://127.0.0.1:1/tides?page=1", "http://127.0.0.1:1/a/very/long/path/that/goes/on/for/ever")
	if err != nil {
		t.Fatal(err)
	}
	if p.Pace.Clients != 4 || p.Contenders[0].Kind != "http" || p.Contenders[0].Name != "/tides?page=1" {
		t.Errorf("plan = %+v", p)
	}
	if n := len([]rune(p.Contenders[1].Name)); n > 28 {
		t.Errorf("name %q has %d characters", p.Contenders[1].Name, n)
	}
}

func TestWhatCannotBeCompared(t *testing.T) {
	tests := []struct {
		given []string
		want  string
	}{
		{[]string{"true"}, "needs 2 to 8 contenders, 1 were given"},
		{[]string{"true", "http://127.0.0.1/"}, "a command line cannot be compared with a URL"},
		{[]string{"true", " "}, "one of the contenders is empty"},
		{[]string{"true", "echo 'open"}, "check its quotes"},
		{[]string{"http://127.0.0.1/", "http://far.example/"}, "far.example is not this machine"},
	}
	for _, tt := range tests {
		if _, err := infer(t, tt.given...); err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%q says %v; want %q", tt.given, err, tt.want)
		}
	}
	if _, err := between.Plan(t.Context(), ".", []string{
		"http://127.0.0.1/", "http://far.example/",
	}, between.Wishes{Allow: []string{"far.example"}}, all.Kinds(), nil); err != nil {
		t.Errorf("an allowed host says %v", err)
	}
}

func TestAProgramThatIsNotThereIsLeftToTheWeighIn(t *testing.T) {
	if p, err := infer(t, "no-such-packer -1", "true"); err != nil || len(p.Contenders) != 2 {
		t.Errorf("between says %v; want a plan", err)
	}
}

func FuzzQuoting(f *testing.F) {
	f.Add("a: b # c")
	f.Add("${X} 'é' \"\\")
	f.Add("\u2028\t")
	f.Fuzz(func(t *testing.T, text string) {
		given := "http://127.0.0.1/?q=" + text
		p, err := between.Plan(t.Context(), ".", []string{given, "http://127.0.0.1/"}, between.Wishes{}, all.Kinds(), nil)
		if err == nil && p.Contenders[0].Settings.Summary() != "GET "+given {
			t.Errorf("%q became %q", given, p.Contenders[0].Settings.Summary())
		}
	})
}

// Lines that were made for curl stand for what they ask, where that is wished for; names stay apart.
func TestCurlLinesStandForWhatTheyAsk(t *testing.T) {
	env := func(string) (string, bool) { return "", false }
	given := []string{"curl -H 'X-Board: joined' http://127.0.0.1:1/berths", "http://127.0.0.1:1/berths"}
	p, err := between.Plan(t.Context(), t.TempDir(), given, between.Wishes{Imports: true}, all.Kinds(), env)
	if err != nil {
		t.Fatal(err)
	}
	if len(p.Contenders) != 2 || p.Contenders[0].Kind != "http" || p.Contenders[0].Name == p.Contenders[1].Name ||
		!strings.Contains(p.Source, "X-Board") {
		t.Errorf("the plan is\n%s", p.Source)
	}
	for _, wrong := range [][]string{{"curl", "true"}, {"curl --no-such http://127.0.0.1:1/", "http://127.0.0.1:1/"},
		{"curl http://127.0.0.1:1/", "gzip -1"}} {
		wish := between.Wishes{Imports: true}
		if p, err := between.Plan(t.Context(), t.TempDir(), wrong, wish, all.Kinds(), env); err == nil &&
			wrong[0] != "curl" {
			t.Errorf("%q became\n%s", wrong, p.Source)
		}
	}
}

// Advice names the option of whoever gave options, and the key of whoever wrote a plan.
func TestAdviceSpeaksOfOptions(t *testing.T) {
	p, err := infer(t, "false", "true")
	if err != nil {
		t.Fatal(err)
	}
	const advice = "run it by hand, or set expect: to the exit code of a good run"
	if got := p.Options.Replace(advice); got != "run it by hand, or give with --expect the exit code of a good run" {
		t.Errorf("%q", got)
	}
	wish := between.Wishes{Expect: 1}
	p, err = between.Plan(t.Context(), t.TempDir(), []string{"false", "false 2"}, wish, all.Kinds(),
		func(string) (string, bool) { return "", false })
	if err != nil || p.Contenders[0].Settings.(*command.Settings).Expect != 1 {
		t.Errorf("expects %+v, %v", p, err)
	}
}

// One line is compared as several revisions have it: each is built where it is tried, and written into the plan.
func TestRevisionsBecomeAPlan(t *testing.T) {
	tree := t.TempDir()
	if err := os.WriteFile(tree+"/tool", []byte("#!/bin/sh\nexit 0\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	var built []string
	wish := between.Wishes{
		Git: []string{"HEAD~5", "topic/of-a-name-that-is-long-beyond-reason", "HEAD~5"}, Build: "make 'all of it'",
		Tree: func(_ context.Context, revision string) (string, error) {
			built = append(built, revision)
			return tree, nil
		},
	}
	make := func(given ...string) (*plan.Plan, error) {
		return between.Plan(t.Context(), t.TempDir(), given, wish, all.Kinds(), func(string) (string, bool) {
			return "",
				false
		})
	}
	p, err := make("./tool", "two words", "-x")
	if err != nil {
		t.Fatal(err)
	}
	if len(p.Contenders) != 3 || p.Baseline != "HEAD~5" || p.Contenders[2].Name != "HEAD~5 2" || len(built) != 3 {
		t.Errorf("%d contenders, %q, %q built", len(p.Contenders), p.Contenders[2].Name, built)
	}
	for i, c := range p.Contenders {
		run := c.Settings.(*command.Settings).Run
		if f := c.Ground.From; f == nil || f.Git != wish.Git[i] || f.Build != wish.Build || len(run) != 3 ||
			run[1] != "two words" {
			t.Errorf("%s: %+v of %q", c.Name, c.Ground.From, run)
		}
	}
	if p.Pace.Repeat < 2 {
		t.Errorf("a program that does nothing is run %d times a heat: it was not tried", p.Pace.Repeat)
	}
	wish.Git = wish.Git[:1]
	if _, err := make("./tool"); err == nil || !strings.Contains(err.Error(), "2 to 8 revisions, 1 were given") {
		t.Errorf("%v", err)
	}
	wish.Git = []string{"a", "b"}
	if _, err := make("http://127.0.0.1:1/"); err == nil || !strings.Contains(err.Error(), "no program of a is started") {
		t.Errorf("%v", err)
	}
}
