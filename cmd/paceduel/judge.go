package main

import (
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"

	"paceduel/core/measured"
)

func (s *settings) judgeCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "judge [FILE]",
		Short: "judge duels that were measured elsewhere: JSON Lines in, one judgement a line out",
		Example: `  paceduel judge heats.jsonl > judgements.jsonl
  echo '{"id":"x","baseline":"a","heats":[{"round":1,"contender":"a","samples_s":[0.0031]}, ...]}' | paceduel judge`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			in := io.Reader(os.Stdin)
			if len(args) == 1 && args[0] != "-" {
				f, err := os.Open(args[0])
				if err != nil {
					return usageError{fmt.Errorf("judge: %w", err)}
				}
				defer f.Close()
				in = f
			}
			bad, err := measured.Judge(in, s.words.out.raw(), func(line int, err error) {
				fmt.Fprintf(s.words.err, "paceduel: line %d: %v\n", line, err)
			})
			if err != nil {
				return err
			}
			if bad > 0 {
				return quietError{usageError{fmt.Errorf("%d lines could not be judged", bad)}}
			}
			return nil
		},
	}
}
