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

	"paceduel/core/chart"
	"paceduel/core/contender/all"
	"paceduel/core/judge"
	"paceduel/core/plan"
	"paceduel/core/report"
	"paceduel/core/result"
	"paceduel/harbour"
	"paceduel/screen/app"
)

func (s *settings) openCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "open [FILE|DIR]",
		Short: "the full-screen application: a folder's duels, one plan, or a saved result",
		Args:  cobra.MaximumNArgs(1),
		RunE:  func(cmd *cobra.Command, args []string) error { return s.open(cmd, args) },
	}
	s.bus.runFlags(c.Flags())
	return c
}

// open opens a folder, the folder of a plan, or a result.
func (s *settings) open(cmd *cobra.Command, args []string) error {
	path := "."
	if len(args) > 0 {
		path = args[0]
	}
	info, err := os.Stat(path)
	switch {
	case err != nil:
		return usageError{fmt.Errorf("open: %w; paceduel --help lists the commands", err)}
	case info.IsDir():
		return s.openDir(cmd.Context(), path, folderTitle(path), "")
	case strings.HasSuffix(path, plan.Suffix):
		dir := filepath.Dir(path)
		return s.openDir(cmd.Context(), dir, folderTitle(dir), filepath.Join(dir, filepath.Base(path)))
	}
	r, err := result.ReadFile(path)
	if err != nil {
		return usageError{err}
	}
	cfg := s.appConfig(".", folderTitle("."))
	cfg.Open = r
	return s.runApp(cmd.Context(), cfg)
}

func folderTitle(dir string) string {
	if abs, err := filepath.Abs(dir); err == nil {
		return "the folder " + filepath.Base(abs)
	}
	return "this folder"
}

// openDir opens the application on a folder's duels, standing at the plan of that file, where one is given.
func (s *settings) openDir(ctx context.Context, dir, title, file string) error {
	cfg := s.appConfig(dir, title)
	cfg.At = file
	return s.runApp(ctx, cfg)
}

// openPlan opens the application and runs p at once.
func (s *settings) openPlan(ctx context.Context, p *plan.Plan, seed uint64) error {
	cfg := s.appConfig(".", folderTitle("."))
	cfg.Start, cfg.Seed = p, seed
	return s.runApp(ctx, cfg)
}

func (s *settings) appConfig(dir, title string) app.Config {
	return app.Config{
		Title: title, Dir: dir, Options: s.planOptions(), Kinds: all.Kinds(), Questions: harbour.Questions(),
		Program: version, SaveDir: ".", Builds: s.builds(),
		Plain: s.plain(), Editor: s.editor(), Today: time.Now(),
	}
}

// editor is the command line of the user's editor, empty when none is named.
func (s *settings) editor() string {
	for _, name := range []string{"VISUAL", "EDITOR"} {
		if value, ok := s.env(name); ok && value != "" {
			return value
		}
	}
	return ""
}

// plain reports whether colours are to be left out: NO_COLOR set to anything but nothing (no-color.org).
func (s *settings) plain() bool {
	value, _ := s.env("NO_COLOR")
	return value != ""
}

func (s *settings) runApp(ctx context.Context, cfg app.Config) error {
	if !s.words.out.isTerminal() {
		return usageError{errors.New("the application needs a terminal; paceduel run PLAN works without one")}
	}
	on, err := s.openBus(ctx, s.bus)
	if err != nil {
		return err
	}
	defer on.close()
	if on != nil {
		cfg.Elsewhere = on.elsewhere
	}
	cfg.Book, cfg.BookErr = s.book()
	cfg.Aside = s.aside()
	if cfg.Book != nil {
		defer cfg.Book.Close()
	}
	return app.Run(ctx, cfg)
}

func (s *settings) exportCommand() *cobra.Command {
	var dir string
	var look chart.Look
	c := &cobra.Command{
		Use: "export [ID|FILE]",
		Short: "write an earlier run's pictures as SVG and PDF, its report, figures and result; the newest unless one is " +
			"named",
		Args: cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			r, err := s.find(args)
			if err != nil {
				return err
			}
			return s.export(r, dir, look)
		},
	}
	c.Flags().StringVar(&dir, "to", ".", "the `DIR` to write to; created when there is none")
	c.Flags().BoolVar(&look.Log, "log-scale", false, "draw ladders and lanes to a logarithmic scale")
	c.Flags().BoolVar(
		&look.All, "every-rung", false, "draw every figure that was judged, not only those that carry the verdict",
	)
	return c
}

// exported writes what there is of a run to dir.
func exported(r *result.Result, dir string, look chart.Look) ([]string, error) {
	if r.Sweep != nil {
		s, err := judge.JudgeSweep(r)
		if err != nil {
			return nil, err
		}
		return report.ExportSweep(r, s, dir)
	}
	v, err := judge.Judge(r)
	if err != nil {
		return nil, err
	}
	return report.Export(r, v, dir, look)
}

func (s *settings) export(r *result.Result, dir string, look chart.Look) error {
	files, err := exported(r, dir, look)
	for _, f := range files {
		fmt.Fprintln(s.words.out, f)
	}
	return err
}
