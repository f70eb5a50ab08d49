package rounds_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"paceduel/core/contender/all"
	"paceduel/core/plan/read"
	"paceduel/core/result"
	"paceduel/core/rounds"
)

// token and password are what the plans below take from the environment; no piece of them may be seen anywhere.
const (
	token    = "oyster-catcher/7+x"
	password = "sluice gate & weir"
)

// parrot answers with all that it was sent, in the status line and headers, too.
func parrot(t *testing.T) string {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		conn, buf, err := http.NewResponseController(w).Hijack()
		if err != nil {
			t.Error(err)
			return
		}
		defer conn.Close()
		auth := r.Header.Get("Authorization")
		body := fmt.Sprintf("%s %s %s", r.URL, auth, r.Header.Get("X-Token"))
		fmt.Fprintf(buf, "HTTP/1.1 %s no berth for %s %s\r\nX-Echo: %s\r\nX-%s: y\r\nServer-Timing: "+
			"%s;dur=1\r\nContent-Type: text/%s\r\nContent-Length: %d\r\nConnection: close\r\n\r\n%s",
			strings.TrimPrefix(r.URL.Path, "/"), r.Header.Get("X-Token"), auth, auth, strings.ReplaceAll(token, "/", "-"), token,
			token, len(body), body)
		buf.Flush()
	}))
	t.Cleanup(s.Close)
	return s.URL
}

func secretly(name string) (string, bool) {
	v, ok := map[string]string{"TOKEN": token, "PASSWORD": password, "HOST": "oyster-catcher-7"}[name]
	return v, ok
}

// pieces are what must not be seen: halves of the values, as they are and in their other forms.
var pieces = []string{
	"oyster-catch", "catcher/7+x", "catcher%2F7", "sluice gate", "gate & weir", `gate \u0026 weir`, "sluice+gate",
	"sluice%20gate", "c2x1aWNlIGdhdG", "b3lzdGVyLWNhdGNo", "NsdWljZSBnYXRl", "zbHVpY2UgZ2F0Z",
}

func showsNothing(t *testing.T, where string, v any) {
	t.Helper()
	text, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	for _, form := range []string{string(text), fmt.Sprintf("%+v", v)} {
		for _, piece := range pieces {
			if at := strings.Index(form, piece); at >= 0 {
				t.Errorf("%s shows %q: …%s…", where, piece, form[max(at-80, 0):min(at+80, len(form))])
				return
			}
		}
	}
}

// What a plan takes from the environment is in nothing that leaves a run: no event, no result, no error, whoever
// repeats it. It is long since its cases are listed in it.
func TestSecretsStayBehind(t *testing.T) {
	url := parrot(t)
	http := func(path, more string) string {
		return "{ http: { url: '" + url + path +
			"?t=${TOKEN}', auth: { user: pilot, password: '${PASSWORD}' }, headers: { X-Token: '${TOKEN}' }, connections: new" +
			more + " } }"
	}
	say := func(line string) string {
		return "{ command: { shell: '" + line +
			"', env: { T: '${TOKEN}', P: '${PASSWORD}' }, stdout: pipe, version: [ sh, -c, 'echo $T' ] } }"
	}
	tests := []struct{ name, contenders, more string }{
		{"answers", "{ a: " + http("/200", "") + ", b: " + http("/200", ", path: full") + " }", ""},
		{"refused answers", "{ a: " + http("/503", "") + ", b: " + http("/200", "") + " }", ""},
		{"answers that differ", "{ a: " + http("/200", "") + ", b: " + http("/201", "") +
			" }", "same: { body: exact, match: '${TOKEN}', through: 'cat; echo ${PASSWORD}' }\n"},
		{"outputs", "{ a: " + say("echo $T; echo $P >&2") + ", b: " +
			say("printf %s \"$P\" | base64; printf %s \"$T\" | od -An -tx1 >&2") + " }", ""},
		{"last words", "{ a: " + say("echo $T $P >&2; exit 3") + ", b: " + say("true") + " }", ""},
		{"a program that is not there", "{ a: { command: { run: [ './${TOKEN}' ] } }, b: " + say("true") + " }", ""},
		{
			"steps", "{ a: " + say("true") + ", b: " + say("true") + " }",
			"footing: { before: { duel: 'echo ${TOKEN}', heat: 'echo \"${PASSWORD}\"; ls ./${TOKEN} || true', run: 'echo " +
				"${TOKEN}' } }\n",
		},
		{"a step that fails", "{ a: " + say("true") + ", b: " + say("true") +
			" }", "footing: { before: { duel: 'echo ${TOKEN}; exit 1' } }\n"},
		{
			"a service",
			"{ a: { service: { shell: 'echo ${TOKEN} $W; exec sleep 60', env: { W: '${PASSWORD}' }, ready: { line: '.' } }, " +
				"command: { run: [ 'true' ] } }, b: " + say("true") + " }",
			"",
		},
		{
			"a service that ends",
			"{ a: { service: { shell: 'echo ${TOKEN} $W; exit 1', env: { W: '${PASSWORD}' }, ready: { line: tide } }, " +
				"command: { run: [ 'true' ] } }, b: " + say("true") + " }",
			"",
		},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			src := "duel: x\nbaseline: a\ncontenders: " + tt.contenders + "\npace: { repeat: 2 }\nrounds: 1\n" + tt.more
			p, err := read.Plan(filepath.Join(t.TempDir(), "x.duel.yaml"), []byte(src), read.Options{
				Kinds: all.PlanKinds(), Lookup: secretly,
			})
			if err != nil {
				t.Fatal(err)
			}
			out := make(chan rounds.Event)
			var r *result.Result
			done := make(chan error, 1)
			cfg := rounds.Config{
				Plan: p, Kinds: all.Kinds(), Seed: 7, AcceptUnequal: true,
				OnAnswer: func(_, _ string, body []byte) { showsNothing(t, "an answer", string(body)) },
			}
			go func() {
				var err error
				r, err = rounds.Run(context.Background(), cfg, out)
				done <- err
			}()
			for e := range out {
				showsNothing(t, fmt.Sprintf("%T", e), e)
			}
			if err := <-done; err != nil {
				showsNothing(t, "the error", err.Error())
			}
			showsNothing(t, "the result", r)
			if text, err := json.Marshal(r); err != nil || !strings.Contains(string(text), "${TOKEN}") {
				t.Errorf("nothing tells that a value was there, %v", err)
			}
			path := filepath.Join(t.TempDir(), "r.json")
			if err := r.WriteFile(path); err != nil {
				t.Fatal(err)
			}
			if text, err := os.ReadFile(path); err != nil {
				t.Error(err)
			} else {
				showsNothing(t, "the file", string(text))
			}
			if _, err := result.ReadFile(path); err != nil {
				t.Errorf("the result does not hang together any more: %v", err)
			}
		})
	}
}

// Neither do the words for a plan that is refused.
func TestRefusedPlansShowNoSecrets(t *testing.T) {
	const good = "duel: x\nbaseline: a\ncontenders: { a: { command: { run: [ 'true' ] } }, b: { command: { run: [ " +
		"'false' ] } } }\npace: { repeat: 1 }\n"
	for _, src := range []string{
		good + "rounds: '${TOKEN}'\n", good + "interest: '${TOKEN}'\n", good + "decides: '${TOKEN}'\n", good +
			"claims: [ '${TOKEN}' ]\n", good + "rungs: [ '${TOKEN}' ]\n",
		good + "same: { body: '${TOKEN}' }\n", good + "same: { match: '(${TOKEN}' }\n", good + "seed: '${TOKEN}'\n",
		good + "footing: { workspace: '${TOKEN}' }\n",
		strings.Replace(
			good, "command: { run: [ 'true' ] }", "http: { url: 'http://${HOST}/' }", 1,
		), strings.Replace(good, "command: { run: [ 'true' ] }", "http: { url: 'http://127.0.0.1:${HOST}/' }", 1),
		strings.Replace(
			good, "run: [ 'true' ]", "run: [ 'true' ], timeout: '${TOKEN}'", 1,
		), strings.Replace(good, "run: [ 'true' ]", "run: [ 'true' ], dir: '${TOKEN}'", 1),
		strings.Replace(
			good, "run: [ 'true' ]", "run: [ 'true' ], stdin: '${PASSWORD}'", 1,
		), strings.Replace(good, "duel: x", "duel: '${TOKEN}'", 1),
		good + "question: 'is ${TOKEN} fast?'\n", strings.Replace(
			good, "a: { command", "a: { note: 'uses ${TOKEN}', command", 1,
		), strings.Replace(good, "a: { command", "a: { avoid: |\n   ${TOKEN}\n  , command", 1),
		strings.Replace(good, "baseline: a", "baseline: '${TOKEN}'", 1),
	} {
		_, err := read.Plan("x.duel.yaml", []byte(src), read.Options{Kinds: all.PlanKinds(), Lookup: secretly})
		if err == nil {
			t.Errorf("%s is taken", src)
			continue
		}
		showsNothing(t, src, err.Error())
	}
}
