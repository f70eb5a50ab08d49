package weighin_test

import (
	"errors"
	"os"
	"strings"
	"testing"
	"unicode/utf8"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/contender/command"
	"paceduel/core/footing"
	"paceduel/core/keeper"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/core/result"
	"paceduel/core/shots"
	"paceduel/core/weighin"
	"paceduel/internal/sample"
)

func TestMain(m *testing.M) {
	keeper.Run()
	os.Exit(m.Run())
}

// ask performs the one shot of an entry on plain footing.
func ask(t *testing.T, e contender.Entry) *result.Touch {
	t.Helper()
	lookup := func(string) (string, bool) { return "oyster", true }
	p, err := read.Plan("x.duel.yaml", []byte(
		"duel: x\nbaseline: a\ncontenders: { a:, b: }\ncourse: { command: { shell: 'true' } }\npace: { repeat: 1 }\n",
	),
		read.Options{Kinds: []plan.Kind{command.Kind.Kind}, Lookup: lookup})
	if err != nil {
		t.Fatal(err)
	}
	f, err := footing.Open(p, clock.Start())
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	e.Name = "a"
	got, _ := weighin.Touch(t.Context(), p, e, f, plan.AsFound)
	return got
}

func touch(t *testing.T, line string) *result.Touch {
	t.Helper()
	s := command.New().(*command.Settings)
	s.Shell = line
	d, err := command.Kind.Open(contender.Setup{Clock: clock.Start()}, s)
	if err != nil {
		t.Fatal(err)
	}
	return ask(t, contender.Entry{Shape: &sample.Shape, Contender: plan.Contender{Settings: s}, Driver: d})
}

func TestWhatPasses(t *testing.T) {
	got := touch(t, "echo oyster; echo oyster >&2")
	if !weighin.Passed(got) || got.Outcome != "exit code 0" || got.Bytes != 7 || got.Latency <= 0 || got.Err != "" {
		t.Errorf("touch = %+v", got)
	}
	if got.Body != "oyster\n" || got.Stderr != "oyster\n" {
		t.Errorf("kept %q and %q", got.Body, got.Stderr)
	}
}

func TestOddAnswersAreNoted(t *testing.T) {
	tests := map[string]string{
		"echo fine": "", "true": "", "echo x; echo 'Usage: pack [FILE]' >&2": "it printed how to use it",
		"echo x; echo \"Try 'pack --help'\" >&2": "it printed how to use it",
	}
	for line, want := range tests {
		got := strings.Join(touch(t, line).Notes, " ")
		if want == "" && got != "" || !strings.Contains(got, want) {
			t.Errorf("%s: notes %q; want %q", line, got, want)
		}
	}
}

func TestJSONIsIndentedForReading(t *testing.T) {
	if got := touch(t, `printf '{"tide":[1]}'`); got.Body != "{\n  \"tide\": [\n    1\n  ]\n}" || got.Bytes != 12 {
		t.Errorf("kept %q of %d bytes", got.Body, got.Bytes)
	}
	if got := touch(t, `printf '{"tide":'`); got.Body != `{"tide":` {
		t.Errorf("what only begins like JSON is kept as %q", got.Body)
	}
}

func TestWhatFailsSaysWhyAndWhatToTry(t *testing.T) {
	got := touch(t, "echo no oyster here >&2; exit 2")
	if weighin.Passed(got) || got.Class != "exit code" || got.Err != "exit code 2, expected 0: no oyster here" ||
		!strings.Contains(got.Try, "run it by hand") {
		t.Errorf("touch = %+v", got)
	}
	got = ask(t, contender.Entry{Err: errors.New("no such program")})
	if weighin.Passed(got) || got.Class != "no start" || got.Err != "no such program" || got.Try == "" {
		t.Errorf("touch of what cannot be opened = %+v", got)
	}
	if weighin.Passed(nil) {
		t.Error("who was not asked has passed")
	}
}

func TestEveryFailureHasAdvice(t *testing.T) {
	seen := map[string]shots.Class{}
	for class := shots.Cut + 1; class < shots.Classes; class++ {
		got := ask(t, contender.Entry{Shape: &sample.Shape, Driver: fixed{class}})
		if got.Try == "" || got.Class != class.String() {
			t.Errorf("%s: touch = %+v", class, got)
		}
		if other, ok := seen[got.Try]; ok {
			t.Errorf("%s and %s give the same advice", class, other)
		}
		seen[got.Try] = class
	}
}

func TestOnlyTheHeadOfAnAnswerIsKept(t *testing.T) {
	got := touch(t, "i=0; while [ $i -lt 30000 ]; do printf 'é€'; i=$((i+1)); done")
	if got.Bytes != 150000 || len(got.Body) > 64<<10 || !utf8.ValidString(got.Body) ||
		!strings.HasPrefix(got.Body, "é€é€") {
		t.Errorf("kept %d bytes of %d, valid %v", len(got.Body), got.Bytes, utf8.ValidString(got.Body))
	}
	if got := touch(t, `printf '\377\000\376'`); got.Body != "ff 00 fe" {
		t.Errorf("bytes that are no text are kept as %q", got.Body)
	}
}
