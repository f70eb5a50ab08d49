package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"paceduel/core/bus"
	"paceduel/core/conduct"
	"paceduel/core/contender/all"
	"paceduel/core/fleet"
	"paceduel/core/meter"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/rounds"
	"paceduel/core/units"
)

func (s *settings) joinCommand() *cobra.Command {
	var o busOptions
	cfg := fleet.AgentConfig{Program: version, Kinds: all.Kinds(), Env: s.env, Rules: fleet.DefaultRules()}
	c := &cobra.Command{
		Use:   "join SERVER",
		Short: "be an agent: drive parts of duels for whoever runs them over the same bus",
		Long: `Makes this machine an agent, until it is interrupted. Whoever runs a duel over the same bus may have it
ask services, within limits that are set here and that no plan can change: this machine alone unless --allow
names others, and values of the environment only by names that --lend gives. Agents run no programs of a plan, but for those that sit beside a service (--beside).

SERVER is a NATS server, as nats://HOST:PORT or tls://HOST:PORT; several of a cluster with commas. A token is
taken from ` + bus.TokenVariable + `.`,
		Example: `  paceduel join nats://127.0.0.1:4222 --place near
  paceduel join tls://bus.harbour:4222 --place far --allow board.harbour --lend BOARD_TOKEN`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			o.at = args[0]
			return s.join(cmd.Context(), o, cfg)
		},
	}
	f := c.Flags()
	f.StringVar(&cfg.Name, "name", "", "what this agent is called (default: what the machine is called)")
	f.StringVar(&cfg.Place, "place", "", "where it is, as near or far: plans compare contenders from `PLACE` to place")
	f.StringArrayVar(&cfg.Rules.Allow, "allow", nil, "this `HOST` other than this machine may be asked; may be repeated")
	f.StringArrayVar(&cfg.Rules.Lend, "lend", nil,
		"plans may use this variable of the environment, by its `NAME`; may be repeated")
	f.StringVar(&cfg.Dir, "beside", "", "sit beside services: run whole duels of others in `DIR`, with their services "+
		"and shell lines. Whoever may send work over the bus can then run programs here")
	f.IntVar(&cfg.Rules.Clients, "most-clients", cfg.Rules.Clients, "at once")
	f.Float64Var(&cfg.Rules.Rate, "most-rate", cfg.Rules.Rate, "shots a second, where plans set a rate")
	f.DurationVar(&cfg.Rules.Heat, "longest-heat", cfg.Rules.Heat, "warm-up included, a `TIME`")
	o.accessFlags(f)
	return c
}

// joinAgain is how often a bus is looked for that is not there yet.
const joinAgain = time.Second

func (s *settings) join(ctx context.Context, o busOptions, cfg fleet.AgentConfig) error {
	if cfg.Name == "" {
		name, _ := os.Hostname()
		cfg.Name = plan.Slug(name)
	}
	for what, name := range map[string]string{"name": cfg.Name, "place": cfg.Place} {
		if name != "" && !plan.IsName(name) {
			return usageError{fmt.Errorf("--%s %q: use small letters, digits, - and _", what, units.Printable(name))}
		}
	}
	o.token, _ = s.env(bus.TokenVariable)
	access, err := o.access("agent " + cfg.Name)
	if err != nil {
		return usageError{err}
	}
	if cfg.Dir != "" {
		if info, err := os.Stat(cfg.Dir); err != nil || !info.IsDir() {
			return usageError{fmt.Errorf("--beside %s is no folder to run duels in", units.Printable(cfg.Dir))}
		}
		cfg.Builds, cfg.Enough, cfg.Steering = s.builds(), conduct.Enough, conduct.Steering
	}
	cfg.Host = result.Host(meter.ReadHost())
	if cfg.Floor, err = rounds.MeasureFloors(ctx, all.Kinds()); err != nil {
		return interruptedIsEnd(ctx, err)
	}
	link, err := s.reach(ctx, access)
	if err != nil {
		return interruptedIsEnd(ctx, err)
	}
	defer link.Close()
	cfg.Tell = func(words string) {
		fmt.Fprintf(s.words.err, "%s  %s\n", time.Now().Format("15:04:05"), units.Printable(words))
	}
	at := ""
	if cfg.Place != "" {
		at = " at " + cfg.Place
	}
	cfg.Tell(fmt.Sprintf("agent %s%s, on the bus at %s; it may ask %s, %s%s", cfg.Name, at, link.Server(),
		mayAsk(&cfg.Rules), lends(&cfg.Rules), besideWords(cfg.Dir)))
	return interruptedIsEnd(ctx, fleet.NewAgent(cfg, link).Serve(ctx))
}

// interruptedIsEnd makes an interrupt the end that it is for an agent.
func interruptedIsEnd(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return nil
	}
	return err
}

// reach connects to a bus, and waits for one that is not there yet.
func (s *settings) reach(ctx context.Context, a bus.Access) (*bus.Link, error) {
	for told := false; ; told = true {
		link, err := bus.Connect(ctx, a)
		if err == nil || ctx.Err() != nil || !errors.Is(err, bus.ErrNotThere) {
			return link, err
		}
		if !told {
			fmt.Fprintf(s.words.err, "paceduel: nobody answers at %s; waiting until somebody does\n", strings.Join(a.URLs,
				", "))
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(joinAgain):
		}
	}
}

func besideWords(dir string) string {
	if dir == "" {
		return ""
	}
	return ", and runs duels in " + dir
}

func mayAsk(r *fleet.Rules) string {
	if len(r.Allow) == 0 {
		return "this machine alone"
	}
	return "this machine and " + units.List(r.Allow)
}

func lends(r *fleet.Rules) string {
	if len(r.Lend) == 0 {
		return "and lends nothing of its environment"
	}
	return "and lends " + units.List(r.Lend)
}

func (s *settings) agentsCommand() *cobra.Command {
	var o busOptions
	c := &cobra.Command{
		Use:   "agents SERVER",
		Short: "list the agents on a bus",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			o.at = args[0]
			return s.agents(cmd.Context(), o)
		},
	}
	o.accessFlags(c.Flags())
	return c
}

// listQuiet is how long nobody has to answer until all have.
const listQuiet = 400 * time.Millisecond

func (s *settings) agents(ctx context.Context, o busOptions) error {
	o.token, _ = s.env(bus.TokenVariable)
	access, err := o.access("paceduel agents")
	if err != nil {
		return usageError{err}
	}
	link, err := bus.Connect(ctx, access)
	if err != nil {
		return err
	}
	defer link.Close()
	cards, odd, err := fleet.List(ctx, link, listQuiet)
	if err != nil {
		return err
	}
	if len(cards) == 0 {
		fmt.Fprintln(s.words.out, "no agents; paceduel join lets a machine be one")
	} else {
		w := tabwriter.NewWriter(s.words.out, 0, 0, 2, ' ', 0)
		fmt.Fprintln(w, "agent\tplace\tprocessors\tfloor\tkernel\tversion\tmay ask\tworks for")
		for i := range cards {
			fmt.Fprintln(w, cardLine(&cards[i]))
		}
		w.Flush()
	}
	for _, words := range odd {
		fmt.Fprintln(s.words.err, "paceduel: "+words)
	}
	return nil
}

func cardLine(c *fleet.Card) string {
	run := "nobody"
	if c.Run != "" {
		run = c.Run
	}
	place := c.Place
	if place == "" {
		place = "–"
	}
	fields := []string{
		c.Name, place, fmt.Sprintf("%d, %s", c.Host.Cores, c.Host.CPU), floorWords(c.Floor), c.Host.Kernel,
		c.Program, mayAsk(&c.Rules), run,
	}
	for i := range fields {
		fields[i] = units.Printable(fields[i])
	}
	return strings.Join(fields, "\t")
}

// floorWords are floors in few words: "18.1 µs".
func floorWords(list []result.Floor) string {
	var out []string
	for i := range list {
		if d, err := list[i].Histogram(); err == nil && d.Total > 0 {
			out = append(out, units.Seconds(d.Quantile(0.5)))
		}
	}
	return strings.Join(out, ", ")
}
