package footing

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"paceduel/core/launch"
	"paceduel/core/plan"
	"paceduel/core/result"
)

// settle finds out as whom the contender's service runs, and makes the folder of its data. i is its place in the plan.
func (g *Ground) settle(i int) (err error) {
	s := g.said.Service
	if s == nil {
		return nil
	}
	if s.User != "" && os.Geteuid() == 0 {
		if g.as, err = launch.FindUser(s.User); err != nil {
			return &ServiceError{Does: s.Summary(), Why: "cannot be started: " + err.Error()}
		}
	}
	if len(s.Data) == 0 {
		return nil
	}
	at := "" // where workspaces lie
	if g.as != nil {
		at = os.TempDir() // our own folders are nobody else's to walk through
	}
	base, err := g.f.base(at)
	if err != nil {
		return err
	}
	if g.as != nil {
		if err := os.Chmod(base, 0o711); err != nil {
			return fmt.Errorf("let %s into the folder of its data: %w", g.as.Name, err)
		}
	}
	g.data = filepath.Join(base, fmt.Sprintf("%d-%s-data", i+1, plan.Slug(g.name)))
	return g.makeData()
}

// makeData makes the folder, empty and its owner's alone, as databases want theirs.
func (g *Ground) makeData() error {
	if err := os.Mkdir(g.data, 0o700); err != nil {
		return fmt.Errorf("make a folder for the data of %s: %w", g.name, err)
	}
	if g.as == nil {
		return nil
	}
	if err := os.Chown(g.data, int(g.as.ID), int(g.as.Main)); err != nil {
		return fmt.Errorf("give %s the folder of its data: %w", g.as.Name, err)
	}
	return nil
}

// fillData performs the lines that fill it.
func (g *Ground) fillData(ctx context.Context) error {
	if g.data == "" {
		return nil
	}
	for _, line := range g.said.Service.Data {
		if err := g.own(ctx, &g.f.duel, "before duel", line); err != nil {
			return err
		}
	}
	return nil
}

// own performs a step of the contender's service, as whom that runs.
func (g *Ground) own(ctx context.Context, s *scope, when, line string) error {
	return g.cost(result.Cost{When: when, What: line}, func() (string, error) {
		env := append(g.f.environment(g.name, g.state, g.round, g.dir), "PORT="+g.port)
		if g.data != "" {
			env = append(env, "DATA="+g.data)
		}
		at := launch.At(nil, 0, g.fence).As(g.as)
		said, err := s.step(ctx, when, g.Setup().Fill(line), g.dir, env, at)
		if err != nil && g.as != nil && strings.Contains(err.Error(), "permission denied") {
			err = fmt.Errorf("%w (%s runs it: may %s read %s?)", err, g.as.Name, g.as.Name, g.dir)
		}
		return said, err
	})
}
