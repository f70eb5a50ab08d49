package http

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"paceduel/core/draft"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
)

const tides = `duel: Tides
baseline: slow
contenders:
  slow:
    http: { url: "http://localhost/slow" }
  fast:
    http: { url: "http://localhost/fast" }
pace: { repeat: 3 }
`

func TestCurlLines(t *testing.T) {
	tests := []struct {
		line string
		want draft.Imported
	}{
		{"curl http://localhost/tides", draft.Imported{Name: "tides", Settings: `http: { url: "http://localhost/tides" }`}},
		{"curl -sS 'localhost:8080/a/b?x=1&y=2' --compressed", draft.Imported{
			Name: "b", Settings: `http: { url: "http://localhost:8080/a/b?x=1&y=2", headers: { "Accept-Encoding": "gzip" } }`,
		}},
		{"curl -XPUT http://localhost/t -H 'Content-Type: text/plain' \\\n  --data-raw 'low: ${x}' -m 3", draft.Imported{
			Name:     "t",
			Settings: `http: { url: "http://localhost/t", method: "PUT", headers: { "Content-Type": "text/plain" }, body: "low: $${x}", timeout: 3s }`}},
		{"curl http://localhost/t -d a=1 -d b=2", draft.Imported{Name: "t",
			Settings: `http: { url: "http://localhost/t", method: "POST", headers: { "Content-Type": "application/x-www-form-urlencoded" }, body: "a=1&b=2" }`}},
		{"curl -G http://localhost/t?z=0 --data-urlencode 'q=a b'", draft.Imported{
			Name: "t", Settings: `http: { url: "http://localhost/t?z=0&q=a+b" }`,
		}},
		{"curl --json '{\"a\":1}' http://localhost/t -H 'accept: text/html'", draft.Imported{Name: "t",
			Settings: `http: { url: "http://localhost/t", method: "POST", headers: { "Content-Type": "application/json", "accept": "text/html" }, body: "{\"a\":1}" }`}},
		{"curl -I http://localhost", draft.Imported{
			Name: "localhost", Settings: `http: { url: "http://localhost", method: "HEAD" }`,
		}},
		{"curl -L http://localhost/x", draft.Imported{
			Name: "x", Settings: `http: { url: "http://localhost/x" }`,
			Notes: []string{"redirects are not followed here: name the final address"},
		}},
	}
	for _, tt := range tests {
		got, err := fromCurl(tt.line)
		if err != nil || got.Name != tt.want.Name || got.Settings != tt.want.Settings ||
			!slices.Equal(got.Notes, tt.want.Notes) {
			t.Errorf("fromCurl(%s)\n = %+v, %v\nwant %+v", tt.line, got, err, tt.want)
			continue
		}
		text, err := draft.Add(tides, "pasted", got.Settings, got.Notes)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := read.Plan("d.duel.yaml", []byte(text), read.Options{Kinds: []plan.Kind{Kind.Kind}}); err != nil {
			t.Errorf("%s: %v", tt.line, err)
		}
	}
}

func TestSecretsOfACurlLineStayOut(t *testing.T) {
	got, err := fromCurl(
		"curl http://localhost/x -H 'Authorization: Bearer hush' -b 'session=hush' -u me:hush -H 'X-Api-Key: hush'",
	)
	if err != nil {
		t.Fatal(err)
	}
	if strings.Contains(got.Settings+strings.Join(got.Notes, ""), "hush") {
		t.Errorf("a secret is in %+v", got)
	}
	if !slices.Equal(got.Vars, []string{"AUTHORIZATION", "COOKIE", "AUTHORIZATION", "X_API_KEY"}) ||
		!strings.Contains(got.Settings, `"Cookie": "${COOKIE}"`) {
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
		"curl http://localhost -H nonsense": "is not a header",
	}
	for line, want := range tests {
		if _, err := fromCurl(line); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("fromCurl(%q) says %v; want %q", line, err, want)
		}
	}
}

func FuzzFromCurl(f *testing.F) {
	f.Add("curl -sSXPOST http://localhost -H a:b -d x")
	f.Add("curl --data-urlencode= -u '' x")
	f.Fuzz(func(t *testing.T, line string) {
		got, err := fromCurl(line)
		if err != nil {
			return
		}
		text, err := draft.Add(tides, "pasted", got.Settings, nil)
		if err != nil {
			t.Fatal(err)
		}
		var problems read.Problems
		if _, err := read.Plan("d.duel.yaml", []byte(text), read.Options{
			Kinds: []plan.Kind{Kind.Kind}, Lookup: func(string) (string, bool) { return "x", true },
		}); err != nil {
			// The address or a header may be one that a plan refuses, but the text must be YAML with known keys.
			if !errors.As(err, &problems) || strings.Contains(err.Error(), "not YAML") ||
				strings.Contains(err.Error(), "unknown key") {
				t.Fatalf("%q became %s: %v", line, got.Settings, err)
			}
		}
	})
}
