package judge

import (
	"fmt"
	"math"
	"slices"
	"time"

	"paceduel/core/contender"
	"paceduel/core/plan"
	"paceduel/core/result"
	"paceduel/core/units"
)

// scorecard counts what is not a ratio of latencies: failures, bytes, connections, CPU; state by state where there are
// two.
func scorecard(r *result.Result) []Row {
	count := func(x float64) string { return units.Count(int64(x)) }
	var rows []Row
	add := func(rw Row) {
		for _, a := range rw.Amount {
			if !math.IsNaN(a) && a > 0 {
				rows = append(rows, rw)
				return
			}
		}
	}
	each := func(name string, lower bool, amount func(totals) float64, show func(float64) string) {
		for _, state := range r.States() {
			title := name
			if len(r.States()) > 1 {
				title += ", " + state
			}
			add(row(r, title, state, lower, amount, show))
		}
	}
	rows = append(rows, row(r, "shots that count", result.AnyState, false, func(t totals) float64 { return t.shots }, count))
	rows[0].Plain = true
	warm := row(r, "warm-up, not judged", result.AnyState, false, func(t totals) float64 { return t.warm }, count)
	warm.Plain = true
	add(warm)
	rows = append(rows, row(r, "failures", result.AnyState, true, func(t totals) float64 { return t.failed / t.shots }, units.Share))
	sampled := row(r, "answers compared", result.AnyState, false, func(t totals) float64 { return t.sampled }, count)
	sampled.Plain = true
	add(sampled)
	if !r.Plan.Pace.Sequential() && r.Plan.Pace.Climb == nil {
		each("throughput", false, totals.throughput, units.Rate)
	}
	each("CPU a run", true, func(t totals) float64 { return t.cpu / t.shots }, units.Seconds)
	each("of it in the kernel", true, func(t totals) float64 { return t.used.System.Seconds() / t.shots }, units.Seconds)
	add(row(r, "to the first byte", result.AnyState, true, func(t totals) float64 { return unlessNone(t.firstByte) / t.ok }, units.Seconds))
	add(row(r, "connecting, each", result.AnyState, true, func(t totals) float64 { return unlessNone(t.connecting) / t.connects }, units.Seconds))
	perRun := func(name string, amount func(totals) int64) {
		each(name, true, func(t totals) float64 { return float64(amount(t)) / t.shots }, units.Significant)
	}
	memory := row(r, "peak memory", result.AnyState, true, func(t totals) float64 { return unlessNone(t.peak) }, units.Bytes)
	for i, e := range r.Entrants {
		if e.Touch != nil && e.Touch.Peak > 0 && !(memory.Amount[i] > float64(e.Touch.Peak)) {
			memory.Amount[i], memory.Values[i] = float64(e.Touch.Peak), units.Bytes(float64(e.Touch.Peak))
		}
	}
	add(memory)
	perRun("waits a run", func(t totals) int64 { return t.used.Yields })
	perRun("preemptions a run", func(t totals) int64 { return t.used.Preempted })
	perRun("page faults a run", func(t totals) int64 { return t.used.Faults + t.used.Loads })
	each("read from disk a run", true, func(t totals) float64 { return float64(t.used.Read) / t.shots }, units.Bytes)
	each("written to disk a run", true, func(t totals) float64 { return float64(t.used.Written) / t.shots }, units.Bytes)
	each("received a shot", true, func(t totals) float64 { return t.received / t.shots }, units.Bytes)
	perRun("redirects a shot", func(t totals) int64 { return t.redirects })
	perRun("output lines a run", func(t totals) int64 { return t.lines })
	add(row(r, "processes left behind", result.AnyState, true, func(t totals) float64 { return t.left }, count))
	if r.Plan.Pace.Open() && r.Plan.Pace.Climb == nil {
		each("not sent in time", true, func(t totals) float64 { return t.unsent / t.due }, units.Share)
		lag := row(r, "send lag at p99", result.AnyState, true, func(t totals) float64 { return t.lag / float64(t.heats) }, units.Seconds)
		lag.Plain = true
		add(lag)
	}
	add(row(r, "sent a shot", result.AnyState, true, func(t totals) float64 { return t.sent / t.shots }, units.Bytes))
	add(row(r, "new connections a shot", result.AnyState, true, func(t totals) float64 { return t.connects / t.shots }, func(x float64) string { return units.Significant(x) }))
	first := row(r, "first touch", result.AnyState, true, // one shot each: to be seen, not to be compared
		func(totals) float64 { return math.NaN() }, units.Seconds)
	for i, e := range r.Entrants {
		if e.Touch != nil {
			first.Amount[i] = e.Touch.Latency.Seconds()
			first.Values[i] = units.Seconds(first.Amount[i])
		}
	}
	first.Plain = true
	add(first)
	versions, told := Row{Name: "version", Plain: true}, false
	for _, e := range r.Entrants {
		text := units.None
		if e.Version != "" {
			text, told = e.Version, true
		}
		versions.Values, versions.Amount = append(versions.Values, text), append(versions.Amount, math.NaN())
	}
	if told {
		rows = append(rows, versions)
	}
	return rows
}

// totals are a contender's sums over the heats that count.
type totals struct {
	shots, failed, ok, warm, sampled, due, unsent, lag, latency, busy, cpu, received, sent, connects float64
	peak, firstByte, connecting                                                                      float64
	used                                                                                             contender.Resources
	clients                                                                                          float64
	heats                                                                                            int
	redirects, lines                                                                                 int64
	left                                                                                             float64
}

func (t totals) throughput() float64 {
	if t.ok == 0 {
		return 0
	}
	return t.ok * t.clients / t.busy
}

func total(r *result.Result, name, state string) (t totals) {
	t.cpu = math.NaN()
	for _, h := range r.Of(name, state) {
		t.sampled += float64(h.Sampled)
		t.due += float64(h.Due)
		t.unsent += float64(h.Unsent)
		t.lag += h.LagP99.Seconds()
		t.heats++
		t.redirects += h.Redirects
		t.lines += h.Lines
		t.left += float64(h.LeftBehind)
		t.shots += float64(h.Shots())
		t.failed += float64(h.Failed())
		t.ok += float64(h.OK)
		t.warm += float64(h.Warmup)
		t.firstByte += h.FirstByteSum.Seconds()
		t.connecting += h.ConnectSum.Seconds()
		t.peak = max(t.peak, float64(h.Peak))
		t.used.Add(h.Resources)
		t.latency += h.LatencySum.Seconds()
		t.busy += h.Busy.Seconds()
		t.received += float64(h.Received)
		t.sent += float64(h.Sent)
		t.connects += float64(h.Connects)
		t.clients = float64(h.Clients)
		if h.CPUKnown {
			if math.IsNaN(t.cpu) {
				t.cpu = 0
			}
			t.cpu += h.CPU.Seconds()
		}
	}
	return t
}

func row(r *result.Result, name, state string, lower bool, amount func(totals) float64, show func(float64) string) Row {
	out := Row{Name: name, Lower: lower, interest: float64(r.Plan.Interest)}
	for _, e := range r.Entrants {
		t := total(r, e.Name, state)
		x := math.NaN()
		if t.shots > 0 {
			x = amount(t)
		}
		text := units.None
		if !math.IsNaN(x) {
			text = show(x)
		}
		out.Amount = append(out.Amount, x)
		out.Values = append(out.Values, text)
	}
	return out
}

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
func cautions(r *result.Result, v *Verdict) (out []Caution) {
	add := func(try, what string, args ...any) { out = append(out, Caution{fmt.Sprintf(what, args...), try}) }
	switch r.Ending {
	case result.Interrupted:
		add("run it again for the full number of rounds", "interrupted: %d of %d rounds are complete", v.Rounds, r.Plan.Rounds)
	case result.CutOff:
		add("run it again", "cut off in mid-run: %d of %d rounds are complete", v.Rounds, r.Plan.Rounds)
	case result.Failed:
		add("see the reason and run it again", "not completed: %s", r.Reason)
	}
	for _, e := range r.Entrants {
		if failed, shots := failures(r, e.Name, result.AnyState); failed > 0 {
			add("compare only what works: see the first failures in the log", "%s: %s of %s shots failed (%s)%s",
				e.Name, units.Count(failed), units.Count(shots), units.Share(float64(failed)/float64(shots)), firstCause(r, e.Name))
		}
	}
	for _, e := range r.Entrants {
		if t := total(r, e.Name, result.AnyState); t.left > 0 {
			add("have it end what it starts, or wait for it: what was left ran beside others until it was ended", "%s left %s behind in %s", e.Name, processes(t.left), units.Plural(int(t.shots), "run"))
		}
		if e.LeftOut > 0 {
			add("run it again with all", "%s was left out from round %d on", e.Name, e.LeftOut)
		}
	}
	if r.Paused > pausedLong {
		add("compare within one sitting", "the run was paused for %s: the machine may have changed meanwhile", units.Duration(r.Paused))
	}
	out = append(out, roundCautions(r, v)...)
	out = append(out, footingCautions(r)...)
	out = append(out, hostCautions(r)...)
	out = append(out, workCautions(r)...)
	out = append(out, rateCautions(r)...)
	if r.Plan.Pace.Clients > 0 {
		add("see p99 as what a client waits that asks again only when answered", "closed model: a server that stalls also stalls the asking, so stalls are under-counted")
	}
	for _, e := range r.Entrants {
		if e.Avoid != "" {
			add("the plan says so", "%s is not for when %s", e.Name, e.Avoid)
		}
	}
	return out
}

// Thresholds of states that a plan asks for and that were not reached.
const (
	coldLeftFrac  = 0.05
	warmLacksFrac = 0.05
)

// footingCautions say what of the footing could not be had.
func footingCautions(r *result.Result) (out []Caution) {
	for _, text := range r.Footing.Cannot {
		out = append(out, Caution{text, "see under footing; run it where the machine can, or take it out of the plan"})
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
			out = append(out, Caution{fmt.Sprintf("%s: %s stopped by the footing: %s", e.Name, units.Plural(stopped, "heat"), first), "mend that step; stopped heats are kept and not judged"})
		}
		if cold > coldLeftFrac {
			out = append(out, Caution{fmt.Sprintf("%s: up to %s of its pages were still in memory before cold runs", e.Name, units.Share(cold)), "its cold figures are too good: see that nobody else uses those files, or keep the workspace on a disk"})
		}
		if warm > warmLacksFrac {
			out = append(out, Caution{fmt.Sprintf("%s: up to %s of its pages were not in memory before warm runs", e.Name, units.Share(warm)), "its warm figures are too bad: see whether the machine has memory enough"})
		}
		if len(unfilled) > 0 {
			out = append(out, Caution{fmt.Sprintf("%s: %s was empty before warm runs", e.Name, units.List(unfilled)), "it has no cache there to be warm: correct stores: in the plan"})
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
				fmt.Sprintf("%s could not keep %s: %s of %s shots were not sent before their heats were over", e.Name, units.Rate(r.Plan.Pace.Rate), units.Count(int64(t.unsent)), units.Count(int64(t.due))),
				"its latencies are those of an overload and grow with the length of a heat; lower rate:, or raise most: if it would bear more at once",
			})
			continue
		}
		if lag, ok := t.lag/float64(t.heats), t.ok > 0; ok && t.unsent == 0 && lag > lagOfMedian*t.latency/t.ok && lag > 0.001 {
			out = append(out, Caution{
				fmt.Sprintf("%s: shots started up to %s after they were due at p99, all %d connections being busy or the asking itself being late", e.Name, units.Seconds(lag), r.Plan.Pace.Most),
				"the lag is part of its latency; raise most:, lower rate:, or give Pace Duel a processor of its own (own-cpus:)",
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
				if p50 := Quantile(f.pooled[side{e.Name, state}], 0.5); e.Kind == f.r.Floor[i].Kind && p50 < fastest {
					fastest, name = p50, e.Name
				}
			}
		}
		if least > floorFrac*fastest && f.r.Plan.Pace.Climb == nil {
			out = append(out, Caution{
				fmt.Sprintf("driving alone takes %s here (a contender of kind %s that does nothing), %s of the p50 of %s", units.Seconds(least), f.r.Floor[i].Kind, units.Share(min(least/fastest, 1)), name),
				"ratios are diluted by that much; give each shot more to do, or compare the differences",
			})
		}
	}
	return out, nil
}

func roundCautions(r *result.Result, v *Verdict) (out []Caution) {
	if v.Rounds == 0 {
		return nil
	}
	if v.Rounds < minRounds {
		return []Caution{{fmt.Sprintf("%s: an interval needs %d", units.Plural(v.Rounds, "complete round"), minRounds), "set rounds: " + fmt.Sprint(plan.DefaultRounds)}}
	}
	if v.Decides != "" {
		return nil
	}
	m := 0
	for _, f := range v.Faces {
		for _, a := range f.Figures {
			if a.Corrected {
				m++
			}
		}
	}
	if least := leastRounds(max(m, 1)); v.Rounds < least {
		out = append(out, Caution{
			fmt.Sprintf("%d rounds cannot settle any of %d figures together; that needs %d", v.Rounds, m, least),
			"raise rounds:, or name the figure that decides: in the plan",
		})
	}
	return out
}

func hostCautions(r *result.Result) (out []Caution) {
	var own, others, steal, pause, wall, disk, memory, swapped, fastest float64
	slowest := math.Inf(1) // clock of a heat
	n := 0.0
	commands := false
	for i := range r.Heats {
		h := &r.Heats[i]
		if h.Cut || h.Wall.Seconds() < 0.1 {
			continue // too short for the clock that counts CPU time
		}
		n++
		if mhz := h.Conditions.MHz; mhz > 0 {
			slowest, fastest = min(slowest, mhz), max(fastest, mhz)
		}
		own += h.Conditions.OwnFrac
		others += h.Conditions.OthersFrac
		steal += h.Conditions.StealFrac
		disk += h.Conditions.DiskPressure
		memory += h.Conditions.MemoryPressure
		swapped += float64(h.Conditions.SwapBytes)
		pause = max(pause, h.Conditions.Pauses.Seconds())
		wall += h.Wall.Seconds()
		commands = commands || h.CPUKnown
	}
	if n == 0 {
		if len(r.Heats) > 0 {
			out = append(out, Caution{"heats are so short that the machine's other load could not be measured", "raise repeat:"})
		}
		return out
	}
	if own/n > busySelfFrac {
		out = append(out, Caution{fmt.Sprintf("Pace Duel itself used %s of this machine: the asking may be what was measured", units.Share(own/n)), "use fewer clients"})
	}
	if commands && others/n > busyOthersFrac {
		out = append(out, Caution{fmt.Sprintf("other programs used %s of this machine meanwhile", units.Share(others/n)), "stop them, or run at a quieter time"})
	}
	if steal/n > stealFrac {
		out = append(out, Caution{fmt.Sprintf("%s of this machine's time was taken by its host", units.Share(steal/n)), "trust ratios, not absolute times"})
	}
	if slowest < slowerClock*fastest {
		out = append(out, Caution{fmt.Sprintf("the processors ran at %.0f MHz in one heat and at %.0f in another", slowest, fastest), "set a fixed frequency, keep it cool, or trust ratios of many rounds alone"})
	}
	if disk/n > diskFrac {
		out = append(out, Caution{fmt.Sprintf("somebody waited for a disk in %s of the time", units.Share(disk/n)), "see whether that is the contenders' own work; if not, run it at a quieter time"})
	}
	if memory/n > memoryFrac || swapped > 0 {
		out = append(out, Caution{fmt.Sprintf("memory was short: somebody waited for it in %s of the time, %s went to swap", units.Share(memory/n), units.Bytes(swapped)), "free some, or ask for less at once"})
	}
	if pause > 0.005 {
		out = append(out, Caution{fmt.Sprintf("our own memory collection paused for %s within one heat", units.Seconds(pause)), "shorten the heats"})
	}
	return out
}

// workCautions catch what makes contenders unequal without failing.
func workCautions(r *result.Result) (out []Caution) {
	least, most := math.Inf(1), 0.0
	var small, large string
	for _, e := range r.Entrants {
		t := total(r, e.Name, result.AnyState)
		if t.shots > 0 && r.Plan.Pace.Clients > 0 && t.connects/t.shots > reconnectFrac {
			out = append(out, Caution{
				fmt.Sprintf("%s opened %s new connections a shot", e.Name, units.Significant(t.connects/t.shots)),
				"see whether the server closes them, or set connections: new for all if that is what you compare",
			})
		}
		if e.Touch == nil || e.Touch.Class != "ok" {
			continue
		}
		if b := float64(e.Touch.Bytes); b < least {
			least, small = b, e.Name
		}
		if b := float64(e.Touch.Bytes); b > most {
			most, large = b, e.Name
		}
	}
	for _, e := range r.Entrants {
		if e.Touch == nil {
			continue
		}
		for _, note := range e.Touch.Notes {
			out = append(out, Caution{e.Name + " at the weigh-in: " + note, "see what it answered under weigh-in"})
		}
	}
	if w := r.Weighing; w != nil && w.Ruled {
		if w.Accepted {
			out = append(out, Caution{"unequal work was accepted: " + units.List(w.Unequal()) + " broke the plan's rules at the weigh-in", "see under weigh-in in what they differ"})
		}
		return out // the plan says what counts
	}
	if small != "" && least != most {
		out = append(out, Caution{
			fmt.Sprintf("the answers differ in size: %s %s, %s %s", small, units.Bytes(least), large, units.Bytes(most)),
			"make sure that they do the same work",
		})
	}
	return out
}

// unlessNone is a figure of which 0 says that it is not known.
func unlessNone(x float64) float64 {
	if x == 0 {
		return math.NaN()
	}
	return x
}
