package main

import (
	"fmt"
	"os"
	"time"

	"github.com/spf13/cobra"

	"paceduel/harbour"
)

// harbourCommand is long. It is long since it declares a command for each stand-in.
func harbourCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "harbour",
		Short: "the stand-ins of the demo: Skerrow Harbour, an invented port",
	}
	var address, boards string
	serve := &cobra.Command{
		Use:   "serve",
		Short: "the harbour's HTTP service on this machine, until interrupted",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := harbour.Listen(address)
			if err != nil {
				return err
			}
			if err := s.Announce(os.Stdout); err != nil {
				return err
			}
			s.Boards = boards
			// Who asks meanwhile waits to be let in.
			if err := s.Prepare(); err != nil {
				return err
			}
			fmt.Println(harbour.Ready)
			return s.Serve(cmd.Context())
		},
	}
	serve.Flags().StringVar(&address, "listen", "127.0.0.1:0", "`ADDRESS` to answer at")
	serve.Flags().StringVar(&boards, "boards", "", "the `WAY` of making berth boards to get ready for; all unless said")

	var with string
	pack := &cobra.Command{
		Use:   "pack",
		Short: "pack a cargo manifest from standard input to standard output",
		Args:  cobra.NoArgs,
		RunE:  func(*cobra.Command, []string) error { return harbour.Pack(with, os.Stdin, os.Stdout) },
	}
	pack.Flags().StringVar(&with, "with", "stream", "the packer: gather or stream")

	var tidier string
	tidy := &cobra.Command{
		Use:   "tidy FILE",
		Short: "rewrite a manifest in place, misspelt goods put right",
		Args:  cobra.ExactArgs(1),
		RunE:  func(_ *cobra.Command, args []string) error { return harbour.Tidy(tidier, args[0]) },
	}
	tidy.Flags().StringVar(&tidier, "with", "plain", "the tidier: plain or remembering")

	var way, listen, prepare, from string
	predict := &cobra.Command{
		Use:   "predict",
		Short: "the harbour's tide predictor on this machine, until interrupted",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if prepare != "" {
				return harbour.PrepareTables(prepare)
			}
			return harbour.Predict(cmd.Context(), way, listen, from, os.Stdout)
		},
	}
	predict.Flags().StringVar(&way, "with", "at-start", "when the tables are made: at-start, prepared or deferred")
	predict.Flags().StringVar(&listen, "listen", "127.0.0.1:0", "`ADDRESS` to answer at")
	predict.Flags().StringVar(&prepare, "prepare", "", "write the tables to `FILE` and end")
	predict.Flags().StringVar(&from, "from", "heights.tables", "the `FILE` that prepared loads")

	var loading, kept string
	var day int
	almanac := &cobra.Command{
		Use:   "almanac",
		Short: "print a page of the harbour's almanac, and on the side what it took",
		Args:  cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			return harbour.Almanac(loading, kept, day, os.Stdout, os.Stderr)
		},
	}
	almanac.Flags().StringVar(&loading, "load", "eager", "when chapters are loaded: eager or deferred")
	almanac.Flags().StringVar(&kept, "keep", "", "the `DIR` in which chapters are kept for later runs; none unless said")
	almanac.Flags().IntVar(&day, "day", 0, "the `DAY` of the year, from 0")

	var recording string
	var writers int
	report := &cobra.Command{
		Use:   "report",
		Short: "take position reports in with several writers at once",
		Args:  cobra.NoArgs,
		RunE:  func(*cobra.Command, []string) error { return harbour.Report(recording, writers, os.Stdout) },
	}
	report.Flags().StringVar(&recording, "with", "one-lock", "how they are kept: one-lock, by-quay or by-writer")
	report.Flags().IntVar(&writers, "writers", 1, "at once, from 1 to 256")

	var ordering string
	var batch int
	log := &cobra.Command{
		Use:   "log",
		Short: "write the ship log in batches",
		Args:  cobra.NoArgs,
		RunE:  func(*cobra.Command, []string) error { return harbour.WriteLog(ordering, batch, os.Stdout) },
	}
	log.Flags().StringVar(&ordering, "with", "when-full", "when a batch is put in order: when-full or as-they-come")
	log.Flags().IntVar(&batch, "batch", 256, "`ENTRIES` of a batch")

	functions := &cobra.Command{
		Use:   "functions",
		Short: "the harbour's own functions, for whoever starts it to run them",
		Args:  cobra.NoArgs,
		Run:   func(*cobra.Command, []string) { harbour.Work() },
	}

	lay := &cobra.Command{
		Use:   "lay DIR",
		Short: "write the demo's plans and data into DIR",
		Args:  cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := harbour.Lay(args[0]); err != nil {
				return err
			}
			_, err := fmt.Fprintf(os.Stderr, "wrote the harbour's plans and data to %s\n", args[0])
			return err
		},
	}
	var ticks time.Duration
	office := &cobra.Command{
		Use:   "office",
		Short: "the harbour's tide office, which is one clerk, on this machine, until interrupted",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return harbour.Office(cmd.Context(), listen, ticks, os.Stdout)
		},
	}
	office.Flags().StringVar(&listen, "listen", "127.0.0.1:0", "`ADDRESS` to answer at")
	office.Flags().DurationVar(&ticks, "ticks", 0, "print a line so often while the clerk is free")

	notices := &cobra.Command{
		Use:   "notices",
		Short: "the harbour's notice board on this machine, until interrupted",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return harbour.Notices(cmd.Context(), way, listen, os.Stdout)
		},
	}
	notices.Flags().StringVar(&way, "with", "pushes", "how it learns of notices: polls or pushes")
	notices.Flags().StringVar(&listen, "listen", "127.0.0.1:0", "`ADDRESS` to answer at")

	var count string
	positions := &cobra.Command{
		Use:   "positions",
		Short: "the harbour's position log on this machine, until interrupted",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if count != "" {
				n, err := harbour.CountPositions(count)
				fmt.Printf("records %d\ntorn %d\ndoubled %d\n", n.Records, n.Torn, n.Doubled)
				return err
			}
			return harbour.Positions(cmd.Context(), way, from, listen, os.Stdout)
		},
	}
	positions.Flags().StringVar(&way, "with", "written", "how it keeps positions: buffered, written or synced")
	positions.Flags().StringVar(&from, "file", "positions.log", "the `FILE` that they are kept in")
	positions.Flags().StringVar(&listen, "listen", "127.0.0.1:0", "`ADDRESS` to answer at")
	positions.Flags().StringVar(&count, "count", "", "count what stands in `FILE` and end")

	c.AddCommand(serve, pack, tidy, predict, office, notices, positions, almanac, report, log, functions, lay)
	for _, sub := range c.Commands() {
		wrapArgs(sub)
	}
	return c
}
