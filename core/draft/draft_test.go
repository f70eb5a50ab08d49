package draft_test

import (
	"slices"
	"strings"
	"testing"

	"paceduel/core/contender/all"
	"paceduel/core/draft"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
)

const berths = `# Which way is faster?
duel: Berths # the name

baseline: slow
contenders:
  # the old way
  slow:
    note: what runs today
    command: { run: [cat, a.txt] } # reads all

  "fast one":
    command:
      shell: cat a.txt | head

# how
pace: { repeat: 3 }
`

func reading(t *testing.T, text string) *plan.Plan {
	t.Helper()
	env := func(name string) (string, bool) { return "secret", true }
	p, err := read.Plan("d.duel.yaml", []byte(text), read.Options{Kinds: all.PlanKinds(), Lookup: env})
	if err != nil {
		t.Fatalf("the draft is no plan: %v\n%s", err, text)
	}
	return p
}

// kind is one of those that there are, by what its contenders are called.
func kind(plural string) *draft.Kind {
	for _, k := range all.Drafts() {
		if k.Plural == plural {
			return k
		}
	}
	panic("nothing is called " + plural)
}

func TestAnswersBecomeAPlan(t *testing.T) {
	text, err := draft.Answers{
		Name: `Pack "it"`, Kind: kind("commands"), Baseline: "gzip -1 -c 'a b'", Challenger: "xz -6 -c $F | cat",
		Asked: []string{" 5 "},
	}.Plan()
	if err != nil {
		t.Fatal(err)
	}
	p := reading(t, text)
	if p.Name != `Pack "it"` || p.Pace.Repeat != 5 || p.Contenders[0].Settings.Summary() != "gzip -1 -c 'a b'" ||
		p.Contenders[1].Settings.Summary() != "xz -6 -c $F | cat" {
		t.Errorf("plan = %+v", p)
	}
	text, err = draft.Answers{
		Name: "Ask", Question: "Which: one?", Kind: kind("requests"), Baseline: "http://127.0.0.1/a",
		Challenger: "http://127.0.0.1/${b}", Asked: []string{"8", "2s"},
	}.Plan()
	if err != nil {
		t.Fatal(err)
	}
	p = reading(t, text)
	if p.Question != "Which: one?" || p.Pace.Clients != 8 ||
		p.Contenders[1].Settings.Summary() != "GET http://127.0.0.1/${b}" {
		t.Errorf("plan = %+v", p)
	}
	if comments := strings.Count(text, "#"); comments < 8 {
		t.Errorf("only %d comments", comments)
	}
}

// What every kind proposes by itself becomes a plan.
func TestHintsBecomeAPlan(t *testing.T) {
	for _, k := range all.Drafts() {
		a := draft.Answers{Name: k.Plural, Kind: k, Others: all.Drafts(), Baseline: k.Hints[0], Challenger: k.Hints[1]}
		for _, ask := range k.Asks {
			a.Asked = append(a.Asked, ask.Default)
		}
		text, err := a.Plan()
		if err != nil {
			t.Errorf("%s: %v", k.Plural, err)
			continue
		}
		text = strings.Replace(text, "# course: ", "course: ", 1)
		_, err = read.Plan("d.duel.yaml", []byte(text), read.Options{Kinds: all.PlanKinds()})
		// What a hint names need not be here; but the text must be YAML with known keys.
		if err != nil && (!strings.Contains(err.Error(), "is not a file") || strings.Contains(err.Error(), "unknown key")) {
			t.Errorf("%s: %v\n%s", k.Plural, err, text)
		}
		if names, err := k.Names(k.Hints[:]); err != nil || len(names) != 2 || names[0] == names[1] {
			t.Errorf("%s are called %q, %v", k.Plural, names, err)
		}
		if text := k.Quick(0); !strings.HasPrefix(text, "{ ") {
			t.Errorf("%s: a quick comparison is driven by %q", k.Plural, text)
		}
	}
}

func TestAnswersThatMakeNoSense(t *testing.T) {
	good := draft.Answers{
		Name: "n", Kind: kind("commands"), Others: all.Drafts(), Baseline: "true", Challenger: "false", Asked: []string{"3"},
	}
	tests := []struct {
		change func(*draft.Answers)
		want   string
	}{
		{func(a *draft.Answers) { a.Name = " " }, "the name is missing"},
		{func(a *draft.Answers) { a.Challenger = "" }, "the challenger is missing"},
		{func(a *draft.Answers) { a.Baseline = "echo 'x" }, "the baseline: take"},
		{func(a *draft.Answers) { a.Challenger = "http://x/" }, "is a URL, and commands were asked for"},
		{func(a *draft.Answers) { a.Kind = kind("requests") }, "is not a URL"},
		{func(a *draft.Answers) {
			a.Kind, a.Baseline, a.Challenger, a.Asked = kind("requests"), "http://x/", "http://y/", []string{"8", "2s }"}
		}, `for: "2s }" is not a length of time`},
		{func(a *draft.Answers) { a.Asked = []string{"0"} }, `runs a heat: "0" is not a number of one or more`},
	}
	for _, tt := range tests {
		a := good
		tt.change(&a)
		if _, err := a.Plan(); err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("Plan says %v; want %q", err, tt.want)
		}
	}
}

func TestCopyChangesTheNameAlone(t *testing.T) {
	text, err := draft.Copy(berths, "Berths: 2")
	if err != nil || text != strings.Replace(berths, "duel: Berths # the name", `duel: "Berths: 2"`, 1) {
		t.Errorf("Copy = %v\n%s", err, text)
	}
	if reading(t, text).Name != "Berths: 2" {
		t.Error("the copy has another name")
	}
	for _, broken := range []string{"", "duel: [", "- a", "baseline: x\n"} {
		if _, err := draft.Copy(broken, "x"); err == nil {
			t.Errorf("Copy accepts %q", broken)
		}
	}
}

func TestContendersAreAddedBelowTheOthers(t *testing.T) {
	names, err := draft.Contenders(berths)
	if err != nil || !slices.Equal(names, []string{"slow", "fast one"}) {
		t.Fatalf("Contenders = %q, %v", names, err)
	}
	text, err := draft.AddLike(berths, "slow", "slow 2")
	if err != nil {
		t.Fatal(err)
	}
	added := "  \"slow 2\":\n    note: what runs today\n    command: { run: [cat, a.txt] } # reads all\n"
	if want := strings.Replace(berths, "cat a.txt | head\n", "cat a.txt | head\n"+added, 1); text != want {
		t.Errorf("AddLike gives\n%s\nwant\n%s", text, want)
	}
	text, err = draft.Add(text, "third", "command: { run: [true] }", []string{"imported"})
	if err != nil {
		t.Fatal(err)
	}
	p := reading(t, text)
	if len(p.Contenders) != 4 || p.Contenders[2].Note != "what runs today" ||
		p.Contenders[3].Settings.Summary() != "true" || !strings.Contains(text, "    # imported\n") {
		t.Errorf("contenders = %+v", p.Contenders)
	}
	last := strings.Split(berths, "\n# how")[0] + "\n" // contenders at the end of the file, then pace before them
	last = "pace: { repeat: 1 }\n" + last
	if text, err := draft.Add(last, "third", "command: { run: [true] }", nil); err != nil ||
		len(reading(t, text).Contenders) != 3 {
		t.Errorf("adding at the end of a file: %v\n%s", err, text)
	}
}

func TestWhatCannotBeAdded(t *testing.T) {
	flow := "duel: x\nbaseline: a\ncontenders: { a: { command: { run: [true] } }, b: }\npace: { repeat: 1 }\n"
	tests := []struct{ source, like, name, want string }{
		{berths, "slow", "fast one", `one is called "fast one" already`},
		{berths, "slwo", "x", `no contender is called "slwo"`},
		{flow, "a", "x", "written within braces"},
		{"duel: x\n", "a", "x", "the plan has no contenders"},
		{"duel: [", "a", "x", "the plan is not YAML"},
	}
	for _, tt := range tests {
		if _, err := draft.AddLike(tt.source, tt.like, tt.name); err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("AddLike says %v; want %q", err, tt.want)
		}
	}
	if got := draft.Free("slow", []string{"slow", "slow 2"}); got != "slow 3" {
		t.Errorf("Free = %q", got)
	}
}

func FuzzOutline(f *testing.F) {
	f.Add(berths)
	f.Add("contenders:\n  a:\n  b: &x\n")
	f.Fuzz(func(t *testing.T, source string) {
		draft.Copy(source, "x")
		draft.AddLike(source, "a", "b c")
	})
}

// A program that a kind knows is offered as what it is, any other as what asks strangers.
func TestListening(t *testing.T) {
	kinds := []*draft.Kind{
		{}, {Listens: map[string]string{"": "ask %d"}}, {Listens: map[string]string{"tideserver": "tides at %d"}},
	}
	for program, want := range map[string]string{"tideserver": "tides at 7", "other": "ask 7", "": "ask 7"} {
		if got := draft.Listening(kinds, program, 7); got != want {
			t.Errorf("%s: %q, want %q", program, got, want)
		}
	}
	if got := draft.Listening(kinds[:1], "other", 7); got != "" {
		t.Errorf("nobody knows it, and it is offered as %q", got)
	}
}
