package report

import (
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"

	"paceduel/core/figure"
	"paceduel/core/judge"
	"paceduel/core/result"
	"paceduel/core/units"
)

// OpenMetrics writes a finished run's figures as OpenMetrics text, version 1.0: for each contender its figures, ratios
// to the baseline with their intervals, shots, failures, latencies as a histogram, and what came of claims. Samples
// carry the time at which the run ended. Of a sweep each point is written, with its place as a label.
func OpenMetrics(out io.Writer, r *result.Result, v *judge.Verdict, s *judge.Sweep) error {
	m := newMetrics(r)
	m.info()
	if s == nil {
		m.verdict(r, v, "")
	} else {
		for i := range r.Sweep.Points {
			if at := s.Ready(i); at != nil {
				m.verdict(r.AtPoint(i), at, r.Sweep.Say(r.Sweep.Points[i].At))
			}
		}
	}
	claims := []judge.Claim(nil)
	if s != nil {
		claims = s.Claims
	} else if v != nil {
		claims = v.Claims
	}
	for _, c := range claims {
		for _, finding := range []judge.Finding{judge.Upheld, judge.Refuted, judge.Undecided} {
			set := 0.0
			if c.Finding == finding {
				set = 1
			}
			m.sample("paceduel_claim", set, "claim", c.Text, "paceduel_claim", string(finding))
		}
	}
	_, err := io.WriteString(out, m.text())
	return err
}

// family is a metric with its samples. All samples of a family stand together.
type family struct {
	name, kind, unit, help string
	lines                  []string
}

// metrics are the families in the order in which they are written.
type metrics struct {
	r        *result.Result
	families []*family
	at       string // the time of every sample
}

func newMetrics(r *result.Result) *metrics {
	ended := r.Ended
	if ended.IsZero() {
		ended = r.Started
	}
	return &metrics{r: r, at: strconv.FormatFloat(float64(ended.UnixMilli())/1000, 'f', 3, 64), families: []*family{
		{"paceduel_run", "info", "", "The run that all of this is of.", nil},
		{"paceduel_figure_seconds", "gauge", "seconds", "A time of the typical heat of a contender.", nil},
		{"paceduel_figure_bytes", "gauge", "bytes", "An amount of memory or data of the typical heat of a contender.", nil},
		{"paceduel_figure", "gauge", "", "Any other figure of the typical heat of a contender, in the unit that is said.",
			nil},
		{"paceduel_ratio", "gauge", "", "How many times better than the baseline a contender is.", nil},
		{"paceduel_ratio_low", "gauge", "", "Where the 95 % interval of the ratio begins.", nil},
		{"paceduel_ratio_high", "gauge", "", "Where the 95 % interval of the ratio ends.", nil},
		{"paceduel_latency_seconds", "histogram", "seconds", "How long the shots that count took.", nil},
		{"paceduel_shots", "counter", "", "Shots that count.", nil},
		{"paceduel_failed_shots", "counter", "", "Shots that failed.", nil},
		{"paceduel_claim", "stateset", "", "What came of a claim of the plan.", nil},
	}}
}

// labels writes names and values; empty values are left out.
func labels(pairs ...string) string {
	var out []string
	escape := strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`)
	for i := 0; i+1 < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			out = append(out, pairs[i]+`="`+escape.Replace(units.Printable(pairs[i+1]))+`"`)
		}
	}
	return "{" + strings.Join(out, ",") + "}"
}

// sample adds one to the family whose name a metric's begins with.
func (m *metrics) sample(name string, value float64, pairs ...string) {
	if math.IsNaN(value) {
		return
	}
	var of *family
	for _, f := range m.families {
		if name == f.name || (strings.HasPrefix(name, f.name+"_") && (f.kind == "histogram" || f.kind == "counter" ||
			f.kind == "info")) && (of == nil || len(f.name) > len(of.name)) {
			of = f
		}
	}
	pairs = append([]string{"duel", m.r.Plan.Name}, pairs...)
	of.lines = append(of.lines, fmt.Sprintf("%s%s %s %s", name, labels(pairs...), strconv.FormatFloat(value, 'g', -1, 64),
		m.at))
}

func (m *metrics) info() {
	m.sample("paceduel_run_info", 1, "run", m.r.ID, "program", m.r.Program, "baseline", m.r.Plan.Baseline, "ending",
		string(m.r.Ending), "plan", m.r.Plan.SHA256, "cpu", m.r.Host.CPU, "kernel", m.r.Host.Kernel)
}

// verdict adds what a verdict has, at a point of a sweep.
func (m *metrics) verdict(r *result.Result, v *judge.Verdict, point string) {
	seen := map[string]bool{}
	for _, face := range v.Faces {
		for _, a := range face.Figures {
			for _, side := range []struct {
				name string
				v    judge.Value
			}{{v.Baseline, a.Baseline}, {face.Contender, a.Contender}} {
				if key := side.name + "\x00" + a.State + "\x00" + string(a.Figure); !seen[key] {
					seen[key] = true
					m.figure(a.Figure, side.v.V, side.name, a.State, point)
				}
			}
			if a.Rounds == 0 || a.AgainstNone {
				continue
			}
			own := []string{"contender", face.Contender, "baseline", v.Baseline, "state", a.State, "point", point, "figure",
				a.Figure.Spoken()}
			m.sample("paceduel_ratio", a.Ratio, own...)
			m.sample("paceduel_ratio_low", a.Low, own...)
			m.sample("paceduel_ratio_high", a.High, own...)
		}
	}
	for _, c := range r.Cells() {
		lane, ok := v.Lanes[c]
		if !ok {
			continue
		}
		own := []string{"contender", c.Contender, "state", c.State, "point", point}
		m.sample("paceduel_shots_total", float64(lane.Shots), own...)
		m.sample("paceduel_failed_shots_total", float64(lane.Failed), own...)
		m.latencies(r, c.Contender, c.State, own)
	}
}

func (m *metrics) figure(f figure.Name, value float64, contender, state, point string) {
	name, unit := "paceduel_figure", string(f.Unit())
	switch f.Unit() {
	case units.Second, units.Nanosecond, "":
		name, unit = "paceduel_figure_seconds", ""
	case units.Byte:
		name, unit = "paceduel_figure_bytes", ""
	case units.Part:
		unit = "share"
	}
	m.sample(name, value, "contender", contender, "state", state, "point", point, "figure", f.Spoken(), "unit", unit)
}

// latencies adds a contender's as a histogram whose buckets end at 1, 2 and 5 times powers of ten.
func (m *metrics) latencies(r *result.Result, contender, state string, own []string) {
	var all result.Sum
	sum := 0.0
	for _, h := range r.Of(contender, state) {
		d, err := h.Histogram()
		if err != nil {
			return
		}
		all.Add(d)
		sum += h.LatencySum.Seconds()
	}
	d := all.Distribution()
	if d.TotalCount() == 0 {
		return
	}
	const from, to = 1e-6, 1e3 // seconds
	seen, at := int64(0), 0
	for power := from; power < to; power *= 10 {
		for _, step := range []float64{1, 2, 5} {
			edge := power * step
			for at < len(d.Bars) && float64(d.Bars[at].To)/d.PerUnit <= edge*(1+1e-9) {
				seen += d.Bars[at].Count
				at++
			}
			m.sample("paceduel_latency_seconds_bucket", float64(seen), append(slices.Clone(own), "le",
				strconv.FormatFloat(edge, 'g', 3, 64))...)
		}
	}
	m.sample("paceduel_latency_seconds_bucket", float64(d.TotalCount()), append(slices.Clone(own), "le", "+Inf")...)
	m.sample("paceduel_latency_seconds_sum", sum, own...)
	m.sample("paceduel_latency_seconds_count", float64(d.TotalCount()), own...)
}

// text is all of it, each family with what it is.
func (m *metrics) text() string {
	var out strings.Builder
	for _, f := range m.families {
		if len(f.lines) == 0 {
			continue
		}
		fmt.Fprintf(&out, "# TYPE %s %s\n", f.name, f.kind)
		if f.unit != "" {
			fmt.Fprintf(&out, "# UNIT %s %s\n", f.name, f.unit)
		}
		fmt.Fprintf(&out, "# HELP %s %s\n%s\n", f.name, f.help, strings.Join(f.lines, "\n"))
	}
	return out.String() + "# EOF\n"
}
