package parts_test

import (
	"math"
	"strings"
	"testing"

	"charm.land/lipgloss/v2"

	"paceduel/core/chart"
	"paceduel/screen/parts"
)

func TestFitIsExact(t *testing.T) {
	text := "short\n" + strings.Repeat("long ", 30) + "\n◆ wide — sign"
	for _, w := range []int{1, 5, 40} {
		for _, h := range []int{1, 2, 9} {
			lines := strings.Split(parts.Fit(text, w, h), "\n")
			if len(lines) != h {
				t.Errorf("%dx%d: %d lines", w, h, len(lines))
			}
			for _, l := range lines {
				if lipgloss.Width(l) != w {
					t.Errorf("%dx%d: line %q is %d wide", w, h, l, lipgloss.Width(l))
				}
			}
		}
	}
	if parts.Fit(text, 0, 3) != "" || parts.Fit(text, 3, -1) != "" {
		t.Error("no room gives text")
	}
}

func TestWrapBreaksAtSpacesOnly(t *testing.T) {
	tests := []struct {
		text string
		w    int
		want string
	}{
		{"joined is 3.4x faster than per-vessel", 16, "joined is 3.4x|faster than|per-vessel"},
		{"a  b\n c", 10, "a b c"},
		{"", 5, ""},
		{"abcdefghijkl mn", 5, "abcde|fghij|kl mn"},
		{"ab abcdefgh", 5, "ab|abcde|fgh"},
		{"µµµµ µ", 3, "µµµ|µ µ"},
		{"up to 1 143 of 20.0 ms.", 9, "up to|1 143 of|20.0 ms."},
		{"1 143 567", 5, "1 143|567"},
	}
	for _, tt := range tests {
		if got := strings.Join(parts.Wrap(tt.text, tt.w), "|"); got != tt.want {
			t.Errorf("Wrap(%q, %d) = %q; want %q", tt.text, tt.w, got, tt.want)
		}
	}
}

func TestBarsGrowOutward(t *testing.T) {
	plain := lipgloss.NewStyle()
	nan := math.NaN()
	tests := []struct {
		bar         chart.Bar
		left, right string
	}{
		{chart.Bar{Length: 0, Low: nan, High: nan}, "        ", "        "},
		{chart.Bar{Length: 0.5, Low: nan, High: nan}, "    ████", "████    "},
		{chart.Bar{Length: 1, Low: nan, High: nan}, "████████", "████████"},
		{chart.Bar{Length: 0.6875, Low: nan, High: nan}, "  ▐█████", "█████▌  "},
		{chart.Bar{Length: 1e-6, Low: nan, High: nan}, "       ▐", "▎       "},
		{chart.Bar{Length: 0.5, Low: 0.25, High: 0.6}, "    ▓▓██", "██▓▓    "},
	}
	for _, tt := range tests {
		if got := parts.OutwardLeft(tt.bar, 8, plain); got != tt.left {
			t.Errorf("left of %+v = %q; want %q", tt.bar, got, tt.left)
		}
		if got := parts.OutwardRight(tt.bar, 8, plain); got != tt.right {
			t.Errorf("right of %+v = %q; want %q", tt.bar, got, tt.right)
		}
	}
}

func TestAxisLeavesRoomBetweenLabels(t *testing.T) {
	ticks := []chart.Tick{{
		At: 0, Label: "0 s",
	}, {At: 0.25, Label: "5 ms"}, {At: 0.5, Label: "10 ms"}, {At: 0.75, Label: "15 ms"}, {At: 1, Label: "20 ms"}}
	tests := []struct {
		w        int
		mirrored bool
		want     string
	}{
		{40, false, "0 s     5 ms      10 ms    15 ms   20 ms"},
		{40, true, "20 ms   15 ms    10 ms      5 ms     0 s"},
		{20, false, "0 s     10 ms  20 ms"},
		{9, false, "0 s      "},
		{2, false, "  "},
	}
	for _, tt := range tests {
		if got := parts.Axis(ticks, tt.w, tt.mirrored); got != tt.want {
			t.Errorf("axis of %d, mirrored %v = %q; want %q", tt.w, tt.mirrored, got, tt.want)
		}
	}
}

func TestPlotSetsDots(t *testing.T) {
	p := parts.NewPlot(3, 2)
	p.Dot(chart.Dot{X: 0, Y: 0})
	p.Dot(chart.Dot{X: 0.999, Y: 0.999})
	p.Dot(chart.Dot{X: 1, Y: 1})
	p.Dot(chart.Dot{X: 0.5, Y: 0.1, Failed: true})
	got := strings.Join(p.Lines(lipgloss.NewStyle(), lipgloss.NewStyle()), "\n")
	if want := "  ⠈\n⡀× "; got != want {
		t.Errorf("plot = %q; want %q", got, want)
	}
	if lines := parts.NewPlot(0, -1).Lines(lipgloss.NewStyle(), lipgloss.NewStyle()); len(lines) != 0 {
		t.Errorf("an empty plot has %d lines", len(lines))
	}
}

func TestTraceIsLevelAtOne(t *testing.T) {
	tests := []struct {
		ratios []float64
		want   string
	}{
		{[]float64{2, 0.5, 1, math.NaN()}, "█▁▅·"},
		{[]float64{1, 1}, "▅▅"},
		{[]float64{9, 9, 4, 2}, "▇▆"},
		{nil, ""},
	}
	for i, tt := range tests {
		w := 8
		if i == 2 {
			w = 2
		}
		if got := parts.Trace(tt.ratios, w); i != 2 && got != tt.want || i == 2 && len([]rune(got)) != 2 {
			t.Errorf("Trace(%v) = %q; want %q", tt.ratios, got, tt.want)
		}
	}
}

func TestWindowShowsTheLineAtHand(t *testing.T) {
	lines := strings.Split("a b c d e f g h", " ")
	for at := range lines {
		got := parts.Window(lines, at, 3)
		if len(got) != 3 || !strings.Contains(strings.Join(got, ""), lines[at]) {
			t.Errorf("window at %d = %v", at, got)
		}
	}
	if got := parts.Window(lines, 0, 20); len(got) != 8 {
		t.Errorf("window with room for all = %v", got)
	}
}

// Dots are seen by how dense they are, levels over them, failures in the uppermost row.
func TestACloudShowsDensity(t *testing.T) {
	c := parts.NewCloud(4, 3)
	for range 40 {
		c.Dot(chart.Dot{X: 0.1, Y: 0.1})
	}
	for range 4 {
		c.Dot(chart.Dot{X: 0.4, Y: 0.1})
	}
	c.Dot(chart.Dot{X: 0.6, Y: 0.1})
	c.Dot(chart.Dot{X: 0.9, Y: 0.1, Failed: true})
	c.Level(0, 0.5, 0.5, '━')
	c.Level(0, 1, math.NaN(), '╌')
	plain := lipgloss.NewStyle()
	if got := strings.Join(c.Lines(plain, plain, plain), "\n"); got != "   ×\n━━  \n▓░· " {
		t.Errorf("the cloud is\n%s", got)
	}
	if lines := parts.NewCloud(0, -1).Lines(plain, plain, plain); len(lines) != 0 {
		t.Errorf("a cloud without room has %d lines", len(lines))
	}
}
