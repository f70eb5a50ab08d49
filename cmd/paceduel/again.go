package main

import (
	"context"
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"paceduel/core/history"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/core/result"
)

func (s *settings) againCommand() *cobra.Command {
	var run runOptions
	var fresh bool
	c := &cobra.Command{
		Use:   "again [ID|FILE]",
		Short: "run the plan of an earlier run again as it was, in the same order, and hold the two runs to each other",
		Long: `Runs the plan of an earlier run again, the newest unless one is named: its text as it was then, with
what was laid over it, the same contenders and the same seed. What differs now is told first: the plan's file, and files
that the plan names. At the end the two runs are held to each other, as paceduel pair does.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if fresh && cmd.Flags().Changed("seed") {
				return usageError{errors.New("--seed and --new-seed say different things; give one of them")}
			}
			return s.again(cmd.Context(), args, run, fresh)
		},
	}
	c.Flags().StringVar(&run.out, "json", "", "write the result to `OUT`; - for standard output")
	c.Flags().Uint64Var(&run.seed, "seed", 0, "of the running order instead of that of the earlier run")
	run.bus.runFlags(c.Flags())
	c.Flags().BoolVar(&fresh, "new-seed", false, "draw a seed")
	c.Flags().BoolVar(
		&run.accept, "accept-unequal", false,
		"run although contenders break the plan's rules for the same work; the result says so",
	)
	return c
}

func (s *settings) again(ctx context.Context, args []string, run runOptions, fresh bool) error {
	then, err := s.find(args)
	if err != nil {
		return err
	}
	p, notes, err := history.Again(then, s.planFile(then), s.planOptions())
	for _, note := range notes {
		fmt.Fprintf(s.words.err, "paceduel: %s\n", note)
	}
	var problems read.Problems
	if err != nil && !errors.As(err, &problems) {
		return usageError{err}
	} else if err != nil {
		return err
	}
	if run.seed == 0 && !fresh {
		run.seed = then.Seed
	}
	if fresh {
		p.Seed = 0
	}
	if err := needsBus([]*plan.Plan{p}, run.bus.at != ""); err != nil {
		return err
	}
	if run.on, err = s.openBus(ctx, run.bus); err != nil {
		return err
	}
	defer run.on.close()
	book := s.bookForRun()
	if book != nil {
		defer book.Close()
	}
	var now *result.Result
	run.after = func(r *result.Result) { now = r }
	runErr := s.runOne(ctx, p, book, run)
	if now == nil || len(now.Heats) == 0 {
		return runErr
	}
	pair, err := history.PairOf(then, now, "", "")
	if err != nil {
		return errors.Join(runErr, err)
	}
	out := s.words.out
	if run.out == "-" {
		out = s.words.err
	}
	fmt.Fprintf(out, "\nas against the run %s\n", then.ID)
	words := out.printer()
	words.say(pair.Changed())
	for _, one := range pair.Pairings {
		at := "- "
		if one.Point != "" {
			at = "- at " + one.Point + ": "
		}
		words.say(at + one.Sentence)
	}
	for _, c := range pair.Cautions {
		words.say("- " + c)
	}
	return runErr
}

// planFile is where the plan's file of a run is, or was: the logbook knows its folder.
func (s *settings) planFile(r *result.Result) string {
	book, err := s.book()
	if err != nil {
		return r.Plan.File
	}
	defer book.Close()
	if e, err := book.Entry(r.ID); err == nil && e.File != "" {
		return e.File
	}
	return r.Plan.File
}
