package path

import (
	"fmt"
	"strings"
	"time"

	"paceduel/core/draft"
	"paceduel/core/units"
)

// usualBlock is the block of a path that names none, as its summary has it.
var usualBlock = units.Trim(units.Bytes(float64(New().(*Settings).Block)))

// drafting is how plans for paths are drafted: a way and two files, or a way, a file and "socket".
var drafting = draft.Kind{
	Plural: "paths", One: "a way, a file and a target",
	Hints:  [2]string{"read-write charts.bin copy.bin", "copy-range charts.bin copy.bin"},
	Course: "path: { block: 64KiB, timeout: 60s }",
	Claims: func(text string) bool {
		words := strings.Fields(text)
		return len(words) == 3 && isWay(words[0])
	},
	Typed: func(did string) (text string, ok bool) {
		way, rest, _ := strings.Cut(did, " ")
		from, rest, ok := strings.Cut(rest, " to ")
		to, rest, cut := strings.Cut(rest, " by ")
		if to == "a socket" {
			to = "socket"
		}
		text = strings.Join([]string{way, from, to}, " ")
		return text, ok && cut && rest == usualBlock && len(strings.Fields(text)) == 3
	},
	Settings: func(text string) (string, error) {
		words := strings.Fields(text)
		if len(words) != 3 || !isWay(words[0]) {
			return "", fmt.Errorf("%q is not a path, write it as %s FILE TARGET, the first being one of %s", text, readWrite,
				strings.Join(ways, ", "))
		}
		to := "to: " + draft.Quote(words[2])
		if words[2] == "socket" {
			to = "socket: true"
		}
		return fmt.Sprintf("path: { way: %s, from: %s, %s }", words[0], draft.Quote(words[1]), to), nil
	},
	Names: func(texts []string) ([]string, error) {
		words := make([][]string, len(texts))
		for i, text := range texts {
			words[i] = strings.Fields(text)
		}
		return draft.Finish(draft.Apart(words, " ", 0)), nil
	},
	Asks: []draft.Ask{{Name: "runs a heat", Default: "10"}},
	Pace: func(answers []string) (string, error) {
		runs, err := draft.Number("runs a heat", answers[0])
		return fmt.Sprintf(
			"{ repeat: %s, warmup: 1 } # runs a heat, one after another; from 10 on p50 can be told", runs,
		), err
	},
	Tries: true,
	Quick: func(took time.Duration) string {
		const aim, most = 350 * time.Millisecond, 200
		return fmt.Sprintf("{ repeat: %d, warmup: 1 }", min(max(int(aim/max(took, time.Microsecond)), 1), most))
	},
}
