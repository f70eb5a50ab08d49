package chart

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"paceduel/core/cell"
	"paceduel/core/figure"
	"paceduel/core/judge"
	"paceduel/core/result"
	"paceduel/core/units"
)

// Starts is the picture of how contenders come up: the splits of a start one after another, all from a common zero,
// which is the creation of a process. Of commands it shows what a run tells of itself, and the first run beside later
// ones.
type Starts struct {
	Title, Sentence, Note string
	Conditions            []string
	Scale                 Scale
	Groups                []StartGroup // one for each state of caches
}

// StartGroup is one state of caches.
type StartGroup struct {
	State string
	Sides []StartSide // in the order of the plan
}

// StartSide is how one contender comes up. It has no steps where nothing is known of it.
type StartSide struct {
	Side
	Steps  []StartStep
	Beside []string // what stands beside the steps, in words
}

// StartStep is a split, from the end of the one before it.
type StartStep struct {
	Label    string
	From, To float64 // 0 to 1 of the scale; both 1 where it lies beyond what is in view
	Took     string  // its length
	Apart    bool    // it follows nothing, but begins at zero
}

// point is the end of a split before it is drawn.
type point struct {
	label string
	at    float64 // seconds
	apart bool
}

// NewStarts arranges how the contenders came up; share is how much of the scale is in view from zero on, over 0 to 1.
func NewStarts(r *result.Result, v *judge.Verdict, share float64) *Starts {
	s := &Starts{
		Title: r.Plan.Name, Sentence: startsSentence(r, v), Conditions: Conditions(r, v),
		Note: "times count from the creation of the process; each is that of the middle start. Settled: from that shot on, " +
			"three in a row took no longer than 95 % of the judged ones.",
	}
	type side struct {
		points []point
		beside []string
	}
	all := map[cell.Cell]side{}
	longest := 0.0
	var values []float64
	commands := true
	for _, e := range r.Entrants {
		for _, state := range r.States() {
			var own side
			own.points, own.beside = served(r, v, e.Name, state)
			if len(own.points) > 0 {
				commands = false
			} else {
				own.points, own.beside = ranAs(r, v, e.Name, state)
			}
			for _, p := range own.points {
				longest = max(longest, p.at)
			}
			all[cell.Of(e.Name, state)] = own
		}
	}
	if commands {
		s.Note = "each bar from zero on: what a run tells of itself, what later runs take and what the first of each heat " +
			"takes."
	}
	if longest > 0 {
		values = []float64{longest * share}
	}
	s.Scale = NewScale(values, false, units.Seconds)
	place := s.Scale.At
	for _, state := range r.States() {
		g := StartGroup{State: state}
		for i, e := range r.Entrants {
			own := all[cell.Of(e.Name, state)]
			one := StartSide{Side: Side{e.Name, SignOf(i), e.Name == r.Plan.Baseline}, Beside: own.beside}
			from := 0.0
			for _, p := range own.points {
				begin := from
				if p.apart {
					begin = 0
				}
				took := "at once"
				if p.at > begin {
					took = units.Seconds(p.at - begin)
				}
				one.Steps = append(one.Steps, StartStep{p.label, place(begin), place(p.at), took, p.apart})
				if !p.apart {
					from = p.at
				}
			}
			g.Sides = append(g.Sides, one)
		}
		s.Groups = append(s.Groups, g)
	}
	return s
}

// Any reports whether there is anything to show.
func (s *Starts) Any() bool {
	return slices.ContainsFunc(s.Groups, func(g StartGroup) bool {
		return slices.ContainsFunc(g.Sides, func(side StartSide) bool { return len(side.Steps) > 0 })
	})
}

// served are the splits of a service's starts.
func served(r *result.Result, v *judge.Verdict, name, state string) (points []point, beside []string) {
	typical, n := judge.TypicalStart(r, name, state)
	if n == 0 {
		return nil, nil
	}
	add := func(label string, at time.Duration) {
		if at > 0 {
			points = append(points, point{label: label, at: at.Seconds()})
		}
	}
	add("first output", typical.Output)
	add("ready", typical.Ready)
	add("first answer", typical.First)
	add("second answer", typical.Second)
	if typical.Shot > 0 {
		add(fmt.Sprintf("settled at shot %s", units.Count(typical.Shot)), typical.Settled)
	}
	slices.SortStableFunc(points, func(a, b point) int { return int(math.Copysign(1, a.at-b.at)) })
	starts := units.Plural(n, "start")
	if typical.Prepared > 0 {
		starts += ", each prepared in " + units.Duration(typical.Prepared)
	}
	beside = append(beside, starts)
	if typical.FirstTook > 0 {
		beside = append(beside, fmt.Sprintf(
			"the first shot took %s%s", units.Duration(typical.FirstTook), laterThan(v, name, state),
		))
	}
	var told []string
	for _, m := range typical.Marks {
		told = append(told, m.Name+" "+m.Unit.Write(m.Value))
	}
	if len(told) > 0 {
		beside = append(beside, "it tells "+strings.Join(told, ", "))
	}
	return points, beside
}

// laterThan says how a first shot compares with later ones.
func laterThan(v *judge.Verdict, name, state string) string {
	for _, b := range v.Beginnings {
		if b.Contender == name && b.State == state {
			return fmt.Sprintf(", later ones %s: %s", units.Seconds(b.Later), b.AsLong(""))
		}
	}
	return ""
}

// ranAs are the marks of a command's runs, a later run and the first run, each from zero on: nothing says in which
// order a run comes to its marks.
func ranAs(r *result.Result, v *judge.Verdict, name, state string) (points []point, beside []string) {
	value := func(f figure.Name) float64 {
		for i := range v.Faces {
			for _, a := range v.Faces[i].Figures {
				if a.Figure != f || a.State != state && a.State != "" {
					continue
				}
				if v.Faces[i].Contender == name {
					return a.Contender.V
				}
				if v.Baseline == name {
					return a.Baseline.V
				}
			}
		}
		return math.NaN()
	}
	add := func(label string, at float64) {
		if at > 0 {
			points = append(points, point{label: label, at: at, apart: true})
		}
	}
	for _, mark := range r.Plan.Marks {
		if mark.Unit() == units.Second {
			add(mark.Spoken(), value(mark))
		}
	}
	for _, b := range v.Beginnings {
		if b.Contender == name && b.State == state {
			add("a later run", b.Later)
			add("first run", b.First)
			beside = append(beside, fmt.Sprintf("its first run takes %s", b.Say()))
		}
	}
	return points, beside
}

// startsSentence says how the face to look at first comes up, as against the baseline.
func startsSentence(r *result.Result, v *judge.Verdict) string {
	if len(v.Faces) == 0 {
		return ""
	}
	var all []string
	for i := range v.Faces {
		f := &v.Faces[(v.Best+i)%len(v.Faces)]
		var said []string
		open := false
		for _, a := range f.Figures {
			verb, ok := map[figure.Name]string{
				figure.Start: "is ready", figure.FirstAnswer: "gives its first answer", figure.Settled: "has settled",
				figure.FirstRun: "ends its first run", figure.Wake: "wakes up",
			}[a.Figure]
			if !ok || r.Entrant(f.Contender) == nil {
				continue
			}
			if a.State != "" {
				verb += ", " + a.State + ","
			}
			switch a.Word {
			case judge.Better:
				said = append(said, fmt.Sprintf("%s %s sooner (%s)", verb, a.Factor(), a.Interval()))
			case judge.Worse:
				said = append(said, fmt.Sprintf("%s %s later (%s)", verb, a.Factor(), a.Interval()))
			case judge.Alike:
				said = append(said, verb+" as soon")
			case judge.Open:
				open = true
			}
		}
		switch {
		case len(said) > 0:
			all = append(all, fmt.Sprintf("%s %s than %s.", f.Contender, units.List(said), v.Baseline))
		case open:
			all = append(all, fmt.Sprintf("How fast %s starts, compared with %s, is still open.", f.Contender, v.Baseline))
		}
	}
	if len(all) > 0 {
		return strings.Join(all, " ")
	}
	for _, b := range v.Beginnings {
		return fmt.Sprintf("The first run of %s takes %s.", title(b.Contender, b.State), b.Say())
	}
	return "Nothing is known of how the contenders start: none has a service that is started for its heats, or a first " +
		"run with later ones to compare."
}

func title(name, state string) string { return strings.TrimSpace(name + " " + state) }

// leastShare is the smallest part of the scale of starts that can be looked at.
const leastShare = 1.0 / 1024

// NextShare is the part of the scale of starts that is in view after zooming in or out, from zero on.
func NextShare(share float64, in bool) float64 {
	if in {
		return max(share/2, leastShare)
	}
	return min(share*2, 1)
}
