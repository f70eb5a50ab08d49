package main

import (
	"context"
	"errors"

	"github.com/spf13/cobra"

	"paceduel/core/plan"
)

func (s *settings) openCommand() *cobra.Command                                   { return &cobra.Command{Use: "open"} }
func (s *settings) exportCommand() *cobra.Command                                 { return &cobra.Command{Use: "export"} }
func (s *settings) open(cmd *cobra.Command, args []string) error                  { return errors.New("not yet") }
func (s *settings) openPlan(ctx context.Context, p *plan.Plan, seed uint64) error { return nil }
func (s *settings) openDir(ctx context.Context, dir, title string) error          { return nil }
