package judge

import (
	"math"

	"paceduel/core/contender"
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
	rows = append(rows, startRows(r)...)
	rows = append(rows, serviceRows(r)...)
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
	add(row(r, "connections replaced", result.AnyState, true, func(t totals) float64 { return unlessNone(t.replaced) }, func(x float64) string { return units.Count(int64(x)) }))
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
	shots, failed, ok, warm, sampled, due, unsent, lag, latency, busy, cpu, received, sent, connects, replaced float64
	peak, firstByte, connecting                                                                                float64
	used                                                                                                       contender.Resources
	clients                                                                                                    float64
	heats                                                                                                      int
	redirects, lines                                                                                           int64
	left                                                                                                       float64
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
		t.replaced += float64(h.Replaced)
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
