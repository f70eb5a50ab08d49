package main

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"paceduel/core/conduct"
	"paceduel/core/logbook"
	"paceduel/core/result"
	"paceduel/core/units"
)

// remark has what is said of a run changed, and says what is said of it now.
func (s *settings) remark(id string, change func(*logbook.Remarks)) error {
	book, err := s.book()
	if err != nil {
		return err
	}
	defer book.Close()
	full, now, err := book.Remark(id, change)
	if err != nil {
		return usageError{err}
	}
	said := full
	if now.Called != "" {
		said += ", called " + now.Called
	}
	if len(now.Tags) > 0 {
		said += ", " + strings.Join(now.Tags, " ")
	}
	if now.Note != "" {
		said += ": " + now.Note
	}
	fmt.Fprintln(s.words.out, said)
	return nil
}

// textCommand gives a run the text that follows its identifier.
func (s *settings) textCommand(use, short, example string, set func(r *logbook.Remarks, text string)) *cobra.Command {
	return &cobra.Command{
		Use: use, Short: short, Example: example, Args: cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			return s.remark(args[0], func(r *logbook.Remarks) { set(r, strings.Join(args[1:], " ")) })
		},
	}
}

func (s *settings) noteCommand() *cobra.Command {
	return s.textCommand("note ID [TEXT]...", "say something of a run; without a text, nothing any more",
		"  paceduel log note 1127-2109nzk after the index", func(r *logbook.Remarks, text string) { r.Note = text })
}

func (s *settings) renameCommand() *cobra.Command {
	return s.textCommand("rename ID [NAME]...", "call a run something; without a name, by its duel again",
		"  paceduel log rename 1127-2109nzk before the index", func(r *logbook.Remarks, text string) { r.Called = text })
}

func (s *settings) tagCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "tag ID [TAG]... [-- -TAG...]",
		Short:   "put tags to a run, and take those from it that have a hyphen before them",
		Example: "  paceduel log tag 1127-2109nzk release nightly -- -draft",
		Args:    cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			add, remove := logbook.SplitTags(strings.Join(args[1:], " "))
			return s.remark(args[0], func(r *logbook.Remarks) { r.Retag(add, remove) })
		},
	}
}

func (s *settings) deleteCommand() *cobra.Command {
	var yes bool
	c := &cobra.Command{
		Use:   "delete ID...",
		Short: "remove runs from the logbook, with all that was measured",
		Args:  cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			book, err := s.book()
			if err != nil {
				return err
			}
			defer book.Close()
			answers := bufio.NewScanner(os.Stdin)
			for _, id := range args {
				r, err := book.Load(id)
				if err != nil {
					return usageError{err}
				}
				if !yes {
					fmt.Fprintf(s.words.err, "delete %s, %s of %s, with its %s? write yes: ", r.ID, r.Plan.Name,
						r.Started.Format("2 Jan 2006 15:04"), units.Plural(len(r.Heats), "heat"))
					if !answers.Scan() || strings.TrimSpace(answers.Text()) != "yes" {
						return usageError{errors.New("nothing was deleted; --yes asks nothing")}
					}
				}
				if err := book.Delete(r.ID); err != nil {
					return err
				}
				fmt.Fprintf(s.words.out, "%s is deleted\n", r.ID)
			}
			return nil
		},
	}
	c.Flags().BoolVar(&yes, "yes", false, "ask nothing")
	return c
}

func (s *settings) importCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "import FILE...",
		Short: "take runs into the logbook from result files, as run --json, show --json and export write them",
		Args:  cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			book, err := s.book()
			if err != nil {
				return err
			}
			defer book.Close()
			for _, path := range args {
				r, err := result.ReadFile(path)
				if err != nil {
					return usageError{err}
				}
				summary, err := conduct.Summarize(r)
				if err != nil {
					return fmt.Errorf("judge %s: %w", path, err)
				}
				switch err := book.Import(r, summary); {
				case errors.Is(err, logbook.ErrKnown):
					fmt.Fprintf(s.words.out, "%s of %s was there already\n", r.ID, r.Plan.Name)
				case err != nil:
					return err
				default:
					fmt.Fprintf(s.words.out, "%s of %s, %s\n", r.ID, r.Plan.Name, units.Plural(len(r.Heats), "heat"))
				}
			}
			return nil
		},
	}
}
