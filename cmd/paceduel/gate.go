package main

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"paceduel/core/history"
	"paceduel/core/judge"
	"paceduel/core/logbook"
	"paceduel/core/plan"
	"paceduel/core/report"
	"paceduel/core/result"
)

// gate is what runs are held to: an earlier run of each duel.
type gate struct {
	to      string // a run, a file, a folder of results, or tag:NAME; empty: nothing
	goodFor time.Duration
}

// tagPrefix stands before a tag that names the earlier runs.
const tagPrefix = "tag:"

// readAge reads how old a run may be, as 30d or 12h.
func readAge(text string) (time.Duration, error) {
	if text == "" {
		return 0, nil
	}
	if number, ok := strings.CutSuffix(text, "d"); ok {
		if n, err := strconv.ParseFloat(number, 64); err == nil && n > 0 && n < 36500 {
			return time.Duration(n * float64(24*time.Hour)), nil
		}
	}
	d, err := time.ParseDuration(text)
	if err != nil || d <= 0 {
		return 0, usageError{fmt.Errorf("--good-for %s is no time; write it as 30d or 12h", text)}
	}
	return d, nil
}

// earlier is the run that a plan's is held to; nil where there is none yet, which is told.
func (s *settings) earlier(g *gate, p *plan.Plan) (*result.Result, error) {
	switch info, err := os.Stat(g.to); {
	case strings.HasPrefix(g.to, tagPrefix):
		return s.tagged(strings.TrimPrefix(g.to, tagPrefix), p)
	case err == nil && info.IsDir():
		file := filepath.Join(g.to, resultName(p))
		r, err := result.ReadFile(file)
		if errors.Is(err, fs.ErrNotExist) {
			fmt.Fprintf(s.words.err, "paceduel: %s: there is no %s yet to hold it to\n", p.Name, file)
			return nil, nil
		}
		return r, err
	}
	return s.find([]string{g.to})
}

// tagged is the newest run of the plan's duel that has a tag.
func (s *settings) tagged(tag string, p *plan.Plan) (*result.Result, error) {
	book, err := s.book()
	if err != nil {
		return nil, err
	}
	defer book.Close()
	list, err := book.List(0, logbook.Filter{Tag: tag, Attempts: logbook.Kept})
	if err != nil {
		return nil, err
	}
	for _, e := range list {
		if e.Name == p.Name && e.Heats > 0 {
			return book.Load(e.ID)
		}
	}
	fmt.Fprintf(s.words.err, "paceduel: %s: no run of it in %s has the tag %s yet to hold it to\n", p.Name, book.Path(),
		tag)
	return nil, nil
}

// resultName is what a plan's result is called in a folder of results.
func resultName(p *plan.Plan) string {
	return strings.TrimSuffix(filepath.Base(p.File), plan.Suffix) + ".json"
}

// holdTo holds a run to an earlier one, says what came of it, enters it for a pipeline, and reports whether all of it
// is upheld; true where there is nothing to be held to.
func holdTo(out printer, g *gate, then, now *result.Result, d *report.Duel) (upheld bool) {
	if then == nil || now == nil || len(now.Heats) == 0 {
		return true
	}
	pair, err := history.PairOf(then, now, "", "")
	if err != nil {
		d.Held = []judge.Claim{{Text: "it can be held to an earlier run", Finding: judge.Undecided, Why: err.Error()}}
	} else {
		d.Held = pair.Gate(g.goodFor)
	}
	d.HeldTo = fmt.Sprintf("run %s of %s", then.ID, then.Started.Format("2 Jan 2006 15:04"))
	out.gap()
	out.say("held to " + d.HeldTo)
	upheld = true
	for _, c := range d.Held {
		out.say(fmt.Sprintf("- %s: %s, %s", c.Text, c.Finding, c.Why))
		upheld = upheld && c.Finding == judge.Upheld
	}
	return upheld
}
