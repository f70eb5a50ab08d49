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
	"paceduel/core/keeper"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/weighin"
)

func TestMain(m *testing.M) {
	keeper.Run()
	os.Exit(m.Run())
}

func touch(t *testing.T, line string) *result.Touch {
	t.Helper()
	s := command.New().(*command.Settings)
	s.Shell = line
	d, err := command.Kind.Open(contender.Setup{Clock: clock.Start()}, s)
	if err != nil {
		t.Fatal(err)
	}
	mask := func(s string) string { return strings.ReplaceAll(s, "oyster", "${TOKEN}") }
	got, _ := weighin.Touch(t.Context(), contender.Entry{Contender: plan.Contender{Name: "packer", Settings: s}, Driver: d}, mask)
	return got
}

func TestWhatPasses(t *testing.T) {
	got := touch(t, "echo oyster; echo oyster >&2")
	if !weighin.Passed(got) || got.Outcome != "exit code 0" || got.Bytes != 7 || got.Latency <= 0 || got.Err != "" {
		t.Errorf("touch = %+v", got)
	}
	if got.Body != "${TOKEN}\n" || got.Stderr != "${TOKEN}\n" {
		t.Errorf("kept %q and %q; want the secret masked", got.Body, got.Stderr)
	}
}

func TestOddAnswersAreNoted(t *testing.T) {
	tests := map[string]string{
		"echo fine": "", "true": "", "echo x; echo 'Usage: pack [FILE]' >&2": "it printed how to use it", "echo x; echo \"Try 'pack --help'\" >&2": "it printed how to use it",
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
	if weighin.Passed(got) || got.Class != "exit code" || got.Err != "exit code 2, expected 0: no ${TOKEN} here" || !strings.Contains(got.Try, "run it by hand") {
		t.Errorf("touch = %+v", got)
	}
	entry := contender.Entry{Contender: plan.Contender{Name: "packer"}, Err: errors.New("no such program")}
	got, _ = weighin.Touch(t.Context(), entry, func(s string) string { return s })
	if weighin.Passed(got) || got.Class != "no start" || got.Err != "no such program" || got.Try == "" {
		t.Errorf("touch of what cannot be opened = %+v", got)
	}
	if weighin.Passed(nil) {
		t.Error("who was not asked has passed")
	}
}

func TestEveryFailureHasAdvice(t *testing.T) {
	seen := map[string]contender.Class{}
	for class := contender.Cut + 1; class < contender.Classes; class++ {
		got, _ := weighin.Touch(t.Context(), failing(class), func(s string) string { return s })
		if got.Try == "" || got.Class != class.String() {
			t.Errorf("%s: touch = %+v", class, got)
		}
		if other, ok := seen[got.Try]; ok {
			t.Errorf("%s and %s give the same advice", class, other)
		}
		seen[got.Try] = class
	}
}

// failing is an entry whose one shot ends in class.
func failing(class contender.Class) contender.Entry {
	return contender.Entry{Contender: plan.Contender{Name: "x"}, Driver: fixed{class}}
}

func TestOnlyTheHeadOfAnAnswerIsKept(t *testing.T) {
	got := touch(t, "i=0; while [ $i -lt 3000 ]; do printf 'é€'; i=$((i+1)); done")
	if got.Bytes != 15000 || len(got.Body) > 4096 || !utf8.ValidString(got.Body) || !strings.HasPrefix(got.Body, "é€é€") {
		t.Errorf("kept %d bytes of %d, valid %v", len(got.Body), got.Bytes, utf8.ValidString(got.Body))
	}
	if got := touch(t, `printf '\377\000\376'`); got.Body != "ff 00 fe" {
		t.Errorf("bytes that are no text are kept as %q", got.Body)
	}
}
