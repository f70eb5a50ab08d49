package report_test

import (
	"bytes"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"paceduel/core/report"
)

var metricLine = regexp.MustCompile(`^([a-z_]+)\{(.*)\} ([-+0-9.eInf]+) ([0-9.]+)$`)

// Whoever reads OpenMetrics finds families whose samples stand together, with their types, and an end.
func TestOpenMetricsAsOthersReadIt(t *testing.T) {
	r, v := made(t)
	r.Entrants[1].Name = "joined | twice" // a name to be escaped stands in the claims
	r.Plan.Claims = append(r.Plan.Claims, `snapshot p50 under 1ms`)
	swept, s := madeSwept(t)
	for name, write := range map[string]func(*bytes.Buffer) error{
		"duel":  func(b *bytes.Buffer) error { return report.OpenMetrics(b, r, v, nil) },
		"sweep": func(b *bytes.Buffer) error { return report.OpenMetrics(b, swept, nil, s) },
	} {
		var out bytes.Buffer
		if err := write(&out); err != nil {
			t.Fatal(err)
		}
		text := out.String()
		if !strings.HasSuffix(text, "\n# EOF\n") || strings.Count(text, "# EOF") != 1 {
			t.Errorf("%s: it has no end", name)
		}
		family, seen := "", map[string]bool{}
		last := map[string]float64{}
		for line := range strings.Lines(text) {
			line = strings.TrimSuffix(line, "\n")
			if kind, ok := strings.CutPrefix(line, "# TYPE "); ok {
				family, _, _ = strings.Cut(kind, " ")
				if seen[family] {
					t.Errorf("%s: %s stands in two places", name, family)
				}
				seen[family] = true
			}
			if strings.HasPrefix(line, "#") {
				continue
			}
			m := metricLine.FindStringSubmatch(line)
			if m == nil || !strings.HasPrefix(m[1], family) {
				t.Fatalf("%s: %q in %s", name, line, family)
			}
			if strings.HasSuffix(m[1], "_bucket") { // counts never fall
				key, _, _ := strings.Cut(m[2], `,le=`)
				n, _ := strconv.ParseFloat(m[3], 64)
				if n < last[key] {
					t.Errorf("%s: %q comes after %v", name, line, last[key])
				}
				last[key] = n
			}
		}
		for _, want := range []string{"paceduel_run", "paceduel_figure_seconds", "paceduel_ratio",
			"paceduel_latency_seconds", "paceduel_shots"} {
			if !seen[want] {
				t.Errorf("%s: there is no %s", name, want)
			}
		}
	}
	var out bytes.Buffer
	if err := report.OpenMetrics(&out, r, v, nil); err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{
		`paceduel_ratio{duel="Berth board",contender="snapshot",baseline="per-vessel",figure="p50"} 1`,
		`paceduel_latency_seconds_count{duel="Berth board",contender="snapshot"} 6000 `,
		`paceduel_claim{duel="Berth board",claim="snapshot at least 5x faster than per-vessel",paceduel_claim="upheld"} 1 `,
		`paceduel_shots_total{duel="Berth board",contender="joined | twice"} 6000 `,
	} {
		if !strings.Contains(out.String(), want) {
			t.Errorf("it lacks %q", want)
		}
	}
}
