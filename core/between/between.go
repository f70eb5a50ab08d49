// Package between makes a plan out of bare command lines or URLs, for when there is no time to write one.
//
// Kind and pace are inferred, as the kinds themselves say (draft.Kind): what starts with http:// or https:// is asked,
// anything else is run; one trial run of each command tells how many fit into a heat. What comes out is the text of an
// ordinary plan, so that it can be kept and refined. Running the duel is left to others.
package between

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/draft"
	"paceduel/core/guard"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/core/shots"
)

// FileName is what the plan is called as long as it is not kept.
const FileName = "between" + plan.Suffix

// trialLimit is how long all contenders together are tried; who needs longer is run once a heat.
const trialLimit = 5 * time.Second

// one is a contender as it is written into the plan.
type one struct {
	name     string
	settings string // the YAML of its kind's settings
	from     string // the YAML of the commit that it is built from; empty: none
}

// Wishes are what is said besides the contenders. The zero value leaves all to us.
type Wishes struct {
	Allow    []string // hosts other than this machine that may be asked
	Rounds   int
	Clients  int    // at once; without any of the two, the kind's own pace
	For      string // how long a heat lasts
	Timeout  string // of a shot
	Stdin    string // the file that every contender reads
	Insecure bool   // whether any certificate is taken
	Expect   int    // the exit code or status of a good shot; 0: not said
	Same     string // how answers are compared: the word of the plan's same.body
	// Git are revisions: the one line that is given then is run as each of them has it, built with Build. Tree builds a
	// revision and tells where, so that it can be tried.
	Git     []string
	Names   []string // of the contenders then; none: they are called by their revisions
	Build   string
	Tree    func(ctx context.Context, revision string) (dir string, err error)
	Imports bool // whether lines that were made for something else, as for curl, stand for what they ask
}

// course is what all contenders share, in YAML.
func (w *Wishes) course(kind string) string {
	var keys []string
	for _, k := range []struct{ key, value string }{{"timeout", w.Timeout}, {"stdin", w.Stdin}} {
		if k.value != "" {
			keys = append(keys, k.key+": "+draft.Quote(k.value))
		}
	}
	if w.Expect != 0 {
		keys = append(keys, fmt.Sprintf("expect: %d", w.Expect))
	}
	if w.Insecure {
		keys = append(keys, "tls: { insecure: true }")
	}
	if len(keys) == 0 {
		return ""
	}
	return fmt.Sprintf("course: { %s: { %s } }\n", kind, strings.Join(keys, ", "))
}

// pace is the pace that is wished for, or else what the kind suggests.
func (w *Wishes) pace(suggested string) string {
	if w.Clients == 0 && w.For == "" {
		return suggested
	}
	return fmt.Sprintf("{ clients: %d, for: %s, warmup: 200ms }", max(w.Clients, 1), draft.Quote(cmp.Or(w.For, "1s")))
}

// Plan infers a plan from two to eight command lines or URLs, the first being the baseline, and reads it. Those whose
// kind wants it are tried once each, in dir. The trial's failure is no error: the weigh-in will name it.
func Plan(
	ctx context.Context, dir string, given []string, wish Wishes, kinds []contender.Kind,
	lookup func(string) (string, bool),
) (*plan.Plan, error) {
	if len(wish.Git) > 0 {
		return ofCommits(ctx, dir, given, wish, kinds, lookup)
	}
	if len(given) < plan.MinContenders || len(given) > plan.MaxContenders {
		return nil, fmt.Errorf(
			"between: a duel needs %d to %d contenders, %d were given; put each command line in quotes", plan.MinContenders,
			plan.MaxContenders, len(given),
		)
	}
	for _, g := range given {
		if !utf8.ValidString(g) {
			return nil, fmt.Errorf(
				"between: %q is not text in UTF-8, which a plan cannot hold; put what it does into a script", g,
			)
		}
		if strings.TrimSpace(g) == "" {
			return nil, errors.New("between: one of the contenders is empty")
		}
	}
	imported, err := imports(given, wish, kinds)
	if err != nil {
		return nil, err
	}
	name, kind, err := kindOf(given, imported, kinds)
	if err != nil {
		return nil, err
	}
	list, err := contenders(given, imported, kind)
	if err != nil {
		return nil, err
	}
	return paced(ctx, dir, list, wish, name, kind, kinds, lookup)
}

// paced reads the plan of contenders with a pace that fits them, for which they are tried where their kind wants it.
func paced(
	ctx context.Context, dir string, list []one, wish Wishes, name string, kind *draft.Kind, kinds []contender.Kind,
	lookup func(string) (string, bool),
) (*plan.Plan, error) {
	read := func(pace string) (*plan.Plan, error) {
		p, err := readPlan(dir, list, wish, wish.course(name), pace, kinds, lookup)
		if p != nil {
			p.Options = options
		}
		return p, unplaced(err)
	}
	if !kind.Tries || wish.pace("") != "" {
		return read(wish.pace(kind.Quick(0)))
	}
	trial, err := read("{ repeat: 1, warmup: 0 }")
	if err != nil {
		return nil, err
	}
	trees := map[string]string{}
	for i := range trial.Contenders {
		c := &trial.Contenders[i]
		if c.Ground.From == nil {
			continue
		}
		if trees[c.Name], err = wish.Tree(ctx, c.Ground.From.Git); err != nil {
			return nil, fmt.Errorf("between: %s: %w", c.Name, err)
		}
	}
	return read(kind.Quick(longest(ctx, trial, trees, kinds)))
}

// ofCommits is the plan of one line as several revisions have it, the first being the baseline.
func ofCommits(
	ctx context.Context, dir string, given []string, wish Wishes, kinds []contender.Kind,
	lookup func(string) (string, bool),
) (*plan.Plan, error) {
	if n := len(wish.Git); n < plan.MinContenders || n > plan.MaxContenders {
		return nil, fmt.Errorf("between: a duel needs %d to %d revisions, %d were given with --git", plan.MinContenders,
			plan.MaxContenders, n)
	}
	line := given[0]
	if len(given) > 1 { // as the shell has taken it apart
		words := make([]string, len(given))
		for i, w := range given {
			words[i] = quoted(w)
		}
		line = strings.Join(words, " ")
	}
	name, kind, err := kindOf([]string{line}, nil, kinds)
	if err != nil {
		return nil, err
	}
	settings, err := kind.Settings(line)
	if err != nil {
		return nil, fmt.Errorf("between: %w", err)
	}
	var list []one
	var taken []string
	for i, revision := range wish.Git {
		next := one{name: draft.Free(cut(revision, draft.MaxName-4), taken), settings: settings}
		if i < len(wish.Names) {
			next.name = wish.Names[i]
		}
		next.from = "{ git: " + draft.Quote(revision)
		if wish.Build != "" {
			next.from += ", build: " + draft.Quote(wish.Build)
		}
		next.from += " }"
		taken, list = append(taken, next.name), append(list, next)
	}
	return paced(ctx, dir, list, wish, name, kind, kinds, lookup)
}

// cut is the end of a text that is too long: of a branch, what sets it apart.
func cut(text string, most int) string {
	if r := []rune(text); len(r) > most {
		return "…" + string(r[len(r)-most+1:])
	}
	return text
}

// quoted is a word as a shell takes it.
func quoted(word string) string {
	plain := func(r rune) bool {
		return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("-_./:=+,@%", r)
	}
	if word != "" && strings.IndexFunc(word, func(r rune) bool { return !plain(r) }) < 0 {
		return word
	}
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}

// options says what a plan's keys are called on the command line.
var options = strings.NewReplacer(
	"set expect: to", "give with --expect", "raise timeout: in the plan", "give a longer --timeout",
	"correct host and port in the plan", "correct host and port", "name and folder in the plan", "name and folder",
	"with tls: { insecure: true }", "with --insecure",
)

// importer is the kind that a line was made for something else for, and what it makes of it.
type importer struct {
	kind *draft.Kind
	got  draft.Imported
}

// imports are those of the texts that are to be imported, by their place.
func imports(given []string, wish Wishes, kinds []contender.Kind) (map[int]importer, error) {
	out := map[int]importer{}
	for i, text := range given {
		if !wish.Imports || !draft.IsImported(text) {
			continue
		}
		var last error
		for _, k := range kinds {
			if k.Draft == nil || k.Draft.Import == nil {
				continue
			}
			got, err := k.Draft.Import(text)
			if last = err; err == nil {
				out[i] = importer{k.Draft, got}
				break
			}
		}
		if last != nil {
			return nil, fmt.Errorf("between: %w", last)
		}
	}
	return out, nil
}

// contenders are the texts as contenders, each with a name of its own.
func contenders(given []string, imported map[int]importer, kind *draft.Kind) ([]one, error) {
	var plain []string
	for i, text := range given {
		if _, ok := imported[i]; !ok {
			plain = append(plain, text)
		}
	}
	var names []string
	if len(plain) > 0 {
		var err error
		if names, err = kind.Names(plain); err != nil {
			return nil, fmt.Errorf("between: %w", err)
		}
	}
	var list []one
	var taken []string
	for i, text := range given {
		next := one{}
		if got, ok := imported[i]; ok {
			next = one{name: draft.Free(got.got.Name, taken), settings: got.got.Settings}
		} else {
			settings, err := kind.Settings(text)
			if err != nil {
				return nil, fmt.Errorf("between: %w", err)
			}
			next, names = one{name: draft.Free(names[0], taken), settings: settings}, names[1:]
		}
		taken, list = append(taken, next.name), append(list, next)
	}
	return list, nil
}

// unplaced are the faults of a plan that nobody has written, without places in it.
func unplaced(err error) error {
	var problems read.Problems
	if !errors.As(err, &problems) {
		return err
	}
	var all []error
	for _, p := range problems {
		try := p.Try
		if host, ok := strings.CutPrefix(try, guard.TryLine); ok {
			try = guard.TryWords + "give --allow " + strings.Trim(host, "[]")
		}
		text := p.What
		if who, what, ok := strings.Cut(text, ": "); ok && strings.HasPrefix(what, who+" ") {
			text = what // a contender that is called by its address
		}
		if try != "" {
			text += "; " + try
		}
		all = append(all, fmt.Errorf("between: %s", text))
	}
	return errors.Join(all...)
}

// kindOf finds the one kind that all texts are for, and its name.
func kindOf(given []string, imported map[int]importer, kinds []contender.Kind) (
	name string, found *draft.Kind, err error,
) {
	for at, text := range given {
		var own *draft.Kind
		for i := range kinds {
			k := kinds[i].Draft
			if by, ok := imported[at]; ok {
				if k == by.kind {
					own, name = k, kinds[i].Name
				}
			} else if k != nil && (k.Claims == nil && own == nil || k.Claims != nil && k.Claims(text)) {
				own, name = k, kinds[i].Name
			}
		}
		switch {
		case own == nil:
			return "", nil, fmt.Errorf("between: it is not clear what %q is", text)
		case found != nil && own != found:
			return "", nil, fmt.Errorf(
				"between: %s cannot be compared with %s; give only %s or only %s", found.One, own.One, found.Plural, own.Plural,
			)
		}
		found = own
	}
	return name, found, nil
}

// quick is the length of a run under which a trial is made twice: what is read from the disk for the first time is no
// measure of the runs to come.
const quick = 100 * time.Millisecond

// longest tries every contender and returns the longest time; a run that was cut counts with the time it had.
func longest(
	ctx context.Context, p *plan.Plan, trees map[string]string, kinds []contender.Kind,
) (most time.Duration) {
	ctx, cancel := context.WithTimeout(ctx, trialLimit)
	defer cancel()
	clk := clock.Start()
	entries := contender.OpenAll(p, kinds, func(name string) contender.Setup {
		return contender.Setup{Dir: p.Dir, Tree: trees[name], Clock: clk, Guard: guard.New(p.Allow)}
	})
	defer contender.CloseAll(entries)
	for _, e := range entries {
		if e.Err != nil {
			continue
		}
		c := e.Driver.Client(0, 1)
		var shot shots.Shot
		c.Shoot(ctx, &shot)
		took := shot.Latency()
		if shot.Class == shots.OK && took < quick {
			again := shots.Shot{}
			if c.Shoot(ctx, &again); again.Class == shots.OK {
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

// title names a duel by its first two, since eight names fit no line.
func title(names []string) string {
	text := names[0] + " against " + names[1]
	if more := len(names) - 2; more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}

func readPlan(
	dir string, list []one, wish Wishes, course, pace string, kinds []contender.Kind, lookup func(string) (string, bool),
) (*plan.Plan, error) {
	var names []string
	for _, o := range list {
		names = append(names, o.name)
	}
	var text strings.Builder
	fmt.Fprintf(&text, "# Made from %d lines given to paceduel between; refine it as you like.\n", len(list))
	fmt.Fprintf(
		&text, "duel: %s\nbaseline: %s\n%s\ncontenders:\n", draft.Quote(title(names)), draft.Quote(list[0].name), course,
	)
	for _, o := range list {
		fmt.Fprintf(&text, "  %s:\n    %s\n", draft.Quote(o.name), o.settings)
		if o.from != "" {
			fmt.Fprintf(&text, "    from: %s\n", o.from)
		}
	}
	fmt.Fprintf(&text, "\npace: %s\nrounds: %d\n", pace, cmp.Or(wish.Rounds, plan.RoundsFor(len(list)-1)))
	if wish.Same != "" {
		fmt.Fprintf(&text, "same: { body: %s }\n", draft.Quote(wish.Same))
	}
	if len(wish.Allow) > 0 {
		text.WriteString("allow:\n")
	}
	for _, host := range wish.Allow {
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
	return read.Plan(file, []byte(text.String()), read.Options{Kinds: planKinds, Lookup: lookup})
}
