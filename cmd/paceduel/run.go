package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"paceduel/core/between"
	"paceduel/core/commits"
	"paceduel/core/conduct"
	"paceduel/core/contender/all"
	"paceduel/core/files"
	"paceduel/core/logbook"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/core/report"
	"paceduel/core/result"
	"paceduel/core/rounds"
	"paceduel/core/units"
	"paceduel/core/weighin"
)

func (s *settings) runCommand() *cobra.Command {
	var run runOptions
	var rounds, goodFor string
	opt := s.planOptions()
	c := &cobra.Command{
		Use:   "run PLAN...",
		Short: "run duels without a screen and print their verdicts",
		Args:  cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if rounds != "" {
				opt.Sets = append(opt.Sets, "rounds="+rounds)
			}
			var err error
			if run.held.goodFor, err = readAge(goodFor); err != nil {
				return err
			}
			if goodFor != "" && run.held.to == "" {
				return usageError{errors.New("--good-for says how old the run may be that --held-to names; give that, too")}
			}
			return s.runFiles(cmd.Context(), args, opt, run)
		},
	}
	f := c.Flags()
	f.StringVar(&run.out, "json", "", "write the result to `OUT`; - for standard output, a folder for several plans")
	f.StringVar(
		&run.shots, "shots", "",
		"write shots one by one to `FILE`, a new one, as CSV: up to 200 000 a heat, of more a uniform sample",
	)
	f.StringVar(
		&run.ci, "ci", "",
		"write what came of the claims to files in `DIR`: JUnit XML, TAP, notes to lines of plans (SARIF), and a summary in "+
			"Markdown for a pull request",
	)
	f.DurationVar(
		&run.within, "within", 0,
		"the `TIME` that all plans have together, as 10m: each has its share of what is left, and leaves out rounds for "+
			"which there is none",
	)
	f.StringVar(
		&run.held.to, "held-to", "",
		"hold each run to an earlier one, over the baseline that both have: a `RUN` by its ID or file, a folder of "+
			"results, or tag:NAME for the newest of the duel with that tag",
	)
	f.StringVar(&goodFor, "good-for", "", "how old the run of --held-to may be, a `TIME` as 30d (default: of any age)")
	f.Uint64Var(&run.seed, "seed", 0, "of the running order (default: the plan's, or drawn)")
	f.BoolVar(
		&run.accept, "accept-unequal", false,
		"run although contenders break the plan's rules for the same work; the result says so",
	)
	f.StringVar(&rounds, "rounds", "", "how many rounds instead of the plan's: a `NUMBER`, auto, or \"auto up to 20\"")
	f.BoolVar(
		&opt.Mirror, "mirror", false,
		"run the baseline against itself, too, to know how much this machine differs from itself",
	)
	f.StringVar(
		&run.goOn, "go-on", "",
		"go on from this earlier `RUN` of a sweep, an ID or a file: rounds and points that it has not yet are run, and the "+
			"two are one run",
	)
	run.bus.runFlags(f)
	f.StringArrayVar(&opt.Only, "only", nil, "run this contender and the baseline only; may be repeated")
	f.StringArrayVar(&opt.Sets, "set", nil, "lay `KEY=VALUE` over the plan, as in pace.clients=16; may be repeated")
	return c
}

// runFiles reads all plans before it runs the first.
func (s *settings) runFiles(ctx context.Context, files []string, opt read.Options, run runOptions) error {
	var plans []*plan.Plan
	for _, file := range files {
		p, err := readPlan(file, opt)
		if err != nil {
			return err
		}
		plans = append(plans, p)
	}
	if err := errors.Join(needsBus(plans, run.bus.at != ""), staysThere(plans, &run)); err != nil {
		return err
	}
	on, err := s.openBus(ctx, run.bus)
	if err != nil {
		return err
	}
	defer on.close()
	run.on = on
	book := s.bookForRun()
	if book != nil {
		defer book.Close()
	}
	return s.runAll(ctx, plans, book, run)
}

// readPlan reads a plan; its absence is bad usage.
func readPlan(file string, opt read.Options) (*plan.Plan, error) {
	p, err := read.File(file, opt)
	var problems read.Problems
	if err != nil && !errors.As(err, &problems) {
		return nil, usageError{err}
	}
	return p, err
}

// runAll runs one plan after the other. The first that fails decides the status; an interrupt ends them all.
func (s *settings) runAll(ctx context.Context, plans []*plan.Plan, book *logbook.Book, opt runOptions) error {
	var first error
	var duels []report.Duel
	if opt.ci != "" {
		if err := report.PipelineFolder(opt.ci); err != nil {
			return usageError{err}
		}
	}
	outs, err := outsOf(plans, opt.out)
	if err != nil {
		return usageError{err}
	}
	opt.tell = func(d report.Duel) *report.Duel {
		duels = append(duels, d)
		return &duels[len(duels)-1]
	}
	began := time.Now()
	for i, p := range plans {
		own := opt
		if opt.within > 0 { // who took less leaves it to those that follow
			own.within = max(opt.within-time.Since(began), time.Second) / time.Duration(len(plans)-i)
		}
		own.out = outs[i]
		if len(plans) > 1 && opt.goOn != "" {
			return usageError{errors.New("--go-on goes on with one plan")}
		}
		if len(plans) > 1 && opt.shots != "" {
			return usageError{errors.New("--shots takes the shots of one plan")}
		}
		known := len(duels)
		err := ctx.Err()
		if err == nil {
			err = s.runOne(ctx, p, book, own)
		}
		if first == nil {
			first = err
		}
		if len(duels) == known { // it was not even begun
			opt.told(ctx, p, &conduct.Outcome{}, 0, err)
		}
	}
	if opt.ci != "" {
		if err := report.WritePipeline(opt.ci, duels); first == nil {
			first = err
		} else if err != nil {
			complain(s.words.err, err) // and what came before it decides the status
		}
	}
	return first
}

// outsOf are where results of plans go, given what --json names: a file, or a folder for several plans, which is made.
// It is asked before anything is run, so that nobody waits for a result that cannot be written.
func outsOf(plans []*plan.Plan, out string) ([]string, error) {
	outs := make([]string, len(plans))
	if out == "" || out == "-" {
		for i := range outs {
			outs[i] = out
		}
		return outs, nil
	}
	if len(plans) == 1 {
		return []string{out}, nil // it is asked for where the plan is run
	}
	if err := os.MkdirAll(out, 0o777); err != nil { // less what the user's mask takes away
		return nil, fmt.Errorf("make the folder for results: %w", err)
	}
	of := map[string]*plan.Plan{}
	for i, p := range plans {
		name := resultName(p)
		if other := of[name]; other != nil {
			return nil, fmt.Errorf("results of %s and %s would both be %s in %s; rename a plan, or run them one by one",
				other.File, p.File, name, out)
		}
		of[name], outs[i] = p, filepath.Join(out, name)
		if err := files.Writable(outs[i]); err != nil {
			return nil, err
		}
	}
	return outs, nil
}

// runOptions are how a duel is run.
type runOptions struct {
	seed   uint64        // 0: the plan's, or a fresh one
	out    string        // where the result goes: empty, - or a file
	accept bool          // unequal work
	shots  string        // where shots go one by one; empty: nowhere
	goOn   string        // an earlier run to go on from; empty: none
	within time.Duration // that all plans have together; 0: as long as it takes
	held   gate
	bus    busOptions
	on     *onBus // the bus, once it is connected to; nil: none
	ci     string // the folder for what a pipeline goes by; empty: nothing is written

	// tell is told what came of each duel, and keeps it where more can be entered; nil: nobody is.
	tell  func(report.Duel) *report.Duel
	after func(*result.Result) // is handed the result; nil: nobody is
}

// told tells whoever wants to know what came of a duel.
func (o *runOptions) told(
	ctx context.Context, p *plan.Plan, of *conduct.Outcome, took time.Duration, err error,
) *report.Duel {
	if o.tell == nil {
		return &report.Duel{}
	}
	if ctx.Err() != nil {
		err = errors.New("it was interrupted")
	}
	return o.tell(report.Duel{
		Name: p.Name, File: p.File, Result: of.Result, Verdict: of.Verdict, Sweep: of.Sweep, Took: took, Err: err,
	})
}

// runOne runs one duel. Files are written before anything is said, so that nobody's reading decides what is kept.
func (s *settings) runOne(ctx context.Context, p *plan.Plan, book *logbook.Book, opt runOptions) error {
	verdicts := s.words.out
	if opt.out == "-" {
		verdicts = s.words.err
	}
	if opt.out != "" && opt.out != "-" {
		if err := files.Writable(opt.out); err != nil {
			return usageError{err}
		}
	}
	spec, earlier, err := s.specOf(p, book, &opt)
	if err != nil {
		return err
	}
	var shots *shotFile
	if opt.shots != "" {
		if shots, err = newShotFile(opt.shots, p); err != nil {
			return err
		}
		spec.OnShots = shots.take
	}
	opt.on.elsewhere(spec.Plan, &spec)
	w := newWatcher(s.words.err, p)
	if spec.Before != nil {
		w.done = len(spec.Before.Heats)
	}
	began := time.Now()
	o, err := conduct.Duel(ctx, spec, w.watch)
	told := opt.told(ctx, p, o, time.Since(began), err)
	if opt.after != nil {
		opt.after(o.Result)
	}
	unkept := shots.close()
	if opt.out != "" && o.Result != nil {
		if writeErr := s.writeResult(o.Result, opt.out); writeErr != nil {
			unkept = errors.Join(unkept, writeErr)
		}
	}
	unkept = s.keptElsewhere(o, book, opt.out, unkept)
	w.finish()
	switch {
	case weighin.IsFailed(err):
		words := s.words.err.printer()
		words.asked(o.Result)
		if weighin.IsUnequal(err) {
			complain(s.words.err, err)
		}
		return errors.Join(unkeptFile(unkept), quietError{err})
	case err != nil && o.Result == nil: // nothing was begun
		return usageError{err}
	case err != nil && !o.Judged():
		return errors.Join(unkept, err)
	}
	if o.Sweep != nil {
		verdicts.printer().sweep(o.Result, o.Sweep)
	} else {
		verdicts.printer().verdict(o.Result, o.Verdict)
	}
	if err != nil && ctx.Err() != nil {
		fmt.Fprintf(s.words.err, "paceduel: interrupted; %s\n", kept(o, book, opt.out))
		return errors.Join(unkeptFile(unkept), quietError{err})
	}
	upheld := holdTo(verdicts.printer(), &opt.held, earlier, o.Result, told)
	if err == nil && unkept == nil && !(upheld && o.Upheld()) {
		return quietError{errClaims}
	}
	return errors.Join(unkept, err)
}

// specOf is what a duel needs, and the run that it is held to; nil where there is none.
func (s *settings) specOf(
	p *plan.Plan, book *logbook.Book, opt *runOptions,
) (spec conduct.Spec, earlier *result.Result, err error) {
	spec = conduct.Spec{
		Plan: p, Kinds: all.Kinds(), Program: version, Seed: opt.seed, Book: book, Accept: opt.accept, Glance: -1,
		Aside: s.aside(), Builds: s.builds(), Within: opt.within,
	}
	if opt.goOn != "" {
		if spec.Before, err = s.find([]string{opt.goOn}); err != nil {
			return spec, nil, err
		}
	}
	if opt.held.to != "" { // before anything is run
		if earlier, err = s.earlier(&opt.held, p); err != nil {
			return spec, nil, err
		}
	}
	if p.Sweep != nil && opt.within > 0 && (p.Sweep.Within == 0 || p.Sweep.Within.D() > opt.within) {
		swept, own := *p.Sweep, *p
		swept.Within, own.Sweep = plan.Span(opt.within), &swept
		spec.Plan = &own
	}
	return spec, earlier, nil
}

// keptElsewhere says where a run is kept that the logbook does not have; unkept is what else could not be.
func (s *settings) keptElsewhere(o *conduct.Outcome, book *logbook.Book, out string, unkept error) error {
	switch {
	case o.Aside != "":
		fmt.Fprintf(s.words.err, "paceduel: the logbook does not have this run; it is kept in %s and handed in when the "+
			"logbook can be opened\n", o.Aside)
	case (book == nil || o.BookErr != nil) && (out == "" || unkept != nil):
		return errors.Join(unkept, errUnkept)
	}
	return unkept
}

// errUnkept is a run that nothing keeps.
var errUnkept = errors.New(
	"the run is kept nowhere: the logbook could not be written and no --json was given; make room, or name another " +
		"with " +
		"--logbook FILE",
)

// unkeptFile is what could not be written, but for the logbook, of a run that had little to keep.
func unkeptFile(err error) error {
	if errors.Is(err, errUnkept) {
		return nil
	}
	return err
}

func kept(o *conduct.Outcome, book *logbook.Book, out string) string {
	n := units.Plural(len(o.Result.Heats), "heat")
	switch {
	case book != nil && o.BookErr == nil:
		return n + " kept in the logbook as " + o.Result.ID
	case o.Aside != "":
		return n + " kept in " + o.Aside
	case out != "":
		return n + " kept in " + out
	}
	return n + " measured, kept nowhere: the logbook could not be written and no --json was given"
}

func (s *settings) writeResult(r *result.Result, out string) error {
	if out == "-" {
		return r.Write(s.words.out.raw())
	}
	return r.WriteFile(out)
}

func (s *settings) checkCommand() *cobra.Command {
	opt := s.planOptions()
	var save string
	c := &cobra.Command{
		Use:   "check PLAN",
		Short: "read a plan and ask every contender once, without timing",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := readPlan(args[0], opt)
			if err != nil {
				return err
			}
			return s.check(cmd.Context(), p, save)
		},
	}
	c.Flags().StringVar(&save, "save", "", "write each whole answer to a file in `DIR`; created when there is none")
	c.Flags().StringArrayVar(&opt.Only, "only", nil, "check this contender and the baseline only; may be repeated")
	c.Flags().StringArrayVar(&opt.Sets, "set", nil, "lay `KEY=VALUE` over the plan; may be repeated")
	return c
}

func (s *settings) check(ctx context.Context, p *plan.Plan, save string) error {
	var saveErr error
	cfg := rounds.Config{Plan: p, Kinds: all.Kinds(), Program: version, Builds: s.builds()}
	if save != "" {
		if err := os.MkdirAll(save, 0o777); err != nil { // less what the user's mask takes away
			return usageError{fmt.Errorf("make the folder for answers: %w", err)}
		}
		cfg.OnAnswer = func(contender, state string, body []byte) {
			path := filepath.Join(save, plan.Slug(strings.TrimSpace(contender+" "+state))+".answer")
			if err := files.WriteAll(path, body); err != nil && saveErr == nil {
				saveErr = fmt.Errorf("save the answer of %s: %w", contender, err)
			}
		}
	}
	r, err := rounds.WeighIn(ctx, cfg)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if saveErr != nil {
		return saveErr
	}
	out := s.words.out.printer()
	out.asked(r)
	out.footing(r)
	if err == nil {
		out.forecast(r)
	}
	if err != nil {
		if !weighin.IsFailed(err) {
			return err
		}
		return quietError{err}
	}
	return nil
}

func (s *settings) betweenCommand() *cobra.Command {
	var headless bool
	var keep, out string
	var seed uint64
	var wish between.Wishes
	c := &cobra.Command{
		Use:   "between A B [C...]",
		Short: "compare command lines or URLs straight away, without a plan",
		Example: `  paceduel between 'gzip -1 -c manifest.txt' 'xz -6 -c manifest.txt'
  paceduel between 'sort -u' 'sort | uniq' --stdin manifest.txt --same exact
  paceduel between --git HEAD~5 --git HEAD --build make -- ./tool manifest.txt
  paceduel between http://127.0.0.1:8080/a http://127.0.0.1:8080/b --clients 16 --for 2s`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if wish.Build != "" && len(wish.Git) == 0 {
				return usageError{errors.New("--build builds revisions; name them with --git")}
			}
			wish.Tree = func(ctx context.Context, revision string) (string, error) {
				return s.buildOf(ctx, ".", revision, wish.Build)
			}
			fmt.Fprintln(s.words.err, "finding the pace …")
			p, err := between.Plan(cmd.Context(), ".", args, wish, all.Kinds(), s.env)
			if failed := (*commits.BuildError)(nil); errors.As(err, &failed) {
				return err
			}
			if err != nil {
				return usageError{err}
			}
			if keep != "" {
				if err := keepPlan(p, keep); err != nil {
					return err
				}
			}
			if !headless && s.words.out.isTerminal() && isTerminal(os.Stdin) {
				return s.openPlan(cmd.Context(), p, seed)
			}
			book := s.bookForRun()
			if book != nil {
				defer book.Close()
			}
			return s.runOne(cmd.Context(), p, book, runOptions{seed: seed, out: out})
		},
	}
	f := c.Flags()
	f.BoolVar(&headless, "headless", false, "without a screen")
	f.StringVar(&keep, "keep", "", "write the plan to `FILE`, which must not exist")
	f.StringVar(&out, "json", "", "write the result to `OUT` (headless)")
	f.Uint64Var(&seed, "seed", 0, "of the running order")
	f.StringArrayVar(&wish.Allow, "allow", nil, "this `HOST` other than this machine may be asked; may be repeated")
	f.IntVar(&wish.Rounds, "rounds", 0, "instead of as many as so many contenders need")
	f.IntVar(&wish.Clients, "clients", 0, "at once")
	f.StringVar(&wish.For, "for", "", "the `TIME` that a heat lasts, as 2s")
	f.StringVar(&wish.Timeout, "timeout", "", "the `TIME` after which a shot is given up, as 5s")
	f.IntVar(&wish.Expect, "expect", 0, "the exit code, or the status, of a good shot")
	f.StringVar(&wish.Stdin, "stdin", "", "each command reads this `FILE`")
	f.BoolVar(&wish.Insecure, "insecure", false, "take any certificate")
	f.StringArrayVar(&wish.Git, "git", nil,
		"compare the one command line that is given as this `REVISION` of the repository has it, with others; give it for "+
			"each")
	f.StringVar(&wish.Build, "build", "", "the shell `LINE` that builds a revision, in a clean copy of it")
	f.StringVar(&wish.Same, "same", "", "how answers are compared: exact, json, lines or rows")
	return c
}

// buildOf builds a revision of the repository that a folder lies in, and tells where.
func (s *settings) buildOf(ctx context.Context, dir, revision, line string) (string, error) {
	repo, err := commits.Open(ctx, dir)
	if err != nil {
		return "", err
	}
	commit, err := repo.Resolve(ctx, revision)
	if err != nil {
		return "", err
	}
	built, err := s.builds().Build(ctx, repo, commit, line, plan.DefaultBuildLimit)
	if err == nil && !built.Cached && line != "" {
		fmt.Fprintf(s.words.err, "built %s (%s) in %s\n", commit.Short(), commit.Subject, units.Duration(built.Took))
	}
	return built.Dir, err
}

// keepPlan writes a plan's text to a new file.
func keepPlan(p *plan.Plan, path string) error {
	f, err := files.Create(path)
	if err != nil {
		return usageError{fmt.Errorf("keep the plan: %w; name another", err)}
	}
	if _, err := f.WriteString(p.Source); err != nil {
		f.Close()
		return fmt.Errorf("keep the plan: %w", err)
	}
	return f.Close()
}
