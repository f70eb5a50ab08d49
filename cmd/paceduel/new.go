package main

import (
	_ "embed"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"paceduel/core/contender/all"
	"paceduel/core/draft"
	"paceduel/core/files"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/harbour"
)

//go:embed new.duel.yaml
var newPlan string

func (s *settings) newCommand() *cobra.Command {
	var question string
	c := &cobra.Command{
		Use:   "new [NAME]",
		Short: "write a commented plan to start from, to NAME" + plan.Suffix + " or standard output",
		Long:  newHelp(),
		Args:  cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			text := newPlan
			if question != "" {
				q, err := questionOf(question)
				if err != nil {
					return err
				}
				text = q.Text
			}
			if len(args) == 0 {
				_, err := io.WriteString(s.words.out, text)
				return err
			}
			path := strings.TrimSuffix(args[0], plan.Suffix) + plan.Suffix
			f, err := files.Create(path)
			if err != nil {
				return usageError{fmt.Errorf("write a new plan: %w; name another, or edit that one", err)}
			}
			if _, err := f.WriteString(text); err != nil {
				f.Close()
				return fmt.Errorf("write a new plan: %w", err)
			}
			fmt.Fprintln(s.words.err, "wrote "+path)
			return f.Close()
		},
	}
	c.Flags().StringVar(&question, "question", "", "a plan for what is to be found out: one of the `WORDS` above")
	return c
}

// newHelp lists the kinds of questions.
func newHelp() string {
	var out strings.Builder
	out.WriteString("Write a commented plan to start from. With --question it is one for what is to be found out:\n\n")
	for _, q := range harbour.Questions() {
		fmt.Fprintf(&out, "  %-10s  %s\n", q.Key, q.Asks)
	}
	return out.String()
}

func questionOf(word string) (draft.Question, error) {
	var known []string
	for _, q := range harbour.Questions() {
		if q.Key == word {
			return q, nil
		}
		known = append(known, q.Key)
	}
	return draft.Question{}, usageError{fmt.Errorf(
		"write a new plan: no kind of question is called %q; %s", word, plan.PointTo(word, known),
	)}
}

func (s *settings) schemaCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "schema",
		Short: "print the JSON Schema of plan files, for editors",
		Args:  cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			text, err := read.Schema(all.PlanKinds())
			if err != nil {
				return err
			}
			_, err = s.words.out.raw().Write(append(text, '\n'))
			return err
		},
	}
}
