package worker

import (
	"fmt"
	"os/exec"
	"regexp"
	"strings"
	"time"

	"github.com/google/shlex"

	"paceduel/core/draft"
)

// belonging stands between a function and the command line of its worker.
const belonging = "of"

// drafting is how plans for workers are drafted: a function and who has it.
var drafting = draft.Kind{
	Plural: "functions", One: "a function and its worker",
	Hints:  [2]string{"fresh of python3 reports.py", "pooled of python3 reports.py"},
	Course: "worker: { for: 100ms, threads: 1, timeout: 60s }",
	Claims: func(text string) bool {
		function, run, err := apart(text)
		if err != nil {
			return false
		}
		words := strings.Fields(function)
		if len(words) == 1 {
			return true
		}
		// Command lines may have such a word in their midst.
		_, first := exec.LookPath(words[0])
		_, worker := exec.LookPath(run[0])
		return first != nil && worker == nil
	},
	Typed: func(did string) (text string, ok bool) {
		found := plainly.FindStringSubmatch(did)
		if found == nil {
			return "", false
		}
		return found[1], true
	},
	Settings: func(text string) (string, error) {
		function, run, err := apart(text)
		if err != nil {
			return "", err
		}
		for i, w := range run {
			run[i] = draft.Quote(w)
		}
		return fmt.Sprintf("worker: { run: [%s], function: %s, for: 100ms }", strings.Join(run, ", "), draft.Quote(function)),
			nil
	},
	Names: func(texts []string) ([]string, error) {
		words := make([][]string, len(texts))
		for i, text := range texts {
			words[i] = strings.Fields(text)
		}
		return draft.Finish(draft.Apart(words, " ", 0)), nil
	},
	Asks: []draft.Ask{{Name: "runs a heat", Default: "3"}},
	Pace: func(answers []string) (string, error) {
		runs, err := draft.Number("runs a heat", answers[0])
		return fmt.Sprintf(
			"{ repeat: %s, warmup: 1 } # runs a heat, one after another, each of as many operations as its time holds", runs,
		), err
	},
	Quick: func(time.Duration) string { return "{ repeat: 3, warmup: 1 }" },
}

// plainly is what a worker did that was asked for nothing but a function and a usual amount of work.
var plainly = regexp.MustCompile(`^([^(),]+ of [^,]+?)(?:, shots of [^,]+|, [0-9 ]+ operations a shot)?$`)

// apart takes "FUNCTION of PROGRAM ARGUMENT..." to pieces.
func apart(text string) (function string, run []string, err error) {
	function, rest, found := strings.Cut(strings.TrimSpace(text), " "+belonging+" ")
	if found {
		run, err = shlex.Split(rest)
	}
	if !found || err != nil || len(run) == 0 || function == "" {
		return "", nil, fmt.Errorf("%q is not a function and its worker, write it as FUNCTION of PROGRAM with its arguments",
			text)
	}
	return function, run, nil
}
