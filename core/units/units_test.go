package units_test

import (
	"math"
	"strings"
	"testing"
	"time"

	"paceduel/core/units"
)

func TestSeconds(t *testing.T) {
	tests := map[float64]string{
		0: "0 s", 412e-9: "412 ns", 1e-6: "1.00 µs", 999.6e-9: "1.00 µs", 3.65e-3: "3.65 ms", 0.9996: "1.00 s",
		12.44: "12.4 s",
		99.94: "99.9 s", 125: "2 min 5 s", 3725: "1 h 2 min", -0.002: "-2.00 ms", math.NaN(): "–", math.Inf(1): "–",
		0.0156: "15.6 ms",
	}
	for in, want := range tests {
		if got := units.Seconds(in); got != want {
			t.Errorf("Seconds(%g) = %q; want %q", in, got, want)
		}
	}
}

func TestAmounts(t *testing.T) {
	tests := []struct{ got, want string }{
		{units.Bytes(0), "0 B"}, {units.Bytes(999), "999 B"}, {
			units.Bytes(1000), "0.977 KiB",
		}, {units.Bytes(8443), "8.25 KiB"}, {units.Bytes(3 << 30), "3.00 GiB"}, {units.Bytes(math.NaN()), "–"},
		{
			units.Rate(2410), "2 410/s",
		}, {units.Rate(13.04), "13.0/s"}, {units.Rate(999.9), "1 000/s"}, {units.Rate(999900), "1 000 000/s"},
		{units.Rate(1234567), "1.23 M/s"}, {units.Rate(371e6), "371 M/s"}, {units.Rate(-4e9), "-4.00 G/s"},
		{units.Nanosecond.Write(1.3017), "1.30 ns"}, {units.Nanosecond.Write(0.25), "0.25 ns"},
		{units.Nanosecond.Write(1500), "1.50 µs"}, {units.Nanosecond.Write(math.NaN()), "–"},
		{units.Nanosecond.Bare(400), "400 ns"},
		{units.Count(0), "0"}, {units.Count(999), "999"}, {units.Count(1000), "1 000"}, {units.Count(-1234567), "-1 234 567"},
		{
			units.Share(0.0312), "3.12 %",
		}, {units.Share(0), "0 %"}, {units.Share(0.00001), "under 0.01 %"}, {units.Share(1), "100 %"},
		{units.Times(1), "1x"}, {units.Times(1.024), "1.02x"}, {
			units.Times(1.3), "1.30x",
		}, {units.Times(3.44), "3.4x"}, {units.Times(9.96), "10x"}, {units.Times(38.2), "38x"}, {units.Times(4321), "4 320x"},
		{units.Left(-1), "time left unknown"}, {
			units.Left(40*time.Second + 1), "41 s left",
		}, {units.Left(150 * time.Second), "3 min left"}, {units.Left(3 * time.Hour), "3 h left"},
		{units.Plural(1, "round"), "1 round"}, {units.Plural(1200, "shot"), "1 200 shots"},
		{units.Trim("20.0 ms"), "20 ms"}, {
			units.Trim("1.50 s"), "1.5 s",
		}, {units.Trim("100/s"), "100/s"}, {units.Trim("0.50/s"), "0.5/s"}, {units.Trim("–"), "–"},
		{units.Significant(0.00123), "0.00123"}, {units.Significant(0), "0"},
	}
	for _, tt := range tests {
		if tt.got != tt.want {
			t.Errorf("got %q; want %q", tt.got, tt.want)
		}
	}
}

func TestAboutIsNoMoreExactThanItCanBe(t *testing.T) {
	for took, want := range map[time.Duration]string{
		7 * time.Millisecond: "under a second", 5970 * time.Millisecond: "about 6 s", 113 * time.Second: "about 1 min 53 s",
	} {
		if got := units.About(took); got != want {
			t.Errorf("%s: %q; want %q", took, got, want)
		}
	}
}

func TestNumbersStayWithTheirUnits(t *testing.T) {
	for text, want := range map[string]string{
		"waits 12.7 s, at most": "waits|12.7 s,|at|most", "1 234 567 shots": "1 234 567|shots",
		"(14.8 to 15.2 %)": "(14.8|to|15.2 %)",
		"3 1000 x":         "3|1000|x", "2 round s": "2|round|s", "": "", "12 345.6 kB": "12 345.6 kB", "5 123.4": "5 123.4",
	} {
		if got := strings.Join(units.Kept(strings.Split(text, " ")), "|"); got != want {
			t.Errorf("%q: %s; want %s", text, got, want)
		}
	}
}
