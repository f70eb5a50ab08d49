package footing

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"paceduel/core/launch"
	"paceduel/core/plan"
)

// BeginCrash lays the contender's ground anew, empties the folder of its data and fills it as at the start, and starts
// its service. EndCrash is called also when it fails.
func (g *Ground) BeginCrash(ctx context.Context, no int) error {
	g.quit()
	g.state, g.round, g.primed, g.costs, g.check, g.starts = plan.AsFound, no, false, nil, Check{}, nil
	if g.workspace != nil {
		if err := g.lay(ctx, "heat", false); err != nil {
			return err
		}
	}
	if err := g.emptyData(); err != nil {
		return err
	}
	if err := g.fillData(ctx); err != nil {
		return err
	}
	for _, line := range g.said.Before.Heat {
		if err := g.step(ctx, &g.heat, "before heat", line); err != nil {
			return err
		}
	}
	_, err := g.Again(ctx)
	return err
}

// emptyData removes what is in the folder of its data, which is ours.
func (g *Ground) emptyData() error {
	if g.data == "" {
		return nil
	}
	list, err := os.ReadDir(g.data)
	if err != nil {
		return fmt.Errorf("empty the folder of the data of %s: %w", g.name, err)
	}
	for _, e := range list {
		if err := removeAll(filepath.Join(g.data, e.Name())); err != nil {
			return fmt.Errorf("empty the folder of the data of %s: %w", g.name, err)
		}
	}
	return nil
}

// Kill ends the contender's service, with all that it started, by SIGKILL, and returns once it has gone. It does
// nothing for a contender without one.
func (g *Ground) Kill() {
	v := g.service
	if v == nil {
		return
	}
	syscall.Kill(-v.cmd.Process.Pid, syscall.SIGKILL)
	<-v.gone
	v.stop()
	g.service = nil
}

// Again starts the contender's service on what is there, and returns how long it took until it was ready; 0 for a
// contender without one.
func (g *Ground) Again(ctx context.Context) (took time.Duration, err error) {
	s := g.said.Service
	if s == nil {
		return 0, nil
	}
	v, _, err := g.create(ctx, plan.EveryHeat)
	if err != nil {
		return 0, err
	}
	if err := v.ready(ctx, g.dir, g.Setup()); err != nil {
		v.stop()
		return 0, err
	}
	g.service = v
	return v.isReady - v.created, nil
}

// Count performs the line that says what is there, and returns what it printed.
func (g *Ground) Count(ctx context.Context, line string, acknowledged int64) (said string, err error) {
	env := append(g.f.environment(g.name, g.state, g.round, g.dir), "PORT="+g.port, "DATA="+g.data,
		fmt.Sprintf("ACKNOWLEDGED=%d", acknowledged))
	return g.heat.step(ctx, "after crash", g.Setup().Fill(line), g.dir, env,
		launch.At(nil, 0, g.fence).As(g.as))
}

// quit stops the contender's service, however fresh it is to be.
func (g *Ground) quit() {
	if g.service != nil {
		g.service.stop()
		g.service = nil
	}
}

// EndCrash takes up what BeginCrash laid down.
func (g *Ground) EndCrash(ctx context.Context) error {
	closing, cancel := takingDown(ctx)
	defer cancel()
	g.quit()
	var err error
	for _, line := range g.said.After.Heat {
		if stepErr := g.step(closing, &g.heat, "after heat", line); err == nil {
			err = stepErr
		}
	}
	g.heat.end()
	return err
}
