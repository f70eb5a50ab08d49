package main

import (
	"fmt"

	"github.com/spf13/cobra"

	"paceduel/core/contender/all"
	"paceduel/core/logbook"
	"paceduel/core/plan/read"
)

// lookup reads the environment.
type lookup func(name string) (string, bool)

// settings are what every command shares.
type settings struct {
	env     lookup
	words   console
	logbook string
}

func rootCommand(env lookup, words console) *cobra.Command {
	s := &settings{env: env, words: words}
	root := &cobra.Command{
		Use:   "paceduel [FILE|DIR]",
		Short: "compare alternatives on equal footing and say what the figures bear out",
		Long: `Pace Duel drives two or more ways of doing the same thing, again and again and in
shuffled order, and says how much faster which one is, in which percentile and how
sure that is. Without a command it opens the full-screen application.`,
		Args: cobra.MaximumNArgs(1), Version: version, SilenceUsage: true, SilenceErrors: true,
		RunE: func(cmd *cobra.Command, args []string) error { return s.open(cmd, args) },
	}
	root.PersistentFlags().StringVar(
		&s.logbook, "logbook", "", "keep the history in `FILE` (default: in the user's data directory)",
	)
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return usageError{fmt.Errorf("%w; %s --help tells more", err, c.CommandPath())}
	})
	root.AddCommand(s.openCommand(), s.betweenCommand(), s.demoCommand(), s.runCommand(), s.checkCommand(),
		s.logCommand(), s.showCommand(), s.exportCommand(), s.judgeCommand(), s.newCommand(), s.schemaCommand(),
		s.workerCommand(), harbourCommand(), manCommand())
	s.offer(root)
	root.SetOut(words.out)
	root.SetErr(words.err)
	for _, c := range root.Commands() {
		wrapArgs(c)
	}
	wrapArgs(root)
	return root
}

// wrapArgs makes a wrong number of arguments a usage error.
func wrapArgs(c *cobra.Command) {
	check := c.Args
	if check == nil {
		return
	}
	c.Args = func(cmd *cobra.Command, args []string) error {
		if err := check(cmd, args); err != nil {
			return usageError{fmt.Errorf("%w; %s --help tells more", err, cmd.CommandPath())}
		}
		return nil
	}
}

// book opens the logbook. The error says why there is none; a run goes on without.
func (s *settings) book() (*logbook.Book, error) {
	path := s.logbook
	if path == "" {
		var err error
		if path, err = logbook.DefaultPath(s.env); err != nil {
			return nil, err
		}
	}
	return logbook.Open(path, s.logbook == "")
}

// bookForRun opens the logbook for a run, which goes on without one.
func (s *settings) bookForRun() *logbook.Book {
	b, err := s.book()
	if err != nil {
		fmt.Fprintf(
			s.words.err, "paceduel: %v\n  the run goes on, but no logbook keeps it; write it to a file with --json\n", err,
		)
		return nil
	}
	return b
}

func (s *settings) planOptions() read.Options {
	return read.Options{Kinds: all.PlanKinds(), Lookup: s.env}
}
