package main

import (
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"paceduel/core/commits"
	"paceduel/core/conduct"
	"paceduel/core/contender/all"
	"paceduel/core/logbook"
	"paceduel/core/plan/read"
	"paceduel/core/units"
)

// lookup reads the environment.
type lookup func(name string) (string, bool)

// settings are what every command shares.
type settings struct {
	env     lookup
	words   console
	logbook string
	bus     busOptions // of the application
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
		&s.logbook, "logbook", "", "keep the history in `FILE`, or on a PostgreSQL server, postgres://user@host/database "+
			"(default: a file in the user's data directory)",
	)
	s.bus.runFlags(root.Flags()) // without a command it is open
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return usageError{fmt.Errorf("%w; %s --help tells more", err, c.CommandPath())}
	})
	root.AddCommand(s.openCommand(), s.betweenCommand(), s.demoCommand(), s.runCommand(), s.checkCommand(),
		s.againCommand(), s.findCommand(), s.logCommand(), s.pairCommand(), s.showCommand(), s.exportCommand(),
		s.judgeCommand(),
		s.newCommand(),
		s.schemaCommand(),
		s.workerCommand(), s.joinCommand(), s.agentsCommand(), harbourCommand(), manCommand())
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

// book opens the logbook, and hands in what was kept aside for it. The error says why there is none; a run goes on
// without.
func (s *settings) book() (*logbook.Book, error) {
	path, err := s.bookName()
	if err != nil {
		return nil, err
	}
	b, err := logbook.Open(path, s.logbook == "")
	if err != nil {
		return nil, err
	}
	n, err := s.aside().HandIn(b)
	if n > 0 {
		fmt.Fprintf(s.words.err, "paceduel: %s that had been kept aside handed in to %s\n", units.Plural(n, "run"),
			b.Path())
	}
	if err != nil {
		complain(s.words.err, err)
	}
	return b, nil
}

// bookName is the file or the address of the logbook.
func (s *settings) bookName() (string, error) {
	if s.logbook != "" {
		return s.logbook, nil
	}
	return logbook.DefaultPath(s.env)
}

// aside is where runs are kept that the logbook could not take.
func (s *settings) aside() conduct.Aside {
	own, err := logbook.DefaultPath(s.env)
	if err != nil {
		return conduct.Aside{}
	}
	name, _ := s.bookName()
	if abs, err := filepath.Abs(name); err == nil && !logbook.IsAddress(name) {
		name = abs
	}
	return conduct.Aside{Dir: filepath.Join(filepath.Dir(own), "aside"), Book: name}
}

// builds is where what is built from commits is kept: in a temporary folder where the user has none.
func (s *settings) builds() commits.Cache {
	cache, err := commits.DefaultCache(s.env)
	if err != nil {
		return commits.Cache{Dir: filepath.Join(os.TempDir(), fmt.Sprintf("paceduel-builds-%d", os.Getuid()))}
	}
	return cache
}

// bookForRun opens the logbook for a run, which goes on without one.
func (s *settings) bookForRun() *logbook.Book {
	b, err := s.book()
	if err != nil {
		what := "it is kept aside, and handed in when the logbook can be opened"
		if s.aside().Dir == "" {
			what = "no logbook keeps it; write it to a file with --json"
		}
		fmt.Fprintf(s.words.err, "paceduel: %v\n  the run goes on; %s\n", err, what)
		return nil
	}
	return b
}

func (s *settings) planOptions() read.Options {
	return read.Options{Kinds: all.PlanKinds(), Lookup: s.env}
}
