package arch_test

import (
	"maps"
	"os/exec"
	"slices"
	"strings"
	"testing"
)

// arrows are all dependencies between packages of this module: who may know whom. One direction only, from the plan to
// the pictures; a new arrow is a decision, and is made here.
var arrows = map[string]string{
	// leaves
	"core/cell": "", "core/clock": "", "core/shares": "",
	"core/panics": "", "core/files": "", "core/guard": "", "core/keeper": "",
	"core/mask":  "",
	"core/units": "", "core/quantile": "",
	"core/draft": "", "core/spans": "", "core/judge/stats": "", "core/contender/http/servertiming": "",
	"internal/golden": "", "internal/servers": "", "internal/certificate": "",
	"harbour":     "core/draft workers/go",
	"core/figure": "core/units", "core/shots": "core/figure core/spans core/units",

	// the plan, and what carries it out
	"core/plan":                  "core/cell core/figure core/mask core/units",
	"core/rows":                  "core/files core/plan core/shots",
	"core/plan/read":             "core/figure core/files core/guard core/mask core/plan core/units",
	"core/launch":                "core/keeper core/plan",
	"core/meter":                 "core/keeper",
	"core/commits":               "core/files core/keeper core/launch",
	"core/worker":                "core/keeper core/launch core/quantile",
	"core/marks":                 "core/plan core/shots core/units",
	"core/contender":             "core/clock core/draft core/guard core/launch core/plan core/shares core/shots",
	"core/contender/conformance": "core/clock core/contender core/guard core/plan core/shots",
	"core/contender/all":         "core/contender core/draft core/plan + kinds",
	"core/contender/relay":       "core/contender/query",
	"core/tally":                 "core/quantile core/shots core/spans core/units",
	"core/traces":                "core/clock core/marks core/spans",
	"core/pace":                  "core/clock core/contender core/panics core/plan core/shares core/shots core/tally",
	"core/between":               "core/clock core/contender core/draft core/guard core/plan core/plan/read core/shots",

	// the document: nobody who measures
	"core/result": "core/cell core/figure core/files core/mask core/quantile core/shots core/spans core/units",

	// the run
	"core/bystander": "core/clock core/contender core/guard core/marks core/pace core/panics core/plan core/shots " +
		"core/tally",
	"core/footing": "core/bystander core/clock core/contender core/files core/guard core/keeper core/launch core/marks " +
		"core/meter core/plan " +
		"core/result core/shots core/traces core/units",
	"core/weighin": "core/contender core/footing core/keeper core/launch core/plan core/result core/shots core/units",
	"core/rounds": "core/bystander core/cell core/clock core/commits core/contender core/figure core/files " +
		"core/footing core/mask " +
		"core/meter " +
		"core/pace core/panics core/plan core/result core/shares core/shots core/spans core/tally " +
		"core/traces core/units core/weighin",
	"core/logbook": "core/guard core/result",

	// the run, driven from elsewhere
	"core/bus": "core/guard core/panics",
	"core/fleet": "core/bus core/cell core/clock core/commits core/contender core/files core/guard core/keeper " +
		"core/pace core/panics core/plan core/plan/read core/result core/rounds core/shares core/shots core/tally core/units",

	// what it means, and how it is shown
	"core/judge/curve": "core/judge/stats",
	"core/judge": "core/cell core/figure core/judge/curve core/judge/stats core/plan core/quantile core/result " +
		"core/shots core/spans core/units",
	"core/history":  "core/figure core/files core/judge core/logbook core/plan core/plan/read core/result core/units",
	"core/find":     "core/commits core/files core/units",
	"core/measured": "core/figure core/judge core/plan core/units",
	"core/conduct": "core/cell core/commits core/contender core/figure core/find core/history " +
		"core/judge core/logbook core/plan core/plan/read core/result core/rounds core/shots core/tally core/weighin",
	"core/chart": "core/cell core/figure core/find core/footing core/history core/judge core/judge/curve " +
		"core/judge/stats core/plan core/result core/units",
	"core/chart/paper": "core/cell core/chart core/files core/judge core/judge/curve core/plan core/result core/units",
	"core/report": "core/chart core/chart/paper core/figure core/files core/judge core/result core/shots core/tally " +
		"core/units",

	// the application
	"screen/look":  "core/chart core/units",
	"screen/parts": "core/chart core/units",
	"screen": "core/cell core/chart/paper core/footing core/history core/judge core/logbook core/meter core/pace " +
		"core/plan " +
		"core/result core/units screen/look",
	"screen/ask": "core/chart core/draft core/judge core/logbook core/plan core/plan/read core/result core/units " +
		"screen screen/parts",
	"screen/footing": "core/chart core/judge core/result core/units screen screen/parts",
	"screen/weighin": "core/chart core/judge core/result core/units core/weighin screen screen/parts",
	"screen/rounds": "core/cell core/chart core/chart/paper core/footing core/judge core/plan core/result core/units " +
		"screen " +
		"screen/parts",
	"screen/verdict": "core/cell core/chart core/chart/paper core/judge core/units screen screen/parts",
	"screen/sweep":   "core/chart core/chart/paper core/judge core/judge/curve core/units screen screen/parts",
	"screen/why":     "core/chart core/chart/paper core/judge screen screen/parts",
	"screen/log":     "core/chart core/chart/paper core/history core/logbook core/result core/units screen screen/parts",
	"screen/find":    "core/chart core/chart/paper core/find core/panics core/rounds core/units screen/look screen/parts",
	"screen/app": "core/between core/cell core/chart core/chart/paper core/commits core/conduct core/contender " +
		"core/draft " +
		"core/files core/footing core/history core/judge " +
		"core/keeper core/logbook core/meter core/pace core/panics core/plan core/plan/read core/result core/rounds " +
		"core/units core/weighin screen " +
		"screen/look " +
		"screen/parts " +
		"screen/ask screen/footing screen/weighin screen/rounds screen/verdict screen/why screen/sweep screen/log",
	"cmd/paceduel": "core/between core/bus core/cell core/chart core/chart/paper " +
		"core/commits core/conduct core/contender " +
		"core/contender/all " +
		"core/draft " +
		"core/figure core/files core/find core/fleet " +
		"core/history core/judge " +
		"core/keeper core/launch core/logbook core/measured core/meter core/plan core/plan/read " +
		"core/report core/result core/rounds core/shots core/tally core/units core/weighin core/worker harbour " +
		"screen/app screen/find",

	// for tests alone
	"internal/sample": "core/cell core/clock core/contender core/figure core/plan core/result core/shots " +
		"core/spans core/tally core/units",
	"internal/calibration": "core/figure core/judge core/judge/curve core/judge/stats core/result internal/sample",
	"internal/viewtest": "core/cell core/judge core/logbook core/pace core/plan core/plan/read core/result " +
		"internal/golden " +
		"internal/sample screen screen/look screen/parts",
}

// kindMay is what a kind of contender may know besides its own folder.
const kindMay = "core/clock core/contender core/draft core/files core/guard core/keeper core/launch core/marks " +
	"core/meter core/panics core/plan core/rows core/shares core/shots core/spans core/units core/figure core/worker"

const module = "paceduel/"

func TestArrowsBetweenPackages(t *testing.T) {
	seen := map[string][]string{}
	for name, imports := range importsOf(t, module+"...") {
		for _, imported := range imports {
			if own, ok := strings.CutPrefix(imported, module); ok {
				seen[name] = append(seen[name], own)
			}
		}
		if _, ok := seen[name]; !ok {
			seen[name] = nil
		}
	}
	for _, name := range slices.Sorted(maps.Keys(seen)) {
		allowed, listed := arrows[name]
		kind := kindOf(name)
		if !listed && kind == "" {
			if len(seen[name]) > 0 {
				t.Errorf("package %s has no arrows listed; it knows %s", name, seen[name])
			}
			continue
		}
		for _, imported := range seen[name] {
			switch {
			case slices.Contains(strings.Fields(allowed), imported):
			case kind != "" && slices.Contains(strings.Fields(kindMay), imported):
			case kind != "" && (imported == kind || strings.HasPrefix(imported, kind+"/")):
			case strings.HasSuffix(allowed, "+ kinds") && kindOf(imported) == imported:
			default:
				t.Errorf("%s may not know %s", name, imported)
			}
		}
		for _, arrow := range strings.Fields(strings.TrimSuffix(allowed, "+ kinds")) {
			if !slices.Contains(seen[name], arrow) {
				t.Errorf("%s does not know %s any more; take the arrow out", name, arrow)
			}
		}
	}
	for name := range arrows {
		if _, ok := seen[name]; !ok {
			t.Errorf("there is no package %s any more", name)
		}
	}
}

// kindOf is the folder of the kind of contender that a package belongs to; empty for others.
func kindOf(name string) string {
	rest, ok := strings.CutPrefix(name, "core/contender/")
	if folder, _, _ := strings.Cut(rest, "/"); ok && folder != "all" && folder != "conformance" {
		return "core/contender/" + folder
	}
	return ""
}

// importsOf lists what packages import, tests left out, by the packages' names in this module.
func importsOf(t *testing.T, pattern string) map[string][]string {
	t.Helper()
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}}{{range .Imports}} {{.}}{{end}}`, pattern).Output()
	if err != nil {
		t.Fatalf("go list: %v", err)
	}
	all := map[string][]string{}
	for line := range strings.Lines(string(out)) {
		names := strings.Fields(line)
		all[strings.TrimPrefix(names[0], module)] = names[1:]
	}
	if len(all) < 30 {
		t.Fatalf("go list names only %d packages", len(all))
	}
	return all
}
