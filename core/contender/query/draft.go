package query

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"paceduel/core/contender/query/database"
	"paceduel/core/draft"
	"paceduel/core/plan"
)

// drafting is how plans for statements are drafted: a statement and the address of its database.
var drafting = draft.Kind{
	Plural: "statements", One: "a statement and its database",
	Hints: [2]string{
		"select * from calls where berth = 7 on sqlite:harbour.db",
		"select id, vessel from calls where berth = 7 on sqlite:harbour.db",
	},
	Course: "query: { prepared: true, connections: kept, timeout: 10s }",
	Claims: func(text string) bool { _, _, ok := apart(text); return ok },
	Typed: func(did string) (text string, ok bool) {
		statement, _, ok := apart(did)
		return did, ok && !strings.Contains(did, plan.PortMark) &&
			!slices.ContainsFunc(marks, func(m string) bool { return strings.Contains(statement, m) })
	},
	Settings: func(text string) (string, error) {
		statement, at, ok := apart(text)
		if !ok {
			return "", fmt.Errorf("%q is no statement with its database, write it as select … on sqlite:FILE", text)
		}
		if plan.HasClearPassword(at) {
			return "", errors.New("a password stands in the address in clear: write ${NAME}, and put it into the environment")
		}
		return fmt.Sprintf("query: { at: %s, statement: %s }", draft.QuoteVars(at), draft.Quote(statement)), nil
	},
	Names: func(texts []string) ([]string, error) {
		words := make([][]string, len(texts))
		for i, text := range texts {
			words[i] = strings.Fields(text)
		}
		return draft.Finish(draft.Apart(words, " ", 0)), nil
	},
	Asks: []draft.Ask{{Name: "clients", Default: "4"}},
	Pace: func(answers []string) (string, error) {
		clients, err := draft.Number("clients", answers[0])
		return fmt.Sprintf("{ clients: %s, for: 2s, warmup: 500ms } # so many, each asks again when answered", clients), err
	},
	Tries: true,
	Listens: map[string]string{
		"postgres": "select 1 on postgres://postgres@127.0.0.1:%d/postgres",
		"mariadbd": "select 1 on mysql://root@127.0.0.1:%d/mysql",
		"mysqld":   "select 1 on mysql://root@127.0.0.1:%d/mysql",
	},
	Quick: func(took time.Duration) string {
		const aim, most = 350 * time.Millisecond, 2000
		return fmt.Sprintf("{ repeat: %d, warmup: 3 }", min(max(int(aim/max(took, time.Microsecond)), 1), most))
	},
}

// marks are what a summary has of settings that no text says.
var marks = []string{", in pages of ", " rows read", ", not prepared", ", in a transaction", ", a new connection each",
	", a pool of ", "; for each row ", "; ", " with "}

// apart takes a text apart into a statement and an address.
func apart(text string) (statement, at string, ok bool) {
	cut := strings.LastIndex(text, on)
	if cut < 0 {
		return "", "", false
	}
	statement, at = strings.TrimSpace(text[:cut]), strings.TrimSpace(text[cut+len(on):])
	scheme := slices.ContainsFunc(database.Schemes, func(s string) bool { return strings.HasPrefix(at, s) })
	return statement, at, scheme && !strings.ContainsAny(at, " \t") && database.FirstWord(statement) != ""
}
