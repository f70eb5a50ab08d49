package rounds

import (
	"context"
	"fmt"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/meter"
	"paceduel/core/pace"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/shots"
	"paceduel/core/tally"
)

const (
	floorShots  = 100
	floorWarmup = 10
)

// measureFloor finds out what driving costs at least here: for each kind of contender the cheapest one there is, one
// shot after another, with the same means as the contenders.
func (r *runner) measureFloor(ctx context.Context) error {
	for _, k := range r.cfg.Kinds {
		var own []plan.Settings
		for _, c := range r.cfg.Plan.Contenders {
			if c.Kind == k.Name {
				own = append(own, c.Settings)
			}
		}
		if k.Floor == nil || len(own) == 0 {
			continue
		}
		f, err := floorOf(ctx, r.cfg.Plan.Dir, r.clock, &k, own)
		if err != nil {
			return err
		}
		r.result.Floor = append(r.result.Floor, f)
	}
	if len(r.result.Floor) > 0 {
		r.send(FloorFound{r.head()})
	}
	return nil
}

// MeasureFloors measures what driving the cheapest contender costs on this machine, of each kind that agents drive.
func MeasureFloors(ctx context.Context, kinds []contender.Kind) (out []result.Floor, err error) {
	for i := range kinds {
		k := &kinds[i]
		if k.Floor == nil || k.Afar == nil || k.Embeds { // what is embedded is no measure of asking elsewhere
			continue
		}
		f, err := floorOf(ctx, ".", clock.Start(), k, []plan.Settings{k.New()})
		if err != nil {
			return nil, err
		}
		out = append(out, f)
	}
	return out, nil
}

func floorOf(
	ctx context.Context, dir string, c *clock.Clock, k *contender.Kind, own []plan.Settings,
) (result.Floor, error) {
	settings, stop, err := k.Floor(own)
	if err != nil {
		return result.Floor{}, fmt.Errorf("measure what driving a contender of kind %s costs at least: %w", k.Name, err)
	}
	defer stop()
	if k.Level != nil {
		settings = k.Level(append([]plan.Settings{settings}, own...))[0]
	}
	d, err := k.Open(contender.Setup{Dir: dir, PlanDir: dir, Clock: c}, settings)
	if err != nil {
		return result.Floor{}, fmt.Errorf("measure what driving a contender of kind %s costs at least: %w", k.Name, err)
	}
	defer d.Close()
	warm, judged := tally.NewRecorder(&k.Shape, 0, 1), tally.NewRecorder(&k.Shape, 0, 1)
	h := pace.Heat{
		Clock: c, Pace: plan.Pace{Repeat: floorShots, Warmup: &plan.Warmup{Shots: floorWarmup}}, Size: 1,
		Warm: []*tally.Recorder{warm}, Judged: []*tally.Recorder{judged},
	}
	if crewed, ok := d.(contender.Crewed); ok {
		if h.Crew, err = crewed.Crew(1); err != nil {
			return result.Floor{}, err
		}
	}
	if h.Crew != nil {
		defer h.Crew.Close()
	} else {
		one := d.Client(0, 1)
		defer one.Close()
		h.Clients = []contender.Client{one}
	}
	lasting, _ := d.(contender.Lasting)
	before := readingWith(lasting)
	span, err := h.Drive(ctx)
	if err != nil {
		return result.Floor{}, err
	}
	m := tally.Merge(h.Judged)
	f := result.Floor{Kind: k.Name, Shots: m.Counts[shots.OK], Failed: m.Failures(), Wall: span.End - span.Start}
	f.Conditions = result.Conditions(meter.Between(before, readingWith(lasting)))
	f.Latencies, err = result.EncodeHistogram(m.Latencies)
	return f, err
}

// FloorFound says what driving costs at least, in its head; it comes before the first heat.
type FloorFound struct {
	Head *result.Result `text:"ours"`
}

func (FloorFound) event() {}
