package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"paceduel/core/between"
	"paceduel/core/commits"
	"paceduel/core/conduct"
	"paceduel/core/contender/all"
	"paceduel/core/figure"
	"paceduel/core/files"
	"paceduel/core/find"
	"paceduel/core/logbook"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/core/rounds"
	"paceduel/core/units"
	screenfind "paceduel/screen/find"
)

// hunting is what is said of a search on the command line.
type hunting struct {
	git, build, plan, contender, figure, claim string
	worse, mayErr                              plan.Fraction
	rounds, looks                              int
	anew, headless                             bool
	sets                                       []string
}

func (s *settings) findCommand() *cobra.Command {
	var h hunting
	worse, mayErr := "", "5%"
	c := &cobra.Command{
		Use:   "find --git GOOD..BAD [--build LINE] -- TOOL [ARG...]",
		Short: "find the commit that made something worse, or a claim fail, in as few looks as it takes",
		Long: `Finds the commit that made a command line slower, or a plan's claim fail. Each look builds one commit and
runs it for a few rounds; where to look next, and when the answer is sure enough, is reasoned from all looks so far,
since each of them may be wrong. Commits that do not build are passed over. An interrupted search goes on where it was
when it is started again.`,
		Example: `  paceduel find --git v1.4..HEAD --build make -- ./tool manifest.txt
  paceduel find --git v1.4..HEAD --build make --worse 10% --figure memory -- ./tool manifest.txt
  paceduel find --git v1.4..HEAD --plan board.duel.yaml --contender joined --claim 'joined p95 under 20ms'`,
		RunE: func(cmd *cobra.Command, args []string) error {
			for _, f := range []struct {
				name, text string
				into       *plan.Fraction
			}{{"worse", worse, &h.worse}, {"error", mayErr, &h.mayErr}} {
				if f.text == "" {
					continue
				}
				if err := f.into.Read(f.text); err != nil || *f.into <= 0 || *f.into >= 1 {
					return usageError{fmt.Errorf("--%s %s is no share; write it as 5%%", f.name, f.text)}
				}
			}
			return s.findIt(cmd.Context(), args, &h)
		},
	}
	f := c.Flags()
	f.StringVar(&h.git, "git", "", "the line of commits: after the good one, up to the bad one, as `GOOD..BAD`")
	f.StringVar(&h.build, "build", "", "the shell `LINE` that builds a commit, in a clean copy of it")
	f.StringVar(&h.plan, "plan", "", "look with this `PLAN` instead of a command line")
	f.StringVar(&h.contender, "contender", "", "the `NAME` of the plan's contender that is built from each commit")
	f.StringVar(&h.figure, "figure", "", "the `FIGURE` that got worse (default: the one that a duel is looked at by)")
	f.StringVar(&h.claim, "claim", "", "a `CLAIM` about the plan's contenders that held at the good commit and "+
		"fails at the bad one")
	f.StringVar(
		&worse, "worse", "",
		"by how much more than at the good commit it has to be worse, a `SHARE` (default: the plan's interest, or 5% of a "+
			"command line)",
	)
	f.StringVar(&mayErr, "error", mayErr, "how likely the answer may be wrong, a `SHARE`")
	f.IntVar(&h.rounds, "rounds", 5, "of each look")
	f.IntVar(&h.looks, "looks", 15, "how many at most, those of an earlier sitting included")
	f.BoolVar(&h.headless, "headless", false, "without a screen")
	f.BoolVar(&h.anew, "anew", false, "forget what an earlier sitting found")
	f.StringArrayVar(&h.sets, "set", nil, "lay `KEY=VALUE` over the plan; may be repeated")
	return c
}

func (s *settings) findIt(ctx context.Context, args []string, h *hunting) error {
	hunt, looker, err := s.openHunt(ctx, args, h)
	if err != nil {
		return err
	}
	q := &hunt.Question
	fmt.Fprintf(s.words.err, "%s from %s (%s) to %s (%s)\n", units.Plural(len(hunt.Commits), "commit"),
		hunt.First.Short(),
		hunt.First.Subject, hunt.At(len(hunt.Commits)-1).Short(), hunt.At(len(hunt.Commits)-1).Subject)
	if n := len(hunt.Looks); n > 0 {
		fmt.Fprintf(s.words.err, "going on after %s of an earlier sitting; --anew forgets them\n", units.Plural(n, "look"))
	}
	look := func(ctx context.Context, c commits.Commit) (find.Seen, error) { return looker.Look(ctx, q, c) }
	began := time.Now()
	var st *find.State
	if !h.headless && s.words.out.isTerminal() && isTerminal(os.Stdin) {
		err = screenfind.Run(ctx, screenfind.Config{
			Title: h.title(args) + ", " + filepath.Base(q.Top), Most: h.looks, Plain: s.plain(), Save: ".",
			Search: func(ctx context.Context, watch func(find.Event), events func(rounds.Event)) (err error) {
				looker.Events = events
				st, err = hunt.Run(ctx, h.looks, look, watch)
				return err
			},
		})
	} else {
		st, err = hunt.Run(ctx, h.looks, look, s.huntTeller(hunt))
	}
	if st == nil {
		return err
	}
	out := s.words.out.printer()
	out.gap()
	out.say(hunt.Say(st, true))
	out.hunt(hunt, st)
	if errors.Is(err, context.Canceled) {
		fmt.Fprintf(s.words.err, "paceduel: interrupted; %s kept, and gone on with when it is started again\n",
			units.Plural(len(hunt.Looks), "look"))
		return quietError{err}
	}
	if err != nil {
		return err
	}
	fmt.Fprintf(s.words.err, "%s, %s\n", units.Plural(len(hunt.Looks), "look"), units.Duration(time.Since(began)))
	if st.Answer < 0 { // it is not known, or there is none
		return quietError{errors.New("no commit was found")}
	}
	return nil
}

// title says what is looked with.
func (h *hunting) title(args []string) string {
	if h.plan != "" {
		return h.contender + " of " + filepath.Base(h.plan)
	}
	return strings.Join(args, " ")
}

// openHunt puts together what is looked for, and how.
func (s *settings) openHunt(ctx context.Context, args []string, h *hunting) (*find.Hunt, *conduct.Looker, error) {
	bad := func(format string, args ...any) (*find.Hunt, *conduct.Looker, error) {
		return nil, nil, usageError{fmt.Errorf(format, args...)}
	}
	good, last, ok := strings.Cut(h.git, "..")
	switch {
	case !ok || good == "" || last == "":
		return bad("say between which commits to look: --git GOOD..BAD")
	case h.rounds < 3 || h.rounds > plan.MaxRounds:
		return bad("--rounds %d: a look takes 3 to %d rounds", h.rounds, plan.MaxRounds)
	case h.claim != "" && h.rounds < 5:
		return bad("--rounds %d: a claim takes 5 rounds or more", h.rounds)
	case (h.plan == "") == (len(args) == 0):
		return bad("say what to run: a command line after --, or --plan PLAN")
	case h.plan == "" && (h.claim != "" || h.contender != "" || len(h.sets) > 0):
		return bad("--claim, --contender and --set go with --plan")
	case h.plan != "" && h.contender == "":
		return bad("say which contender of the plan is built from each commit: --contender NAME")
	}
	dir := "."
	if h.plan != "" {
		dir = filepath.Dir(h.plan)
	}
	repo, err := commits.Open(ctx, dir)
	if err != nil {
		return nil, nil, usageError{err}
	}
	first, err1 := repo.Resolve(ctx, good)
	end, err2 := repo.Resolve(ctx, last)
	if err := errors.Join(err1, err2); err != nil {
		return nil, nil, usageError{err}
	}
	list, err := repo.Between(ctx, first, end)
	if err != nil {
		return nil, nil, usageError{err}
	}
	if dirty, err := repo.Dirty(ctx); err == nil && dirty {
		fmt.Fprintln(s.words.err,
			"paceduel: the worktree has changes that are in no commit; they are left as they are, and not "+
				"looked at")
	}
	q := find.Question{
		Top: repo.Top(), Good: first.Hash, Bad: end.Hash, Claim: h.claim, Worse: float64(h.worse),
		Rounds: h.rounds, Error: float64(h.mayErr),
	}
	looker := &conduct.Looker{
		Spec:    conduct.Spec{Kinds: all.Kinds(), Program: version, Glance: -1, Builds: s.builds()},
		Options: s.planOptions(),
	}
	if h.plan != "" {
		err = s.planHunt(h, &q, looker)
	} else {
		err = s.lineHunt(ctx, args, h, &q, looker)
	}
	if err != nil {
		return nil, nil, err
	}
	hunt, err := find.Open(s.hunts(), q, first, list, h.anew)
	if err != nil {
		return nil, nil, usageError{err}
	}
	return hunt, looker, nil
}

// hunts is the folder in which searches are kept; empty where there is none.
func (s *settings) hunts() string {
	path, err := logbook.DefaultPath(s.env)
	if err != nil {
		return ""
	}
	return filepath.Join(filepath.Dir(path), "finds")
}

// What the two contenders of a search without a plan are called.
const (
	goodName   = "good"
	commitName = "commit"
)

// lineHunt makes the plan of a search with a command line: the line as the good commit has it, and as each other one.
func (s *settings) lineHunt(
	ctx context.Context, args []string, h *hunting, q *find.Question, l *conduct.Looker,
) error {
	wish := between.Wishes{Git: []string{q.Good, q.Bad}, Names: []string{goodName, commitName}, Build: h.build}
	wish.Tree = func(ctx context.Context, _ string) (string, error) { // the bad one may not even be built
		return s.buildOf(ctx, ".", q.Good, h.build)
	}
	fmt.Fprintln(s.words.err, "finding the pace …")
	p, err := between.Plan(ctx, ".", args, wish, all.Kinds(), s.env)
	if failed := (*commits.BuildError)(nil); errors.As(err, &failed) {
		return fmt.Errorf("the good commit cannot be looked at: %w", err)
	}
	if err != nil {
		return usageError{err}
	}
	q.Plan, q.Contender, q.Against, q.Anchored = p.Source, commitName, goodName, true
	l.File = between.FileName
	h.decides(l)
	if p, err = l.Plan(q, commits.Commit{Hash: q.Bad}); err != nil {
		return err
	}
	return s.checkHunt(h, q, p)
}

// planHunt makes it with a plan of the user's.
func (s *settings) planHunt(h *hunting, q *find.Question, l *conduct.Looker) error {
	text, err := files.Read(h.plan, read.MaxBytes)
	if err != nil {
		return usageError{fmt.Errorf("read plan: %w", err)}
	}
	l.File, l.Options.Sets = h.plan, slices.Clone(h.sets)
	h.decides(l)
	whole, err := read.Plan(h.plan, text, l.Options)
	if err != nil {
		return err
	}
	if q.Against = whole.Baseline; q.Against == h.contender && q.Claim == "" {
		return usageError{fmt.Errorf("%s is the plan's baseline, which is held to nobody; name another contender, or a "+
			"--claim",
			h.contender)}
	}
	if h.build != "" {
		l.Options.Sets = append(l.Options.Sets, fmt.Sprintf("contenders.%s.from.build=%q", h.contender, h.build))
	}
	q.Plan, q.Contender = string(text), h.contender
	p, err := l.Plan(q, commits.Commit{Hash: q.Bad})
	if err != nil {
		return err
	}
	if len(l.Options.Sets) > 0 { // they are part of the question
		q.Plan += "\n# with " + strings.Join(l.Options.Sets, ", ") + "\n"
	}
	return s.checkHunt(h, q, p)
}

// decides has the figure that is looked for be the one that decides, so that it is read as a plan's is.
func (h *hunting) decides(l *conduct.Looker) {
	if h.figure != "" {
		l.Options.Sets = append(l.Options.Sets, "decides="+h.figure)
	}
}

// checkHunt finds fault with a search before anything is run, and names its figure.
func (s *settings) checkHunt(h *hunting, q *find.Question, p *plan.Plan) error {
	if p.Sweep != nil {
		return usageError{errors.New("a plan with a sweep cannot be searched with; leave sweep: out")}
	}
	if h.claim != "" {
		q.Worse = 0
		return nil
	}
	if q.Figure = string(figure.Mean); p.Decides != "" {
		q.Figure = string(p.Decides)
	}
	if own, ok := p.Interests[figure.Name(q.Figure)]; q.Worse == 0 && h.plan != "" && ok {
		q.Worse = float64(own)
	} else if q.Worse == 0 && h.plan != "" {
		q.Worse = float64(p.Interest)
	}
	if q.Worse == 0 {
		q.Worse = lineWorse
	}
	return nil
}

// lineWorse is by how much worse a command line has to be that has no plan with an interest of its own.
const lineWorse = 0.05

// huntTeller tells what the look before found, and what is looked at next.
func (s *settings) huntTeller(h *find.Hunt) func(find.Event) {
	broken, looks := len(h.Broken), len(h.Looks) // that were told, those of an earlier sitting then
	return func(e find.Event) {
		for _, b := range e.Hunt.Broken[broken:] {
			fmt.Fprintf(s.words.err, "  it cannot be looked at: %s\n", b.Why)
		}
		for _, l := range e.Hunt.Looks[looks:] {
			fmt.Fprintf(s.words.err, "  %s in %s\n", e.Hunt.Found(l.Diffs), units.Duration(l.Took))
		}
		broken, looks = len(e.Hunt.Broken), len(e.Hunt.Looks)
		if !e.Busy {
			return
		}
		fmt.Fprintf(s.words.err, "look %d at %s (%s); %s\n", looks+1, e.Hunt.At(e.Looking).Short(),
			e.Hunt.At(e.Looking).Subject, e.Hunt.InShort(e.State))
	}
}

// hunt writes the commits that are known to matter, and all looks.
func (p printer) hunt(h *find.Hunt, st *find.State) {
	rows := [][]string{{"commit", h.Measure(), "is the first", "looks", ""}}
	for i := range h.Commits {
		row := h.Row(st, i)
		if row.Looks == 0 && row.Share < 0.005 && row.Broken == "" {
			continue
		}
		rows = append(rows, []string{
			row.Short, row.Level, units.Share(row.Share), fmt.Sprint(row.Looks),
			short(row.Subject+row.Broken, 60),
		})
	}
	text, _ := table(rows)
	p.gap()
	fmt.Fprint(p.out, text)
}
