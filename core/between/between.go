// Package between makes a plan out of bare command lines or URLs, for when there is no time to write one.
//
// Kind and pace are inferred: what starts with http:// or https:// is asked, anything else is run; one trial run of each
// command tells how many fit into a heat. What comes out is the text of an ordinary plan, so that it can be kept and
// refined. Running the duel is left to others.
package between

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"time"
	"unicode/utf8"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/draft"
	"paceduel/core/guard"
	"paceduel/core/plan"
)

// FileName is what the plan is called as long as it is not kept.
const FileName = "between" + plan.Suffix

// Pace of what is inferred.
const (
	heatAim     = 350 * time.Millisecond // of runs in a heat
	maxRepeat   = 200                    // of a program that does next to nothing: then nine tenths of a quick comparison are spent measuring
	percentileN = 10                     // runs in a heat from which p50 can be told
	urlClients  = 4
	trialLimit  = 5 * time.Second // for all together; who needs longer is run once a heat
)

// one is a contender as it is written into the plan.
type one struct {
	name     string
	settings string // the YAML of its kind's settings
}

// Plan infers a plan from two to eight command lines or URLs, the first being the baseline, and reads it. Commands are
// run once each, in dir; allow lists hosts other than this machine that may be asked. The trial's failure is no error:
// the weigh-in will name it.
func Plan(ctx context.Context, dir string, given, allow []string, kinds []contender.Kind, lookup func(string) (string, bool)) (*plan.Plan, error) {
	if len(given) < plan.MinContenders || len(given) > plan.MaxContenders {
		return nil, fmt.Errorf("between: a duel needs %d to %d contenders, %d were given; put each command line in quotes", plan.MinContenders, plan.MaxContenders, len(given))
	}
	urls := 0
	for _, g := range given {
		if isURL(g) {
			urls++
		}
		if !utf8.ValidString(g) {
			return nil, fmt.Errorf("between: %q is not text in UTF-8, which a plan cannot hold; put the command into a script", g)
		}
		if strings.TrimSpace(g) == "" {
			return nil, errors.New("between: one of the contenders is empty")
		}
	}
	switch urls {
	case 0:
		return commands(ctx, dir, given, kinds, lookup)
	case len(given):
		return requests(dir, given, allow, kinds, lookup)
	}
	return nil, errors.New("between: a command cannot be compared with a URL; give only commands or only URLs")
}

func isURL(s string) bool { return strings.HasPrefix(s, "http://") || strings.HasPrefix(s, "https://") }

func commands(ctx context.Context, dir string, given []string, kinds []contender.Kind, lookup func(string) (string, bool)) (*plan.Plan, error) {
	list := make([]one, len(given))
	for i, name := range commandNames(given) {
		settings, err := draft.Command(given[i])
		if err != nil {
			return nil, fmt.Errorf("between: %w", err)
		}
		list[i] = one{name, settings}
	}
	read := func(pace string) (*plan.Plan, error) { return readPlan(dir, list, nil, pace, kinds, lookup) }
	trial, err := read("{ repeat: 1, warmup: 0 }")
	if err != nil {
		return nil, err
	}
	n := repeats(longest(ctx, trial, kinds))
	return read(fmt.Sprintf("{ repeat: %d, warmup: 1 }", n))
}

// quick is the length of a run under which a trial is made twice: what is read from the disk for the first time is no measure
// of the runs to come.
const quick = 100 * time.Millisecond

// longest tries every contender and returns the longest time; a run that was cut counts with the time it had.
func longest(ctx context.Context, p *plan.Plan, kinds []contender.Kind) (most time.Duration) {
	ctx, cancel := context.WithTimeout(ctx, trialLimit)
	defer cancel()
	clk := clock.Start()
	entries := contender.OpenAll(p, kinds, func(string) contender.Setup {
		return contender.Setup{Dir: p.Dir, Clock: clk, Guard: guard.New(p.Allow)}
	})
	defer contender.CloseAll(entries)
	for _, e := range entries {
		if e.Err != nil {
			continue
		}
		c := e.Driver.Client(0, 1)
		var shot contender.Shot
		c.Shoot(ctx, &shot)
		took := shot.Latency()
		if shot.Class == contender.OK && took < quick {
			again := contender.Shot{}
			if c.Shoot(ctx, &again); again.Class == contender.OK {
				took = min(took, again.Latency())
			}
		}
		c.Close()
		if !shot.Class.Failed() {
			most = max(most, took)
		}
	}
	return most
}

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

func requests(dir string, given, allow []string, kinds []contender.Kind, lookup func(string) (string, bool)) (*plan.Plan, error) {
	urls := make([]*url.URL, len(given))
	for i, g := range given {
		u, err := url.Parse(g)
		if err != nil {
			return nil, fmt.Errorf("between: %w", err)
		}
		urls[i] = u
	}
	list := make([]one, len(given))
	for i, name := range urlNames(urls) {
		list[i] = one{name, "http: { url: " + draft.Quote(given[i]) + " }"}
	}
	return readPlan(dir, list, allow, fmt.Sprintf("{ clients: %d, for: 500ms, warmup: 200ms }", urlClients), kinds, lookup)
}

// title names a duel by its first two, since eight names fit no line.
func title(names []string) string {
	text := names[0] + " against " + names[1]
	if more := len(names) - 2; more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}

func readPlan(dir string, list []one, allow []string, pace string, kinds []contender.Kind, lookup func(string) (string, bool)) (*plan.Plan, error) {
	var names []string
	for _, o := range list {
		names = append(names, o.name)
	}
	var text strings.Builder
	fmt.Fprintf(&text, "# Made from %d lines given to paceduel between; refine it as you like.\n", len(list))
	fmt.Fprintf(&text, "duel: %s\nbaseline: %s\n\ncontenders:\n", draft.Quote(title(names)), draft.Quote(list[0].name))
	for _, o := range list {
		fmt.Fprintf(&text, "  %s:\n    %s\n", draft.Quote(o.name), o.settings)
	}
	fmt.Fprintf(&text, "\npace: %s\nrounds: %d\n", pace, plan.RoundsFor(len(list)-1))
	if len(allow) > 0 {
		text.WriteString("allow:\n")
	}
	for _, host := range allow {
		text.WriteString("  - " + draft.Quote(host) + "\n")
	}
	var planKinds []plan.Kind
	for _, k := range kinds {
		planKinds = append(planKinds, k.Kind)
	}
	file := FileName
	if dir != "" && dir != "." {
		file = dir + "/" + FileName
	}
	return plan.Read(file, []byte(text.String()), plan.Options{Kinds: planKinds, Lookup: lookup})
}
