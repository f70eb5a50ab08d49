package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"paceduel/core/chart"
	"paceduel/core/chart/paper"
	"paceduel/core/conduct"
	"paceduel/core/history"
	"paceduel/core/judge"
	"paceduel/core/logbook"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/units"
)

// Bounds of what is looked at of a logbook.
const (
	lineRuns  = 60 // of a duel's time line
	listDuels = 50
)

func (s *settings) duelsCommand() *cobra.Command {
	var most, limit int
	var to string
	c := &cobra.Command{
		Use:   "duels [NAME]",
		Short: "list duels with how they went from run to run; of one, run by run, with what changed between them",
		Args:  cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			book, err := s.book()
			if err != nil {
				return err
			}
			defer book.Close()
			duels, all, err := book.Duels(limit)
			if err != nil {
				return err
			}
			if all == 0 {
				fmt.Fprintf(s.words.err, "no runs in %s yet; paceduel run PLAN makes one\n", book.Path())
				return nil
			}
			if len(args) == 0 {
				if err := s.listDuels(cmd.Context(), book, duels, most); err != nil {
					return err
				}
				if more := all - len(duels); more > 0 {
					fmt.Fprintf(s.words.err, "%s more in %s; --limit %d lists them all\n", units.Plural(more, "duel"),
						book.Path(), all)
				}
				return nil
			}
			line, err := conduct.TimeLine(cmd.Context(), book, args[0], most, most)
			if err != nil {
				return err
			}
			if len(line.Runs) == 0 {
				return usageError{fmt.Errorf("no run of a duel %q in %s; paceduel log duels lists them", args[0], book.Path())}
			}
			if to != "" {
				return s.saveLine(line, to)
			}
			s.words.out.printer().line(line)
			if line.Cut() != "" {
				fmt.Fprintf(s.words.err, "%s more in %s; --runs %d takes them all\n",
					units.Plural(line.All-len(line.Runs), "run"), book.Path(), line.All)
			}
			return nil
		},
	}
	c.Flags().IntVar(&limit, "limit", listDuels, "how many duels at most")
	c.Flags().IntVar(&most, "runs", lineRuns, "how many of the latest runs of each")
	c.Flags().StringVar(&to, "to", "", "write the time line of one duel as SVG and PDF to `DIR`")
	c.ValidArgsFunction = s.completeDuels
	return c
}

// saveLine writes the picture of a duel's runs over time.
func (s *settings) saveLine(l *history.Line, dir string) error {
	if err := os.MkdirAll(dir, 0o777); err != nil {
		return usageError{fmt.Errorf("write the time line: %w", err)}
	}
	saved, err := paper.Save(paper.History(chart.NewHistory(l)), dir, plan.Slug(l.Duel)+"-over-time")
	for _, name := range saved {
		fmt.Fprintln(s.words.out, name)
	}
	return err
}

func (s *settings) listDuels(ctx context.Context, book *logbook.Book, duels []logbook.Duel, most int) error {
	out := s.words.out.printer()
	for _, d := range duels {
		line, err := conduct.TimeLine(ctx, book, d.Name, most, conduct.Glimpse)
		if err != nil {
			return err
		}
		fmt.Fprintf(out.out, "%s   %s, the newest of %s\n", d.Name, units.Plural(d.Runs, "run"),
			d.Newest.Format(time.DateTime))
		out.say(line.Sentence)
	}
	return nil
}

// line writes a duel's runs, the oldest first, with the ratios of its challengers and what changed in between.
func (p printer) line(l *history.Line) {
	fmt.Fprintf(p.out, "\n%s\n", l.Duel)
	p.say(l.Sentence)
	p.gap()
	rows := [][]string{{"", "run"}}
	for i := range l.Tracks {
		rows[0] = append(rows[0], l.Tracks[i].Title()+", "+l.Tracks[i].Figure.Label())
	}
	rows[0] = append(rows[0], "changed")
	for i := range l.Runs {
		r := &l.Runs[i]
		row := []string{r.Started.Format("2 Jan 2006 15:04"), r.ID}
		for j := range l.Tracks {
			row = append(row, l.Tracks[j].At(i))
		}
		rows = append(rows, append(row, history.Say(r.Changes)))
	}
	text, _ := table(rows)
	fmt.Fprint(p.out, text)
	p.gap()
	for i := range l.Tracks {
		for j := range l.Tracks[i].Shifts {
			p.say("- " + l.SayShift(&l.Tracks[i], &l.Tracks[i].Shifts[j]))
		}
	}
}

func (s *settings) pairCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "pair [THEN[:CONTENDER]] [NOW[:CONTENDER]]",
		Short: "hold two runs to each other, or a contender of each",
		Long: `Holds two runs to each other, which are named by their ID or by a file, as then and now. Where
both have the same baseline, each contender is held to it in its own run, and what is compared is by
how much it is better: so a slower machine is no change. Without names: the newest run and the one of
its duel before; with one name, that run and the one of its duel before.`,
		Example: `  paceduel pair 1112-1403abc 1120-0910def
  paceduel pair 1112-1403abc:joined 1120-0910def:spread`,
		Args: cobra.MaximumNArgs(2),
		RunE: func(_ *cobra.Command, args []string) error {
			pair, err := s.pair(args)
			if err != nil {
				return err
			}
			s.words.out.printer().pair(pair)
			return nil
		},
	}
	return c
}

// pair finds the two runs that are named.
func (s *settings) pair(args []string) (*history.Pair, error) {
	names, contenders := make([]string, 2), make([]string, 2)
	for i, arg := range args {
		names[i] = arg
		if _, err := os.Stat(arg); err != nil {
			names[i], contenders[i], _ = strings.Cut(arg, ":")
		}
	}
	runs := make([]*result.Result, 2)
	if len(args) == 2 {
		for i := range runs {
			r, err := s.find(names[i : i+1])
			if err != nil {
				return nil, err
			}
			runs[i] = r
		}
	} else {
		now, err := s.find(names[:len(args)])
		if err != nil {
			return nil, err
		}
		then, err := s.before(now)
		if err != nil {
			return nil, err
		}
		runs[0], runs[1], contenders[1] = then, now, contenders[0]
	}
	p, err := history.PairOf(runs[0], runs[1], contenders[0], contenders[1])
	if err != nil {
		return nil, usageError{err}
	}
	return p, nil
}

// before is the run of the same duel before a run.
func (s *settings) before(now *result.Result) (*result.Result, error) {
	book, err := s.book()
	if err != nil {
		return nil, err
	}
	defer book.Close()
	then, err := book.Before(now)
	if errors.Is(err, logbook.ErrNoRun) {
		err = usageError{fmt.Errorf("no run of %q before %s in %s; name both runs", now.Plan.Name, now.ID, book.Path())}
	}
	return then, err
}

// pair writes two runs face to face.
func (p printer) pair(of *history.Pair) {
	fmt.Fprintf(p.out, "\n%s\n", of.Title())
	p.say(of.Runs())
	p.say(of.Changed())
	for _, one := range of.Pairings {
		p.gap()
		if one.Point != "" {
			p.say("at " + one.Point)
		}
		p.say(one.Sentence)
		p.pairing(one)
	}
	p.gap()
	p.say("cautions")
	for _, c := range of.Cautions {
		p.say("- " + c)
	}
}

func (p printer) pairing(of *judge.Pairing) {
	rows := [][]string{{"", "then", "now", "ratio", "between", ""}}
	for i := range of.Figures {
		a := &of.Figures[i]
		then, now := of.Sides(a)
		ratio := units.None
		if a.Rounds > 0 && a.Word != judge.TooFew {
			ratio = a.Factor()
		}
		rows = append(rows, []string{a.Title(), then, now, ratio, cmp.Or(a.Interval(), units.None), a.InShort()})
	}
	text, _ := table(rows)
	p.gap()
	fmt.Fprint(p.out, text)
	p.say(of.Note + ".")
}
