package command

import (
	"fmt"
	"path"
	"strings"
	"time"

	"github.com/google/shlex"

	"paceduel/core/draft"
)

// drafting is how plans for commands are drafted. What no other kind claims is one.
var drafting = draft.Kind{
	Plural: "commands", One: "a command line",
	Hints:    [2]string{"gzip -1 -c manifest.txt", "gzip -9 -c manifest.txt"},
	Course:   "command: { dir: ., stdout: discard, timeout: 60s }",
	Settings: settingsOf, Names: names,
	Asks: []draft.Ask{{Name: "runs a heat", Default: "10"}},
	Pace: func(answers []string) (string, error) {
		runs, err := draft.Number("runs a heat", answers[0])
		return fmt.Sprintf(
			"{ repeat: %s, warmup: 1 } # runs a heat, one after another; from 10 on p50 can be told", runs,
		), err
	},
	Tries: true,
	Quick: func(took time.Duration) string { return fmt.Sprintf("{ repeat: %d, warmup: 1 }", repeats(took)) },
}

// Pace of a quick comparison.
const (
	heatAim = 350 * time.Millisecond // of runs in a heat
	// of a program that does next to nothing: nine tenths of a quick comparison are spent measuring
	maxRepeat   = 200
	percentileN = 10 // runs in a heat from which p50 can be told
)

// repeats is how many runs of that length a heat should have: as many as fit, and enough for a percentile where that
// costs little.
func repeats(run time.Duration) int {
	if run <= 0 {
		return 1
	}
	n := min(max(int(heatAim/run), 1), maxRepeat)
	if n >= percentileN/2 && n < percentileN {
		n = percentileN
	}
	return n
}

// shellSigns make a command line one for the shell.
const shellSigns = "|&;<>()$`*?~"

// settingsOf writes a command line as settings: a list of words, or a shell line when it needs one.
func settingsOf(line string) (string, error) {
	words, err := shlex.Split(line)
	if err != nil || len(words) == 0 {
		return "", fmt.Errorf("take %q apart: check its quotes", line)
	}
	if strings.ContainsAny(line, shellSigns) {
		return "command: { shell: " + draft.Quote(line) + " }", nil
	}
	quoted := make([]string, len(words))
	for i, w := range words {
		quoted[i] = draft.Quote(w)
	}
	return "command: { run: [" + strings.Join(quoted, ", ") + "] }", nil
}

// names calls command lines by what sets them apart: the words that all of them end in are left out.
func names(given []string) ([]string, error) {
	words := make([][]string, len(given))
	for i, g := range given {
		words[i] = strings.Fields(g)
	}
	short := draft.Apart(words, " ", 0)
	for i, name := range short {
		if len([]rune(name)) > draft.MaxName {
			kept := strings.Fields(name)
			for j, word := range kept {
				if strings.Contains(word, "/") && !strings.HasSuffix(word, "/") && !strings.ContainsAny(word, `'"`) {
					kept[j] = path.Base(word)
				}
			}
			short[i] = strings.Join(kept, " ")
		}
	}
	return draft.Finish(short), nil
}
