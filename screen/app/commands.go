package app

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"paceduel/core/chart"
	"paceduel/core/chart/paper"
	"paceduel/core/conduct"
	"paceduel/core/judge"
	"paceduel/core/logbook"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/rounds"
	"paceduel/screen"
)

// What came of a command.
type (
	folderMsg struct {
		duels []screen.Duel
		err   error
	}
	runsMsg struct {
		runs []logbook.Entry
		err  error
	}
	stateMsg struct {
		run    *screen.Run
		serial int
	}
	openedMsg struct {
		run *screen.Run
		err error
	}
	saidMsg struct {
		text string
		err  bool
	}
	noticeOverMsg struct{ serial int }
)

const maxListed = 200 // runs

// readFolder reads the plans of the folder.
func readFolder(cfg Config) tea.Cmd {
	return func() tea.Msg {
		if cfg.Dir == "" {
			return folderMsg{}
		}
		dir, err := filepath.Abs(cfg.Dir)
		if err != nil {
			return folderMsg{err: fmt.Errorf("read folder %s: %w", cfg.Dir, err)}
		}
		if _, err := os.ReadDir(dir); err != nil {
			return folderMsg{err: fmt.Errorf("read folder: %w", err)}
		}
		files, err := filepath.Glob(filepath.Join(escapeGlob(dir), "*"+plan.Suffix))
		if err != nil {
			return folderMsg{err: fmt.Errorf("read folder %s: %w", dir, err)}
		}
		slices.Sort(files)
		var duels []screen.Duel
		for _, f := range files {
			p, err := plan.ReadFile(f, cfg.Options)
			duels = append(duels, screen.Duel{File: f, Plan: p, Problems: err})
		}
		return folderMsg{duels: duels}
	}
}

func escapeGlob(dir string) string {
	return strings.NewReplacer(`\`, `\\`, `[`, `\[`, `*`, `\*`, `?`, `\?`).Replace(dir)
}

func readRuns(book *logbook.Book) tea.Cmd {
	return func() tea.Msg {
		if book == nil {
			return nil
		}
		runs, err := book.List(maxListed)
		return runsMsg{runs, err}
	}
}

// startSession runs a duel in the background. It belongs to the model, which ends it.
func startSession(ctx context.Context, cfg Config, p *plan.Plan) *session {
	ctx, cancel := context.WithCancel(ctx)
	s := &session{cancel: cancel, done: make(chan struct{}), feed: newFeed()}
	f := newFollower(s.feed)
	go func() {
		defer close(s.done)
		defer cancel()
		spec := conduct.Spec{Plan: p, Kinds: cfg.Kinds, Program: cfg.Program, Seed: cfg.Seed, Book: cfg.Book}
		conduct.Duel(ctx, spec, func(e rounds.Event) { f.follow(e) }) // the last event carries the error
	}()
	return s
}

// nextState waits for the duel's next state.
func nextState(ctx context.Context, s *session, serial int) tea.Cmd {
	return func() tea.Msg {
		select {
		case <-s.feed.ready:
			return stateMsg{s.feed.last.Load(), serial}
		case <-ctx.Done():
			return nil
		}
	}
}

// opened brings a finished run into the form that views see.
func opened(r *result.Result) *screen.Run {
	v, err := judge.Judge(r)
	return &screen.Run{Result: r, Heats: r.Heats, Verdict: v, Err: err}
}

func openRun(book *logbook.Book, id string) tea.Cmd {
	return func() tea.Msg {
		r, err := book.Load(id)
		if err != nil {
			return openedMsg{err: err}
		}
		return openedMsg{run: opened(r)}
	}
}

// saveLadder writes the ladder at hand as SVG and PDF.
func saveLadder(dir string, run screen.Run, msg screen.SaveMsg) tea.Cmd {
	return func() tea.Msg {
		files, err := paper.Save(chart.NewLadder(run.Result, run.Verdict, msg.Face, msg.Log), dir, paper.Name(run.Result, run.Verdict, msg.Face))
		if err != nil {
			return saidMsg{err.Error(), true}
		}
		return saidMsg{"saved " + strings.Join(files, " and "), false}
	}
}

// keepPlan writes the plan of a run to a new file.
func keepPlan(dir string, r *result.Result) tea.Cmd {
	return func() tea.Msg {
		path := filepath.Join(dir, paper.Slug(r.Plan.Name)+plan.Suffix)
		f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
		if err != nil {
			return saidMsg{fmt.Sprintf("keep the plan: %v", err), true}
		}
		_, err = f.WriteString(r.Plan.Source)
		if closeErr := f.Close(); err == nil {
			err = closeErr
		}
		if err != nil {
			return saidMsg{fmt.Sprintf("keep the plan: %v", err), true}
		}
		return saidMsg{"the plan is in " + path, false}
	}
}
