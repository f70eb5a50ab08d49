package http

import (
	"fmt"
	"net/url"
	"strings"
	"time"

	"paceduel/core/draft"
	"paceduel/core/plan"
)

// drafting is how plans for requests are drafted.
var drafting = draft.Kind{
	Plural: "requests", One: "a URL",
	Hints:  [2]string{"http://127.0.0.1:8080/berths", "http://127.0.0.1:8080/berths?joined=1"},
	Course: "http: { headers: { Accept: application/json }, timeout: 10s }",
	Claims: isURL,
	Typed: func(did string) (text string, ok bool) {
		text, ok = strings.CutPrefix(did, "GET ")
		return text, ok && !strings.Contains(text, " ")
	},
	Settings: func(text string) (string, error) {
		if !isURL(text) {
			return "", fmt.Errorf("%q is not a URL, write it as http://host:port/path", text)
		}
		return "http: { url: " + draft.Quote(text) + " }", nil
	},
	Names: names,
	Asks:  []draft.Ask{{Name: "clients", Default: "8"}, {Name: "for", Default: "2s"}},
	Pace: func(answers []string) (string, error) {
		clients, err := draft.Number("clients", answers[0])
		if err != nil {
			return "", err
		}
		var span plan.Span
		lasts := strings.TrimSpace(answers[1])
		if err := span.Read(lasts); err != nil {
			return "", fmt.Errorf("for: %w", err)
		}
		return fmt.Sprintf(
			"{ clients: %s, for: %s, warmup: 500ms } # at once; each asks again as soon as it has its answer", clients, lasts,
		), nil
	},
	Listens: map[string]string{"": "http://127.0.0.1:%d/"},
	Quick:   func(time.Duration) string { return "{ clients: 4, for: 500ms, warmup: 200ms }" },
	Import:  fromCurl, Imports: "a curl command line",
}

func isURL(text string) bool {
	return strings.HasPrefix(text, "http://") || strings.HasPrefix(text, "https://")
}

// names calls URLs by what sets them apart: a host that they share, and the end of their paths, are left out.
func names(given []string) ([]string, error) {
	words := make([][]string, len(given))
	for i, text := range given {
		u, err := url.Parse(text)
		if err != nil {
			return nil, err
		}
		words[i] = []string{u.Host}
		rest := u.RequestURI()
		for rest != "" {
			end := strings.IndexAny(rest[1:], "/?&") + 1
			if end == 0 {
				end = len(rest)
			}
			words[i], rest = append(words[i], rest[:end]), rest[end:]
		}
	}
	shared := 1
	for _, w := range words {
		if w[0] != words[0][0] {
			shared = 0
		}
	}
	return draft.Finish(draft.Apart(words, "", shared)), nil
}
