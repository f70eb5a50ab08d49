package judge

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"paceduel/core/cell"
	"paceduel/core/figure"
	"paceduel/core/judge/stats"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/shots"
	"paceduel/core/units"
)

// Caution weakens a verdict.
type Caution struct {
	Kind      CautionKind
	What      string   // with its figure
	Try       string   // what to do about it
	See       Evidence // that shows it
	Contender string   // that it is of; empty: all
	Round     int      // that it is of; 0: all
}

// CautionKind is what sort of thing weakens a verdict. The names are part of what paceduel judge writes.
type CautionKind string

// The kinds of cautions.
const (
	Ended          CautionKind = "ended early"
	Failing        CautionKind = "failures"
	LeftBehind     CautionKind = "left behind"
	Paused         CautionKind = "paused"
	FewRounds      CautionKind = "few rounds"
	FewShots       CautionKind = "few shots"
	Drift          CautionKind = "drift"
	Untold         CautionKind = "untold marks"
	Dependent      CautionKind = "dependent rounds"
	FirstHeat      CautionKind = "first heat"
	Humps          CautionKind = "two humps"
	Outlier        CautionKind = "outlier"
	Noise          CautionKind = "noise"
	Brief          CautionKind = "brief heats"
	Busy           CautionKind = "own load"
	OtherLoad      CautionKind = "other load"
	OneProcess     CautionKind = "one process"
	Overload       CautionKind = "overload"
	Floor          CautionKind = "floor"
	Growth         CautionKind = "growth"
	Killed         CautionKind = "killed for memory"
	Ground         CautionKind = "footing"
	UnequalWork    CautionKind = "unequal work"
	NewConnections CautionKind = "new connections"
	ClosedModel    CautionKind = "closed model"
	OnTerminal     CautionKind = "terminal"
	NotFor         CautionKind = "not for"
	ClimbEnds      CautionKind = "climb ends"
	OtherPlan      CautionKind = "query plan"
	LostSpans      CautionKind = "lost spans"
	OtherClock     CautionKind = "other clock"
	Traced         CautionKind = "traced"
	Losses         CautionKind = "losses"
	Repeated       CautionKind = "work done again"
	Agents         CautionKind = "agents"
)

// Evidence is what shows the figures behind a caution. Where it is to be seen is left to whoever shows it.
type Evidence string

// The evidence there is, by the words that reports use for it.
const (
	InRatios Evidence = "verdict"
	InShapes Evidence = "distribution"
	InHeats  Evidence = "rounds"
	InStarts Evidence = "start"
	InInside Evidence = "inside"
	InMemory Evidence = "memory"
	// What is left after crashes.
	InSurvival Evidence = "survival"
	InAnswers  Evidence = "weigh-in"
	InFooting  Evidence = "footing"
	InPlan     Evidence = "ask"
)

// Thresholds of the cautions.
const (
	busySelfFrac   = 0.70 // of all processors, by ourselves: the asking may be what was measured
	busyOthersFrac = 0.20
	stealFrac      = 0.02
	reconnectFrac  = 0.5
	diskFrac       = 0.2
	memoryFrac     = 0.01
	floorFrac      = 0.5
	slowerClock    = 0.9
	pausedLong     = 10 * time.Minute
)

// cautions lists what weakens the verdict, the heaviest first.
func (f *field) cautions(v *Verdict) (out []Caution, err error) {
	r := f.r
	floor, err := floorCautions(f)
	if err != nil {
		return nil, err
	}
	out = append(out, courseCautions(r, v)...)
	out = append(out, roundCautions(r, v)...)
	out = append(out, shotCautions(v)...)
	out = append(out, f.disturbances(v)...)
	out = append(out, noiseCautions(v)...)
	out = append(out, footingCautions(r)...)
	host := append(hostCautions(r), briefCaution(r)...)
	out = append(out, host...)
	if v.Mirror == nil &&
		slices.ContainsFunc(host, func(c Caution) bool { return c.Kind == OtherLoad || c.Kind == Busy }) {
		out = append(out, Caution{
			Kind: Noise, See: InRatios, What: "this machine was not quiet, and how much it differs from itself is not known",
			Try: "paceduel run --mirror runs the baseline against itself, too",
		})
	}
	out = append(out, agentCautions(r)...)
	out = append(out, oneProcess(r, v)...)
	out = append(out, idleCautions(r)...)
	out = append(out, workCautions(r)...)
	out = append(out, queryPlans(r)...)
	out = append(out, f.untold()...)
	out = append(out, losses(v)...)
	out = append(out, f.repeated()...)
	out = append(out, f.sent()...)
	out = append(out, f.findsNothing(v)...)
	out = append(out, rateCautions(r)...)
	out = append(out, f.closedModel()...)
	out = append(out, f.growth()...)
	out = append(out, serviceCautions(r)...)
	for _, e := range r.Entrants {
		if e.Avoid != "" {
			out = append(out, Caution{
				Kind: NotFor, See: InPlan, Contender: e.Name, What: fmt.Sprintf("do not use %s when %s", e.Name, e.Avoid),
				Try: "the plan says so",
			})
		}
	}
	out = append(out, climbCautions(f)...)
	return append(out, floor...), nil
}

// courseCautions say how the run went.
func courseCautions(r *result.Result, v *Verdict) (out []Caution) {
	add := func(kind CautionKind, contender, try, what string, args ...any) {
		out = append(out, Caution{Kind: kind, See: InHeats, Contender: contender, What: fmt.Sprintf(what, args...),
			Try: try})
	}
	switch r.Ending {
	case result.Interrupted:
		add(
			Ended, "", "run it again for the full number of rounds", "interrupted: %d of %d rounds are complete", v.Rounds,
			r.Plan.Rounds,
		)
	case result.CutOff:
		add(Ended, "", "run it again", "cut off in mid-run: %d of %d rounds are complete", v.Rounds, r.Plan.Rounds)
	case result.Failed:
		add(Ended, "", "see the reason and run it again", "not completed: %s", r.Reason)
	}
	if s := r.Plan.Short; s != nil {
		add(Ended, "", "give it more time", "its %s were over after %d of %d rounds", units.Trim(units.Duration(s.Within)),
			r.Plan.Rounds,
			s.Planned)
	}
	for _, e := range r.Entrants {
		if failed, shots := failures(r, e.Name, result.AnyState); failed > 0 {
			add(
				Failing, e.Name, "compare only what works: see the first failures in the log",
				"%s: %s of %s shots failed (%s)%s",
				e.Name, units.Count(failed), units.Count(shots), units.Share(float64(failed)/float64(shots)), firstCause(r,
					e.Name),
			)
		}
	}
	for _, e := range r.Entrants {
		if t := total(r, e.Name, result.AnyState); t.left > 0 {
			add(
				LeftBehind, e.Name,
				"have it end what it starts, or wait for it: leftovers ran beside the others until they were ended",
				"%s left %s behind in %s", e.Name, processes(t.left), units.Plural(int(t.shots), "run"),
			)
		}
		if e.LeftOut > 0 {
			add(Ended, e.Name, "run it again with all", "%s was left out from round %d on", e.Name, e.LeftOut)
		}
	}
	if r.Paused > pausedLong {
		add(
			Paused, "", "compare within one sitting", "the run was paused for %s: the machine may have changed meanwhile",
			units.Duration(r.Paused),
		)
	}
	return out
}

// findsNothing names contenders that count none of what another counts many of, where more would be better or they had
// something to say on standard error: they may not have looked.
func (f *field) findsNothing(v *Verdict) (out []Caution) {
	const many = 10
	for i := range v.Faces {
		for _, a := range v.Faces[i].Figures {
			none, other, much := v.Faces[i].Contender, v.Baseline, a.Baseline.V
			if a.Baseline.V == 0 {
				none, other, much = v.Baseline, v.Faces[i].Contender, a.Contender.V
			}
			if !a.AgainstNone || !a.Figure.IsTold() || min(a.Baseline.V, a.Contender.V) > 0 || much < many {
				continue
			}
			if t := f.r.Entrant(none).Touch; !a.Figure.MoreIsBetter() && (t == nil || t.Stderr == "") {
				continue // none may be what is wanted
			}
			out = append(out, Caution{
				Kind: UnequalWork, See: InAnswers, Contender: none,
				What: fmt.Sprintf(
					"%s tells no %s where %s tells %s: it may not have looked", none, a.Figure.Spoken(), other,
					a.Figure.Show(much),
				),
				Try: "see that it is given the same input and rules, and what it wrote on standard error at the weigh-in",
			})
		}
	}
	return out
}

// untold names the marks that a contender's good shots never told, or only some of them.
func (f *field) untold() (out []Caution) {
	for i := range f.r.Entrants {
		e := &f.r.Entrants[i]
		for _, fig := range e.Marks {
			var told, shots int64
			for _, s := range f.sides() {
				if s.Contender != e.Name {
					continue
				}
				for _, h := range f.inOrder[s] {
					told, shots = told+h.told(fig), shots+h.OK
				}
			}
			if told >= shots || told == 0 && e.Touch.Lacks(fig.Spoken()) {
				continue // or is told as what the weigh-in saw
			}
			out = append(out, Caution{
				Kind: Untold, See: InAnswers, Contender: e.Name,
				What: fmt.Sprintf(
					"%s told %s in %s of %s", e.Name, fig.Spoken(), units.Count(told), units.Plural(int(shots), "shot"),
				),
				Try: "see under weigh-in where it is looked for, and what was printed there",
			})
		}
	}
	return out
}

// sent says what was wrong with the spans that services sent of sampled shots.
func (f *field) sent() (out []Caution) {
	for i := range f.r.Entrants {
		name := f.r.Entrants[i].Name
		var all result.Traced
		shots := int64(0)
		for _, s := range f.sides() {
			for _, h := range f.inOrder[s] {
				if t := h.Heat.Traced; s.Contender == name && t != nil {
					all.Sampled, all.Lost, all.Dropped = all.Sampled+t.Sampled, all.Lost+t.Lost, all.Dropped+t.Dropped
					all.Broken, all.Late = all.Broken+t.Broken, all.Late+t.Late
					all.Shifted = max(all.Shifted, t.Shifted)
					shots += h.OK
				}
			}
		}
		unseen := all.Dropped + all.Broken + all.Late
		switch {
		case all.Sampled > 0 && all.Lost == all.Sampled:
			out = append(out, Caution{
				Kind: LostSpans, See: InInside, Contender: name,
				What: fmt.Sprintf("the service of %s sent no spans of %s", name, shotsSampled(all.Sampled)),
				Try: "see that it is instrumented, sends by HTTP to $OTEL_EXPORTER_OTLP_ENDPOINT, and heeds a traceparent " +
					"that " +
					"is marked sampled",
			})
		case float64(all.Lost) > lostFrac*float64(all.Sampled):
			out = append(out, Caution{
				Kind: LostSpans, See: InInside, Contender: name,
				What: fmt.Sprintf("no spans came of %s of %s of %s", units.Count(all.Lost), shotsSampled(all.Sampled), name),
				Try:  "what is shown of its inside is of the others; see that it sends all spans, and soon after they end",
			})
		case unseen > 0:
			out = append(out, Caution{
				Kind: LostSpans, See: InInside, Contender: name,
				What: fmt.Sprintf("%s of %s came too late, could not be read or found no room", units.Plural(int(unseen),
					"span"), name),
				Try: "trace fewer shots with traces: { of: … }, or see that spans are sent soon after they end",
			})
		}
		if share := float64(all.Sampled) / float64(max(shots, 1)); share > tracedFrac && all.Lost < all.Sampled {
			out = append(out, Caution{
				Kind: Traced, See: InInside, Contender: name,
				What: fmt.Sprintf("%s of the shots of %s were traced, and what that takes is in its figures",
					units.Share(share), name),
				Try: "trace fewer with traces: { of: … }, or see what it takes with a contender that is the same without " +
					"traces",
			})
		}
		if all.Shifted > time.Millisecond {
			out = append(out, Caution{
				Kind: OtherClock, See: InInside, Contender: name,
				What: fmt.Sprintf("a clock of the service of %s is off by up to %s", name, units.Duration(all.Shifted)),
				Try:  "its spans were put into the middle of what they are part of; how long they are does not depend on it",
			})
		}
	}
	return out
}

// tracedFrac is the share of shots from which on what tracing takes may show in figures.
const tracedFrac = 0.1

// lostFrac is the share of sampled shots of which no spans may come before that is told.
const lostFrac = 0.02

func shotsSampled(n int64) string { return units.Plural(int(n), "sampled shot") }

// told is how many of the heat's good shots told a mark.
func (h *heat) told(fig figure.Name) int64 {
	for i := range h.Splits {
		if h.Splits[i].Figure() == fig && h.lengths[i] != nil {
			return h.lengths[i].count
		}
	}
	return 0
}

// Thresholds of states that a plan asks for and that were not reached.
const (
	coldLeftFrac  = 0.05
	warmLacksFrac = 0.05
)

// footingCautions say what of the footing could not be had.
func footingCautions(r *result.Result) (out []Caution) {
	for _, text := range r.Footing.Cannot {
		out = append(out, Caution{
			Kind: Ground, See: InFooting, What: text,
			Try: "see under footing; run it where the machine can, or take it out of the plan",
		})
	}
	for _, e := range r.Entrants {
		stopped, first := 0, ""
		var cold, warm float64
		var unfilled []string
		for i := range r.Heats {
			h := &r.Heats[i]
			if h.Contender != e.Name {
				continue
			}
			if h.Stopped != "" {
				if stopped++; first == "" {
					first = h.Stopped
				}
			}
			cold, warm = max(cold, h.ColdLeft), max(warm, h.WarmLacks)
			for _, u := range h.Unfilled {
				if !slices.Contains(unfilled, u) {
					unfilled = append(unfilled, u)
				}
			}
		}
		if stopped > 0 {
			out = append(out, Caution{
				Kind: Ground, See: InFooting,
				What: fmt.Sprintf("%s: %s stopped: %s", e.Name, units.Plural(stopped, "heat"), first),
				Try:  "mend what stopped them; such heats are kept and not judged",
			})
		}
		if cold > coldLeftFrac {
			out = append(out, Caution{
				Kind: Ground, See: InFooting,
				What: fmt.Sprintf("%s: up to %s of its pages were still in memory before cold runs", e.Name, units.Share(cold)),
				Try:  "its cold figures are too good: see that nobody else uses those files, or keep the workspace on a disk",
			})
		}
		if warm > warmLacksFrac {
			out = append(out, Caution{
				Kind: Ground, See: InFooting,
				What: fmt.Sprintf("%s: up to %s of its pages were not in memory before warm runs", e.Name, units.Share(warm)),
				Try:  "its warm figures are too bad: see whether the machine has memory enough",
			})
		}
		if len(unfilled) > 0 {
			out = append(out, Caution{
				Kind: Ground, See: InFooting, What: fmt.Sprintf("%s: %s was empty before warm runs", e.Name,
					units.List(unfilled)),
				Try: "there is no cache there to keep warm; correct stores: in the plan",
			})
		}
	}
	return out
}

func firstCause(r *result.Result, name string) string {
	for _, h := range r.Of(name, result.AnyState) {
		if len(h.Causes) > 0 {
			return ": " + h.Causes[0]
		}
	}
	return ""
}

// Thresholds of a set rate that was not held.
const (
	unsentFrac  = 0.002
	lagOfMedian = 0.1 // of the median latency
)

// rateCautions say where the asking fell behind a set rate, for whoever's fault.
func rateCautions(r *result.Result) (out []Caution) {
	if !r.Plan.Pace.Open() || r.Plan.Pace.Climb != nil { // a climb is meant to find where it ends
		return nil
	}
	for _, e := range r.Entrants {
		t := total(r, e.Name, result.AnyState)
		if t.due > 0 && t.unsent/t.due > unsentFrac {
			out = append(out, Caution{
				Kind: Overload, See: InHeats,
				What: fmt.Sprintf(
					"%s could not keep %s: %s of %s shots were not sent before their heats were over", e.Name,
					units.Rate(r.Plan.Pace.Rate), units.Count(int64(t.unsent)), units.Count(int64(t.due)),
				),
				Try: "it is overloaded, so its latencies grow with the length of a heat; lower rate:, or raise most: if it " +
					"can " +
					"handle more at once",
			})
			continue
		}
		if lag, ok := t.lag/float64(t.heats), t.ok > 0; ok && t.unsent == 0 && lag > lagOfMedian*t.latency/t.ok &&
			lag > 0.001 {
			out = append(out, Caution{
				Kind: Overload, See: InHeats,
				What: fmt.Sprintf(
					"%s: at p99 shots started %s late, because all %d connections were busy or Pace Duel itself was late",
					e.Name, units.Seconds(lag), r.Plan.Pace.Most,
				),
				Try: "the lag is part of its latency; raise most:, lower rate:, or give Pace Duel a processor of its own " +
					"(own-cpus:)",
			})
		}
	}
	return out
}

func processes(n float64) string {
	if n == 1 {
		return "1 process"
	}
	return units.Count(int64(n)) + " processes"
}

// floorCautions say where the asking itself is a good part of what was measured.
func floorCautions(f *field) (out []Caution, err error) {
	for i := range f.r.Floor {
		histogram, err := f.r.Floor[i].Histogram()
		if err != nil {
			return nil, err
		}
		least := Quantile(histogram, 0.5)
		fastest, name := math.Inf(1), ""
		for _, e := range f.r.Entrants {
			for _, state := range f.r.States() {
				if p50 := Quantile(f.pooled[cell.Of(e.Name, state)], 0.5); e.Kind == f.r.Floor[i].Kind && p50 < fastest {
					fastest, name = p50, e.Name
				}
			}
		}
		if least > floorFrac*fastest && f.r.Plan.Pace.Climb == nil {
			out = append(out, Caution{
				Kind: Floor, See: InHeats,
				What: fmt.Sprintf(
					"a contender of kind %s that does nothing takes %s here, %s of the p50 of %s", f.r.Floor[i].Kind,
					units.Seconds(least), units.Share(min(least/fastest, 1)), name,
				),
				Try: "that part is the same for all and brings ratios closer to 1; give each shot more to do, or compare the " +
					"differences",
			})
		}
	}
	return out, nil
}

func roundCautions(r *result.Result, v *Verdict) (out []Caution) {
	if v.Rounds == 0 {
		return nil
	}
	if v.Rounds < stats.MinRounds {
		return []Caution{{
			Kind: FewRounds, See: InRatios,
			What: fmt.Sprintf("%s: an interval needs %d", units.Plural(v.Rounds, "complete round"), stats.MinRounds),
			Try:  "set rounds: " + fmt.Sprint(plan.DefaultRounds),
		}}
	}
	if own, least := v.unsettleable(); least > 0 {
		out = append(out, Caution{
			Kind: FewRounds, See: InRatios,
			What: fmt.Sprintf(
				"%s cannot settle any of %s together; that needs %d", units.Plural(v.Rounds, "round"), units.Plural(own,
					"figure"),
				least,
			),
			Try: "raise rounds:, name fewer rungs:, or the one figure that decides: in the plan",
		})
	}
	return out
}

// hostMeans are what the machine was like over the heats that are long enough to say.
type hostMeans struct {
	heats                            int
	own, others, steal, disk, memory float64 // shares of the machine's time, means over heats
	swapped, pause, slowest, fastest float64 // bytes in all; seconds in one heat; MHz of a heat
	processes                        bool    // whether contenders' processor time is known
}

func meansOf(r *result.Result) (m hostMeans) {
	m.slowest = math.Inf(1)
	for i := range r.Heats {
		h := &r.Heats[i]
		if h.Cut || h.Conditions.OthersUnknown || h.Wall.Seconds() < 0.01 {
			continue // too short for the clock that counts CPU time
		}
		m.heats++
		if mhz := h.Conditions.MHz; mhz > 0 {
			m.slowest, m.fastest = min(m.slowest, mhz), max(m.fastest, mhz)
		}
		m.own += h.Conditions.OwnFrac
		m.others += r.Others(h)
		m.steal += h.Conditions.StealFrac
		m.disk += h.Conditions.DiskPressure
		m.memory += h.Conditions.MemoryPressure
		m.swapped += float64(h.Conditions.SwapBytes)
		m.pause = max(m.pause, h.Conditions.Pauses.Seconds())
		if _, known := h.CPU(); known {
			m.processes = true
		}
	}
	for _, sum := range []*float64{&m.own, &m.others, &m.steal, &m.disk, &m.memory} {
		*sum /= float64(m.heats)
	}
	return m
}

// TakenByOthers is the share of this machine's time that other programs and its host took over a run's heats; ok is
// false where that is not known, as where a contender's own work cannot be told from it.
func TakenByOthers(r *result.Result) (share float64, ok bool) {
	m := meansOf(r)
	return m.others + m.steal, m.heats > 0 && m.processes
}

func hostCautions(r *result.Result) (out []Caution) {
	m := meansOf(r)
	add := func(kind CautionKind, try, what string, args ...any) {
		out = append(out, Caution{Kind: kind, See: InHeats, What: fmt.Sprintf(what, args...), Try: try})
	}
	if m.heats == 0 {
		if len(r.Heats) > 0 {
			add(Brief, "raise repeat:", "heats are so short that the machine's other load could not be measured")
		}
		return out
	}
	if m.own > busySelfFrac {
		add(Busy, "use fewer clients", "Pace Duel itself used %s of this machine: the asking may be what was measured",
			units.Share(m.own))
	}
	if m.processes && m.others > busyOthersFrac {
		add(OtherLoad, "stop them, or run at a quieter time", "other programs used %s of this machine meanwhile",
			units.Share(m.others))
	}
	if m.steal > stealFrac {
		add(OtherLoad, "trust ratios, not absolute times", "%s of this machine's time was taken by its host",
			units.Share(m.steal))
	}
	if m.slowest < slowerClock*m.fastest {
		add(OtherLoad, "set a fixed frequency, keep it cool, or trust ratios of many rounds alone",
			"the processors ran at %.0f MHz in one heat and at %.0f in another", m.slowest, m.fastest)
	}
	if m.disk > diskFrac {
		add(OtherLoad, "see whether that is the contenders' own work; if not, run it at a quieter time",
			"programs waited for a disk in %s of the time", units.Share(m.disk))
	}
	if m.memory > memoryFrac || m.swapped > 0 {
		add(OtherLoad, "free some, or ask for less at once",
			"memory was short: programs waited for it in %s of the time, %s went to swap",
			units.Share(m.memory), units.Bytes(m.swapped))
	}
	if m.pause > 0.005 {
		add(Busy, "shorten the heats", "our own memory collection paused for %s within one heat", units.Seconds(m.pause))
	}
	return out
}

// closeFactor is up to which ratio two processes of one program may differ: what is settled below it may be theirs.
const closeFactor = 1.25

// oneProcess says that a small difference may be that of two processes, where each contender had one: rounds tell how
// much they differ from heat to heat, and nothing of what differs between two starts of the same program.
func oneProcess(r *result.Result, v *Verdict) []Caution {
	if !slices.ContainsFunc(r.Entrants, func(e result.Entrant) bool { return e.OneProcess }) {
		return nil
	}
	for i := range v.Faces {
		for _, a := range v.Faces[i].Figures {
			settled := a.Main && (a.Word == Better || a.Word == Worse)
			if settled && !a.AgainstNone && a.Ratio < closeFactor && a.Ratio > 1/closeFactor {
				return []Caution{{
					Kind: OneProcess, See: InRatios,
					What: "contenders ran in one process each: two starts of one program may differ by as much as " +
						a.Factor() + " " + a.Figure.Comparative(a.Word == Better) + a.Figure.At(),
					Try: "set fresh: heat, so that starts even out",
				}}
			}
		}
	}
	return nil
}

// busyIdleFrac is from which share of a processor on a contender that has no turn is in the way of those that have.
const busyIdleFrac = 0.02

// idleCautions name contenders whose processes worked while others had their turn.
func idleCautions(r *result.Result) (out []Caution) {
	for _, e := range r.Entrants {
		used, rest := 0.0, 0.0
		for _, h := range r.Of(e.Name, result.AnyState) {
			used += float64(h.Amounts[shots.Idle])
			rest += float64(h.Amounts[shots.Rest])
		}
		if rest > 0 && used/rest > busyIdleFrac {
			out = append(out, Caution{
				Kind: OtherLoad, See: InHeats, Contender: e.Name, What: fmt.Sprintf(
					"%s used %s of a processor while others had their turn", e.Name, units.Share(used/rest),
				), Try: "have it wait for what it is asked, without looking for it",
			})
		}
	}
	return out
}

// queryPlans tell of databases that carried a statement out in another way than at the weigh-in.
func queryPlans(r *result.Result) (out []Caution) {
	for _, e := range r.Entrants {
		first, n, to := 0, 0, ""
		for _, h := range r.Of(e.Name, result.AnyState) {
			if h.QueryPlan == "" {
				continue
			}
			if n++; first == 0 || h.Round < first {
				first, to = h.Round, h.QueryPlan
			}
		}
		if n > 0 {
			line, _, _ := strings.Cut(strings.TrimSpace(to), "\n")
			out = append(out, Caution{
				Kind: OtherPlan, See: InAnswers, Contender: e.Name, What: fmt.Sprintf(
					"the database carries out %s in another way than at the weigh-in, after %s, first in round %d: %s", e.Name,
					units.Plural(n, "heat"), first, units.Printable(line),
				), Try: "bring its statistics up to date before the run, or see what changes its data meanwhile",
			})
		}
	}
	return out
}

// workCautions catch what makes contenders unequal without failing.
func workCautions(r *result.Result) (out []Caution) {
	least, most := math.Inf(1), 0.0
	var small, large string
	for _, e := range r.Entrants {
		t := total(r, e.Name, result.AnyState)
		if each := t.amount(shots.Connections) / t.shots; r.Plan.Pace.Clients > 0 && each > reconnectFrac {
			out = append(out, Caution{
				Kind: NewConnections, See: InRatios,
				What: fmt.Sprintf("%s opened %s new connections a shot", e.Name, units.Significant(each)),
				Try:  "see whether the server closes them, or set connections: new for all if that is what you compare",
			})
		}
		if e.Touch == nil || e.Touch.Class != "ok" {
			continue
		}
		b := float64(cmp.Or(e.Touch.Decoded, e.Touch.Bytes)) // how well it is compressed on its way is no matter of work
		if b < least {
			least, small = b, e.Name
		}
		if b > most {
			most, large = b, e.Name
		}
	}
	for _, e := range r.Entrants {
		if e.Touch == nil {
			continue
		}
		if e.Touch.Terminal {
			out = append(out, Caution{
				Kind: OnTerminal, See: InAnswers, Contender: e.Name,
				What: fmt.Sprintf("%s writes to a terminal: drawing %s for it is part of what was measured", e.Name,
					units.Bytes(
						float64(e.Touch.Bytes),
					)),
				Try: "see that this is what you compare; stdout: pipe or discard leaves the terminal out",
			})
		}
		for _, note := range e.Touch.Notes {
			out = append(out, Caution{
				Kind: UnequalWork, See: InAnswers, What: e.Name + " at the weigh-in: " + note,
				Try: "see what it answered under weigh-in",
			})
		}
	}
	if w := r.Weighing; w != nil && w.Ruled {
		if w.Accepted {
			out = append(out, Caution{
				Kind: UnequalWork, See: InAnswers,
				What: "unequal work was accepted: " + units.List(w.Unequal()) + " broke the plan's rules at the weigh-in",
				Try:  "see under weigh-in in what they differ",
			})
		}
		return out // the plan says what counts
	}
	return append(out, answersUnlike(r, small, large, least, most)...)
}

// apart is an amount of bytes, exact where as written for people it would look like the other one.
func apart(bytes, other float64) string {
	if text := units.Bytes(bytes); text != units.Bytes(other) {
		return text
	}
	return units.Count(int64(bytes)) + " B"
}

// answersUnlike tells of answers that differ, where the plan does not say what counts: by their size, from that of the
// contender that answers least to that of the one that answers most, else by what the weigh-in saw.
func answersUnlike(r *result.Result, small, large string, least, most float64) []Caution {
	one := Caution{Kind: UnequalWork, See: InAnswers}
	switch names := r.Weighing.Unequal(); {
	case small != "" && least == 0 && most > 0 && r.Entrant(small).OwnProcess:
		one.Contender = small
		one.What = fmt.Sprintf(
			"%s printed nothing where %s printed %s: it may have found nothing to do", small, large, units.Bytes(most),
		)
		one.Try = "see that it is given the same input, and what it wrote on standard error at the weigh-in"
	case small != "" && least != most:
		one.What = fmt.Sprintf(
			"the answers differ in size: %s %s, %s %s", small, apart(least, most), large, apart(most, least),
		)
		one.Try = "make sure that they do the same work"
	case len(names) > 0:
		one.What = fmt.Sprintf("%s did not answer as %s did: %s", units.List(names), r.Plan.Baseline, r.Weighing.First())
		one.Try = "see under weigh-in in what they differ; same: in the plan says what counts"
	default:
		return nil
	}
	return []Caution{one}
}

// climbCautions say where a climb ended before it found a limit.
func climbCautions(f *field) (out []Caution) {
	c := f.r.Plan.Pace.Climb
	if c == nil {
		return nil
	}
	for _, s := range f.sides() {
		name := s.Contender
		if s.State != "" {
			name += " " + s.State
		}
		_, first, last, n, _ := f.climbed(s)
		if last > 0 {
			out = append(out, Caution{Kind: ClimbEnds, See: InRatios, What: fmt.Sprintf(
				"%s held the highest level, %s, in %d of %d heats: it may hold more, and its ratio is cut short", name,
				load(c, c.Levels[len(c.Levels)-1]), last, n,
			), Try: "raise to: in the climb"})
		}
		if first > 0 {
			out = append(out, Caution{Kind: ClimbEnds, See: InRatios, What: fmt.Sprintf(
				"%s did not hold the lowest level, %s, in %d of %d heats: it holds less, and its ratio is cut short", name,
				load(c, c.Levels[0]), first, n,
			), Try: "lower from: in the climb"})
		}
	}
	return out
}

// growth finds services whose memory still grows with the shots that they answer in the second half of heats.
func (f *field) growth() (out []Caution) {
	for _, s := range f.sides() {
		each, rest, grown := f.grownBy(s)
		if len(each) < stats.MinRounds {
			continue
		}
		sample := stats.NewSample(each)
		low, high, ok := sample.Interval(f.alpha)
		if !ok || low <= 0 || grown < growthFrac*rest {
			continue
		}
		out = append(out, Caution{
			Kind: Growth, See: InMemory, Contender: s.Contender,
			What: fmt.Sprintf(
				"the service of %s still grows in the second half of its heats: by %s for every 1 000 shots (%s to %s)",
				s.String(),
				units.Bytes(sample.Centre()), units.Bytes(low), units.Bytes(high),
			),
			Try: "see whether that ends: run longer heats, with fresh: duel",
		})
	}
	return out
}

// serviceCautions are of services that lost processes to their limit of memory, and of shots after a silence that
// failed.
func serviceCautions(r *result.Result) (out []Caution) {
	for _, e := range r.Entrants {
		var killed int64
		asleep := map[string]int{}
		limits := ""
		for _, h := range r.Of(e.Name, result.AnyState) {
			if h.Service != nil && h.Service.Killed > 0 {
				killed += h.Service.Killed
				limits = h.Service.Limits
			}
			if h.WakeFailed != "" {
				asleep[h.WakeFailed]++
			}
		}
		if killed > 0 {
			out = append(out, Caution{Kind: Killed, See: InMemory, Contender: e.Name,
				What: fmt.Sprintf("%s of the service of %s were killed because they wanted more than %s", units.Plural(
					int(killed), "process",
				), e.Name, limits),
				Try: "what is left of it was measured; raise limits: memory: to see it whole"})
		}
		for _, class := range slices.Sorted(maps.Keys(asleep)) {
			out = append(out, Caution{Kind: Failing, See: InHeats, Contender: e.Name,
				What: fmt.Sprintf(
					"the shot after the silence failed for %s in %s: %s", e.Name, units.Plural(asleep[class], "heat"), class,
				),
				Try: "a kept connection may be closed on one that is idle: connections: new, or a shorter wake:"})
		}
	}
	return out
}

// A service is said to grow when it surely does, and by so much of what it held at rest within a heat.
const growthFrac = 0.01

// losses tell who does not keep what had been promised.
func losses(v *Verdict) (out []Caution) {
	for _, s := range v.Survival {
		if s.Losing > 0 {
			out = append(out, Caution{
				Kind: Losses, See: InSurvival,
				What: fmt.Sprintf("%s loses what it had acknowledged when its process dies: up to %s in a crash", s.Contender,
					units.Plural(int(s.Most), "record")),
				Try: "weigh that against its speed: it is bought with a promise",
			})
		}
	}
	return out
}

// mostAgain bounds how often over work is looked for.
const mostAgain = 64

// repeated tells who prints each line of the baseline's output several times over, as processes do of which each does
// all of the work.
func (f *field) repeated() (out []Caution) {
	base := f.r.Entrant(f.r.Plan.Baseline)
	if base == nil || base.Touch == nil {
		return nil
	}
	for i := range f.r.Entrants {
		e := &f.r.Entrants[i]
		if e.Touch == nil || e.Name == base.Name {
			continue
		}
		times := timesOver(base.Touch.Body, e.Touch.Body)
		if times < 2 {
			continue
		}
		what := fmt.Sprintf("%s prints what %s does %d times over", e.Name, base.Name, times)
		state := f.r.States()[0]
		more := f.typical(figure.CPU, cell.Of(e.Name, state)).V / f.typical(figure.CPU, cell.Of(base.Name, state)).V
		if more > float64(times)/2 {
			what += fmt.Sprintf(", and takes %s its CPU: it may do all of the work that often", units.Times(more))
		}
		out = append(out, Caution{
			Kind: Repeated, See: InAnswers, What: what, Try: "see whether each of its processes does a part, or all of it",
		})
	}
	return out
}

// timesOver is how many times over a text has every line of another; 0 where it has not.
func timesOver(of, text string) int {
	count := func(text string) map[string]int {
		lines := map[string]int{}
		for line := range strings.Lines(text) {
			lines[strings.TrimSpace(line)]++
		}
		return lines
	}
	base, own := count(of), count(text)
	if len(base) == 0 || len(base) != len(own) {
		return 0
	}
	times := 0
	for line, n := range base {
		if own[line]%n != 0 || own[line] == 0 || times != 0 && own[line]/n != times {
			return 0
		}
		times = own[line] / n
	}
	if times > mostAgain {
		return 0
	}
	return times
}
