package harbour

import (
	"strings"

	"paceduel/core/draft"
)

// questions are what people come with, each with the plan of the harbour that answers it and the lines of it to change.
var questions = []struct{ key, asks, file, lines string }{
	{"commands", "two commands: which is faster?", Packer, "run and stdin"},
	{"rewriter", "a tool that rewrites its input", "manifest-tidier.duel.yaml", "run, workspace and stores"},
	{"repeated", "first and repeated runs, cold and warm", "page-of-the-almanac.duel.yaml", "run, marks and stores"},
	{"statements", "two ways of asking a database", "statements-of-the-board.duel.yaml", "at, statement and each"},
	{"requests", "two requests to a service", BerthBoard, "url, rows and service"},
	{"answers", "full and slim answers", "vessel-register.duel.yaml", "url and headers"},
	{"pages", "a list as a whole or in pages", "register-in-pages.duel.yaml", "url and pages"},
	{"steady", "users who ask whether others wait or not", "turn-of-the-tide.duel.yaml", "url, rate and claims"},
	{"load", "how much load it holds", "how-far-it-holds.duel.yaml", "url and climb"},
	{"start", "how fast it starts, and what it holds", "tide-predictor.duel.yaml", "url, run and ready"},
	{"restart", "what a restart costs those who ask", "gauge-comes-back.duel.yaml", "url, run, ready and rate"},
	{"waiting", "who waits while something is made anew", "fresh-enough.duel.yaml", "url, headers and rate"},
	{"bystander", "who waits while something long is done", "tide-office.duel.yaml", "url, bystander and service"},
	{"effects", "when what is done is seen elsewhere", "notice-board.duel.yaml", "request, effects and service"},
	{"crash", "what a crash loses of what was promised", "position-log.duel.yaml", "url, count and service"},
	{"size", "from which size on another way is better", "board-of-arrivals.duel.yaml", "url, rows and headers"},
	{"threads", "how many writers or threads at once", "position-reports.duel.yaml", "run and writers"},
	{"functions", "two functions inside a program", "week-of-tides.duel.yaml", "run and function"},
	{"setting", "which value of a setting is best", "ship-log.duel.yaml", "run and batch"},
	{"files", "a file that is copied or sent", "chart-archive.duel.yaml", "way, from and to"},
}

// Questions are the kinds of duels that people come with. Each plan runs as it is in the folder of the demo, and says
// at its top which lines to change. It panics on a plan that is missing, which a test finds.
func Questions() (out []draft.Question) {
	for _, q := range questions {
		text, err := plans.ReadFile("plans/" + q.file)
		if err != nil {
			panic(err)
		}
		_, name, _ := strings.Cut(string(text), "\nduel: ")
		name, _, _ = strings.Cut(name, "\n")
		out = append(out, draft.Question{
			Key: q.key, Asks: q.asks, Lines: q.lines, Name: "My " + strings.ToLower(name),
			Text: "# To make it yours, change " + q.lines + ", and the names. As it is, it runs in the folder of the demo\n" +
				"# (paceduel demo), which sets HARBOUR to where its service answers and PACEDUEL to this program.\n#\n" +
				strings.Replace(string(text), "\nduel: "+name, "\nduel: My "+strings.ToLower(name), 1),
		})
	}
	return out
}
