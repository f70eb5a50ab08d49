package draft_test

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"paceduel/core/contender/all"
	"paceduel/core/draft"
	"paceduel/core/plan"
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

func read(t *testing.T, text string) *plan.Plan {
	t.Helper()
	env := func(name string) (string, bool) { return "secret", true }
	p, err := plan.Read("d.duel.yaml", []byte(text), plan.Options{Kinds: all.PlanKinds(), Lookup: env})
	if err != nil {
		t.Fatalf("the draft is no plan: %v\n%s", err, text)
	}
	return p
}

func TestAnswersBecomeAPlan(t *testing.T) {
	text, err := draft.Answers{Name: `Pack "it"`, Baseline: "gzip -1 -c 'a b'", Challenger: "xz -6 -c $F | cat", Runs: " 5 "}.Plan()
	if err != nil {
		t.Fatal(err)
	}
	p := read(t, text)
	if p.Name != `Pack "it"` || p.Pace.Repeat != 5 || p.Contenders[0].Settings.Summary() != "gzip -1 -c 'a b'" || p.Contenders[1].Settings.Summary() != "xz -6 -c $F | cat" {
		t.Errorf("plan = %+v", p)
	}
	text, err = draft.Answers{Name: "Ask", Question: "Which: one?", Request: true, Baseline: "http://127.0.0.1/a", Challenger: "http://127.0.0.1/${b}", Clients: "8", For: "2s"}.Plan()
	if err != nil {
		t.Fatal(err)
	}
	p = read(t, text)
	if p.Question != "Which: one?" || p.Pace.Clients != 8 || p.Contenders[1].Settings.Summary() != "GET http://127.0.0.1/${b}" {
		t.Errorf("plan = %+v", p)
	}
	if comments := strings.Count(text, "#"); comments < 8 {
		t.Errorf("only %d comments", comments)
	}
}

func TestAnswersThatMakeNoSense(t *testing.T) {
	good := draft.Answers{Name: "n", Baseline: "true", Challenger: "false", Runs: "3", Clients: "2", For: "1s"}
	tests := []struct {
		change func(*draft.Answers)
		want   string
	}{
		{func(a *draft.Answers) { a.Name = " " }, "the name is missing"},
		{func(a *draft.Answers) { a.Challenger = "" }, "the challenger is missing"},
		{func(a *draft.Answers) { a.Baseline = "echo 'x" }, "the baseline: take"},
		{func(a *draft.Answers) { a.Challenger = "http://x/" }, "is a URL, and commands were asked for"},
		{func(a *draft.Answers) { a.Request = true }, "is no URL"},
		{func(a *draft.Answers) {
			a.Request, a.Baseline, a.Challenger, a.For = true, "http://x/", "http://y/", "2s }"
		}, `for: "2s }" is no length of time`},
		{func(a *draft.Answers) { a.Runs = "0" }, `runs a heat: "0" is no number of one or more`},
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
	if read(t, text).Name != "Berths: 2" {
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
	p := read(t, text)
	if len(p.Contenders) != 4 || p.Contenders[2].Note != "what runs today" || p.Contenders[3].Settings.Summary() != "true" || !strings.Contains(text, "    # imported\n") {
		t.Errorf("contenders = %+v", p.Contenders)
	}
	last := strings.Split(berths, "\n# how")[0] + "\n" // contenders at the end of the file, then pace before them
	last = "pace: { repeat: 1 }\n" + last
	if text, err := draft.Add(last, "third", "command: { run: [true] }", nil); err != nil || len(read(t, text).Contenders) != 3 {
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
		{"duel: [", "a", "x", "the plan is no YAML"},
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

func TestCurlLines(t *testing.T) {
	tests := []struct {
		line string
		want draft.Imported
	}{
		{"curl http://localhost/berths", draft.Imported{Name: "berths", Settings: `http: { url: "http://localhost/berths" }`}},
		{"curl -sS 'localhost:8080/a/b?x=1&y=2' --compressed", draft.Imported{Name: "b", Settings: `http: { url: "http://localhost:8080/a/b?x=1&y=2", headers: { "Accept-Encoding": "gzip" } }`}},
		{"curl -XPUT http://localhost/t -H 'Content-Type: text/plain' \\\n  --data-raw 'low: ${x}' -m 3", draft.Imported{Name: "t",
			Settings: `http: { url: "http://localhost/t", method: "PUT", headers: { "Content-Type": "text/plain" }, body: "low: $${x}", timeout: 3s }`}},
		{"curl http://localhost/t -d a=1 -d b=2", draft.Imported{Name: "t",
			Settings: `http: { url: "http://localhost/t", method: "POST", headers: { "Content-Type": "application/x-www-form-urlencoded" }, body: "a=1&b=2" }`}},
		{"curl -G http://localhost/t?z=0 --data-urlencode 'q=a b'", draft.Imported{Name: "t", Settings: `http: { url: "http://localhost/t?z=0&q=a+b" }`}},
		{"curl --json '{\"a\":1}' http://localhost/t -H 'accept: text/html'", draft.Imported{Name: "t",
			Settings: `http: { url: "http://localhost/t", method: "POST", headers: { "Content-Type": "application/json", "accept": "text/html" }, body: "{\"a\":1}" }`}},
		{"curl -I http://localhost", draft.Imported{Name: "localhost", Settings: `http: { url: "http://localhost", method: "HEAD" }`}},
		{"curl -L http://localhost/x", draft.Imported{Name: "x", Settings: `http: { url: "http://localhost/x" }`, Notes: []string{"redirects are not followed here: name the final address"}}},
	}
	for _, tt := range tests {
		got, err := draft.FromCurl(tt.line)
		if err != nil || got.Name != tt.want.Name || got.Settings != tt.want.Settings || !slices.Equal(got.Notes, tt.want.Notes) {
			t.Errorf("FromCurl(%s)\n = %+v, %v\nwant %+v", tt.line, got, err, tt.want)
			continue
		}
		text, err := draft.Add(berths, "pasted", got.Settings, got.Notes)
		if err != nil {
			t.Fatal(err)
		}
		read(t, text)
	}
}

func TestSecretsOfACurlLineStayOut(t *testing.T) {
	got, err := draft.FromCurl("curl http://localhost/x -H 'Authorization: Bearer hush' -b 'session=hush' -u me:hush -H 'X-Api-Key: hush'")
	if err != nil {
		t.Fatal(err)
	}
	if strings.Contains(got.Settings+strings.Join(got.Notes, ""), "hush") {
		t.Errorf("a secret is in %+v", got)
	}
	if !slices.Equal(got.Vars, []string{"AUTHORIZATION", "COOKIE", "AUTHORIZATION", "X_API_KEY"}) || !strings.Contains(got.Settings, `"Cookie": "${COOKIE}"`) {
		t.Errorf("variables %q in %s", got.Vars, got.Settings)
	}
}

func TestCurlLinesThatAreRefused(t *testing.T) {
	tests := map[string]string{
		"":                                  "begins with curl",
		"wget http://localhost":             "begins with curl",
		"curl -sS":                          "names no address",
		"curl http://a http://b":            "a second address",
		"curl --upload-file x http://a":     "--upload-file is not taken over",
		"curl http://a -H":                  "nothing follows -H",
		"curl http://a -d @file":            "data from a file",
		"curl http://me:pw@localhost/":      "holds a password",
		"curl 'http://a":                    "check its quotes",
		"curl http://localhost -H nonsense": "is no header",
	}
	for line, want := range tests {
		if _, err := draft.FromCurl(line); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("FromCurl(%q) says %v; want %q", line, err, want)
		}
	}
}

func FuzzFromCurl(f *testing.F) {
	f.Add("curl -sSXPOST http://localhost -H a:b -d x")
	f.Add("curl --data-urlencode= -u '' x")
	f.Fuzz(func(t *testing.T, line string) {
		got, err := draft.FromCurl(line)
		if err != nil {
			return
		}
		text, err := draft.Add(berths, "pasted", got.Settings, nil)
		if err != nil {
			t.Fatal(err)
		}
		var problems plan.Problems
		if _, err := plan.Read("d.duel.yaml", []byte(text), plan.Options{Kinds: all.PlanKinds(), Lookup: func(string) (string, bool) { return "x", true }}); err != nil {
			// The address or a header may be one that a plan refuses, but the text must be YAML with known keys.
			if !errors.As(err, &problems) || strings.Contains(err.Error(), "not YAML") || strings.Contains(err.Error(), "unknown key") {
				t.Fatalf("%q became %s: %v", line, got.Settings, err)
			}
		}
	})
}

func FuzzOutline(f *testing.F) {
	f.Add(berths)
	f.Add("contenders:\n  a:\n  b: &x\n")
	f.Fuzz(func(t *testing.T, source string) {
		draft.Copy(source, "x")
		draft.AddLike(source, "a", "b c")
	})
}
